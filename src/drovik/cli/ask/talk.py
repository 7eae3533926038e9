"""`drovik talk`: a conversation about pictures; what was said is kept and sent again with each question."""

from __future__ import annotations

import argparse
import asyncio
import json
import sys
import tempfile
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import all_services, on_terminal, require_sendable
from drovik.cli.ask.ask_command import add_question_arguments, overrides_of
from drovik.cli.ask.shown import AnswerPrinter, endpoints_of, pictures_of, usage_line
from drovik.cli.printing import say, say_aside, strip_controls
from drovik.cli.sending import until_stopped
from drovik.errors import DONE, NO_SERVICE, DrovikError, Problem, UsageError
from drovik.money import add_money, money_text
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.project.settings import ProjectFile
    from drovik.workflow.asking import AdhocAnswer
    from drovik.workflow.services import Services


EXAMPLE = "drovik talk tray.jpg\n  drovik talk tray.jpg --model fulmar --system 'You are a clerk.'"
HELP = (
    "/picture FILE   show another picture with the next question\n"
    "/save FILE      save the conversation: .json, or else text\n"
    "/cost           what it came to so far\n"
    "/help           these words;  exit or Ctrl-D leaves"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_question_arguments(parser)


@dataclass
class _Said:
    """One turn: the pictures that came with it, the question, the answer."""

    pictures: list[workflow.NamedPicture]
    question: str
    answer: AdhocAnswer


@dataclass
class _Talk:
    """A conversation. `waiting` are pictures that go with the next question."""

    services: Services
    settings: ProjectFile
    model: str
    system: str
    folder: Path
    trusted: bool
    turns: list[_Said] = field(default_factory=list)
    waiting: list[workflow.NamedPicture] = field(default_factory=list)
    answered: bool = True

    def ask(self, question: str, store: workflow.Store) -> None:
        """Put the next question, with all that was said before, and show the answer."""
        made, pictures = self._whole(question)
        hears = AnswerPrinter(stream=True)
        said = tuple(turn.answer.answer.text for turn in self.turns)
        cases = [("talk", pictures)]
        require_sendable(self.services, endpoints_of(self.settings), self.trusted)
        asking = workflow.ask_adhoc(
            self.services, self.settings, made, pictures_of(cases), store,
            said=said, listener=hears, run=until_stopped,
        )  # fmt: skip
        asked, _ = asyncio.run(asking)
        for problem in asked.troubles:
            print(strip_controls(problem.line()), file=sys.stderr)
        self.answered = bool(asked.answers)
        if asked.answers:
            one = asked.answers[0]
            print(flush=True) if hears.shown else say(one.answer.text.strip() or "(the answer is empty)")
            say_aside(f"  {usage_line(one.answer)}")
            self.turns.append(_Said(self.waiting, question, one))
            self.waiting = []

    def _whole(self, question: str) -> tuple[workflow.AdhocQuestion, list[workflow.NamedPicture]]:
        """The conversation as one question with later turns, and all its pictures."""

        pictures: list[workflow.NamedPicture] = []
        parts: list[tuple[str, tuple[int, ...]]] = []
        for shown, text in [*((turn.pictures, turn.question) for turn in self.turns), (self.waiting, question)]:
            first = len(pictures) + 1
            pictures += shown
            parts.append((text, tuple(range(first, len(pictures) + 1))))
        return workflow.AdhocQuestion(parts[0][0], self.system, later=tuple(parts[1:])), pictures

    def show(self, word: str) -> None:
        """Have another picture go with the next question."""
        words = workflow.sort_words([word], "")
        self.waiting += workflow.named_pictures(words, self.folder, workflow.wants_bytes(self.services, [self.model]))

    def cost(self) -> str:
        """What it came to so far."""
        spent: dict[str, Decimal] = {}
        tokens_in = tokens_out = 0
        for turn in self.turns:
            one = turn.answer.answer
            tokens_in += one.input_tokens or 0
            tokens_out += one.output_tokens or 0
            if one.spent:
                add_money(spent, one.spent.currency, one.spent.amount)
        tokens = f"{counted(tokens_in, 'token')} in, {tokens_out} out"
        return f"{counted(len(self.turns), 'answer')}: {tokens}; {money_text(spent, 6)}"

    def save(self, path: Path) -> None:
        """Save the conversation.

        :raises DrovikError: where the file cannot be written.
        """
        rows: list[dict[str, Any]] = [
            {"pictures": [one.name for one in turn.pictures], "question": turn.question,
             "answer": turn.answer.answer.text}
            for turn in self.turns
        ]  # fmt: skip
        document = {"model": self.model, "system": self.system, "turns": rows}
        text = json.dumps(document, ensure_ascii=False, indent=1)
        if path.suffix.lower() != ".json":
            lines = [f"# {self.model}", *([f"System: {self.system}"] if self.system else [])]
            for row in rows:
                lines += [*(f"[{name}]" for name in row["pictures"]), f"> {row['question']}", row["answer"], ""]
            text = "\n".join(lines)
        try:
            path.write_text(text.rstrip() + "\n", encoding="utf-8", errors="replace")
        except OSError as error:
            raise UsageError(
                Problem(f"cannot be written: {error.strerror}", "give another name", str(path))
            ) from None


def run(arguments: argparse.Namespace) -> int:
    """Talk until `exit` or the end of input; 3 where the last question got no answer."""

    services, by_id = workflow.with_id(all_services(arguments.project), arguments.endpoint, arguments.id)
    models = workflow.chosen_models(services, [*(arguments.model or ()), *by_id])
    if len(models) > 1:
        raise UsageError(Problem("a conversation is with one model", "give --model once"))
    settings = workflow.settings_for(
        services, models, workflow.prep_of(services, arguments.prep), overrides_of(arguments)
    )
    workflow.require_slots(services, settings)
    _require_history(services, models[0])
    words = workflow.sort_words(arguments.words, None)
    _require_free_stdin(words)
    with tempfile.TemporaryDirectory(prefix="drovik-") as folder:
        talk = _Talk(
            services=services,
            settings=settings,
            model=models[0],
            system=arguments.system,
            folder=Path(folder),
            trusted=arguments.trust,
        )
        talk.waiting = workflow.named_pictures(words, Path(folder), workflow.wants_bytes(services, models))
        with workflow.Store(Path(folder) / "store" / "asked.sqlite") as store:
            if words.question:
                talk.ask(words.question, store)
            _converse(talk, store)
    return DONE if talk.answered else NO_SERVICE


def _require_history(services: Services, model: str) -> None:

    endpoint = services.settings.endpoints[services.model(model).endpoint]
    if not workflow.RequestWriter(endpoint, services.dialects[endpoint.dialect], None).keeps_history():
        what = "the dialect has a place for one question, so nothing that was said before could be sent"
        remedy = "write {turns.text} in place of {last.text}"
        raise UsageError(Problem(what, remedy, f"dialects/{endpoint.dialect}.toml"))


def _require_free_stdin(words: workflow.CommandWords) -> None:
    if "-" in words.pictures:
        raise UsageError(Problem("what you say comes by standard input, so a picture cannot", "name its file"))


def _converse(talk: _Talk, store: workflow.Store) -> None:
    if on_terminal():
        say(f"Talking with {talk.model} about {len(talk.waiting) or 'no'} pictures. /help for commands, exit leaves.")
    while True:
        try:
            line = input("> " if on_terminal() else "").strip()
        except EOFError:
            return
        if line.lower() in ("exit", "/exit", "quit", "/quit"):
            return
        if line:
            try:
                _one_line(talk, store, line)
            except DrovikError as error:
                for problem in error.problems:
                    print(strip_controls(problem.line()), file=sys.stderr)


def _one_line(talk: _Talk, store: workflow.Store, line: str) -> None:
    command, _, rest = line.partition(" ")
    if not line.startswith("/"):
        talk.ask(line, store)
    elif command == "/picture" and rest:
        talk.show(rest.strip())
        say(f"{talk.waiting[-1].name} goes with the next question.")
    elif command == "/save" and rest:
        talk.save(Path(rest.strip()))
        say(f"Saved in {rest.strip()}.")
    elif command == "/cost":
        say(talk.cost())
    else:
        say(HELP)
