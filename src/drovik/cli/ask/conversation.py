"""A conversation with one or more models: what was said, and how the next question is put."""

from __future__ import annotations

import asyncio
import json
import sys
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import require_sendable
from drovik.cli.ask.shown import AnswerPrinter, endpoints_of, pictures_of, usage_line
from drovik.cli.ask.waiting import Waiting
from drovik.cli.outputs import require_own
from drovik.cli.printing import heading, say, say_aside, strip_controls
from drovik.cli.sending import until_stopped
from drovik.errors import DrovikError, Problem, UsageError
from drovik.money import add_money, money_text
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.project.settings import ProjectFile
    from drovik.transport.dispatcher import Dispatcher
    from drovik.transport.queue import Tally
    from drovik.workflow.asking import AdhocAnswer, AskResult
    from drovik.workflow.services import Services


@dataclass
class Said:
    """One turn: the pictures that came with it, the question, the answer."""

    pictures: list[workflow.NamedPicture]
    question: str
    answer: AdhocAnswer


@dataclass
class Voice:
    """A conversation with one model. `waiting` are pictures that go with the next question."""

    model: str
    settings: ProjectFile
    store: workflow.Store
    turns: list[Said] = field(default_factory=list)
    waiting: list[workflow.NamedPicture] = field(default_factory=list)
    made: Any = None

    def whole(self, question: str, system: str) -> tuple[workflow.AdhocQuestion, list[workflow.NamedPicture]]:
        """The conversation as one question with later turns, and all its pictures."""
        pictures: list[workflow.NamedPicture] = []
        parts: list[tuple[str, tuple[int, ...]]] = []
        for shown, text in [*((turn.pictures, turn.question) for turn in self.turns), (self.waiting, question)]:
            first = len(pictures) + 1
            pictures += shown
            parts.append((text, tuple(range(first, len(pictures) + 1))))
        return workflow.AdhocQuestion(parts[0][0], system, later=tuple(parts[1:])), pictures

    def kept(self, system: str) -> tuple[workflow.AdhocQuestion, list[workflow.NamedPicture], tuple[str, ...]]:
        """All that was asked, its pictures, and the answers but the last."""
        last = self.turns[-1]
        before = replace(self, turns=self.turns[:-1], waiting=last.pictures)
        return *before.whole(last.question, system), tuple(one.answer.answer.text for one in self.turns[:-1])


@dataclass
class Talk:
    """The same questions to one or more models, each with what it said itself."""

    services: Services
    voices: list[Voice]
    system: str
    folder: Path
    trusted: bool
    answered: bool = True
    held: bool = False
    _saved: set[Path] = field(default_factory=set)
    """Whether a picture could not be shown, so that the next question is not sent as if it had been."""

    @property
    def model(self) -> str:
        """The models, for the eye."""
        return " and ".join(one.model for one in self.voices)

    def ask(self, question: str) -> None:
        """Put the next question, with all that was said before, and show the answers."""
        if self.held:
            self.held = False
            raise UsageError(Problem("not sent, for the picture before it could not be shown",
                                     "/picture FILE, or put the question again to ask without"))  # fmt: skip
        require_sendable(
            self.services, list({one for voice in self.voices for one in endpoints_of(voice.settings)}), self.trusted
        )
        with Waiting() as waiting:
            hears = [AnswerPrinter(len(self.voices) == 1, None, waiting) for _ in self.voices]
            found = asyncio.run(self._asked(question, hears, waiting))
        answered = False
        for voice, hearer, asked in zip(self.voices, hears, found, strict=True):
            if len(self.voices) > 1:
                heading(voice.model)
            answered |= _shown(voice, hearer, asked, question)
        self.answered = answered

    async def _asked(self, question: str, hears: list[AnswerPrinter], waiting: Waiting) -> list[AskResult]:
        asking = [
            self._ask_one(voice, question, hearer, waiting) for voice, hearer in zip(self.voices, hears, strict=True)
        ]
        return list(await asyncio.gather(*asking))

    async def _ask_one(self, voice: Voice, question: str, hearer: AnswerPrinter, waiting: Waiting) -> AskResult:
        made, pictures = voice.whole(question, self.system)

        async def run(dispatcher: Dispatcher) -> Tally:
            waiting.tally = dispatcher.tally
            return await until_stopped(dispatcher)

        asked, voice.made = await workflow.ask_adhoc(
            self.services, voice.settings, made, pictures_of([("talk", pictures)]), voice.store,
            said=tuple(turn.answer.answer.text for turn in voice.turns), listener=hearer, run=run,
        )  # fmt: skip
        return asked

    def show(self, word: str) -> str:
        """Have another picture go with the next question; its name."""
        try:
            words = workflow.sort_words([word], "")
            models = [one.model for one in self.voices]
            shown = workflow.named_pictures(words, self.folder, workflow.wants_bytes(self.services, models))
        except DrovikError:
            self.held = True
            raise
        self.held = False
        for voice in self.voices:
            voice.waiting += shown
        return shown[-1].name

    def cost(self) -> str:
        """What it came to so far: money only where a price is known."""
        spent: dict[str, Decimal] = {}
        tokens_in = tokens_out = 0
        every = [turn.answer.answer for voice in self.voices for turn in voice.turns]
        for one in every:
            tokens_in += one.input_tokens or 0
            tokens_out += one.output_tokens or 0
            if one.spent:
                add_money(spent, one.spent.currency, one.spent.amount)
        tokens = f"{counted(tokens_in, 'token')} in, {tokens_out} out"
        return f"{counted(len(every), 'answer')}: {tokens}" + (f"; {money_text(spent, 6)}" if spent else "")

    def save(self, path: Path) -> None:
        """Save the conversation.

        :raises DrovikError: where the file cannot be written.
        """
        documents = [self._document(voice) for voice in self.voices]
        text = json.dumps(documents[0] if len(documents) == 1 else documents, ensure_ascii=False, indent=1)
        if path.suffix.lower() != ".json":
            text = "\n\n".join("\n".join(self._lines(document)) for document in documents)
        if path not in self._saved:
            require_own(path, "/save", force=False)
        try:
            path.write_text(text.rstrip() + "\n", encoding="utf-8", errors="replace")
        except OSError as error:
            raise UsageError(
                Problem(f"cannot be written: {error.strerror}", "give another name", str(path))
            ) from None

        self._saved.add(path)

    def _document(self, voice: Voice) -> dict[str, Any]:
        rows = [
            {"pictures": [one.inside or one.name for one in turn.pictures], "question": turn.question,
             "answer": turn.answer.answer.text}
            for turn in voice.turns
        ]  # fmt: skip
        return {"model": voice.model, "system": self.system, "turns": rows}

    @staticmethod
    def _lines(document: Mapping[str, Any]) -> list[str]:
        system = document["system"]
        lines = [f"# {document['model']}", *([f"System: {system}"] if system else [])]
        for row in document["turns"]:
            lines += [*(f"[{name}]" for name in row["pictures"]), f"> {row['question']}", row["answer"], ""]
        return lines

    def keep(self, where: str) -> list[str]:
        """Keep the conversation with each model as a task of a project; what was kept, in words."""
        said = []
        for voice in self.voices:
            if voice.turns and voice.turns[0].pictures:
                question, pictures, answers = voice.kept(self.system)
                cases = [("talk", pictures)]
                kept = workflow.save_project(
                    where, self.services, voice.made, question, cases, voice.store, said=answers
                )  # fmt: skip
                said.append(
                    f"Kept in {kept.folder}: {', '.join(kept.written)}; {counted(kept.answers, 'answer')} came along."
                )
        return said or ["Nothing was kept: a task needs a picture in its first question."]


def _shown(voice: Voice, hears: AnswerPrinter, asked: AskResult, question: str) -> bool:
    """Show what came of a question; whether it was answered."""
    for problem in asked.troubles:
        print(strip_controls(problem.line()), file=sys.stderr)
    if not asked.answers:
        return False
    one = asked.answers[0]
    print(flush=True) if hears.shown else say(one.answer.text.strip() or "(the answer is empty)")
    say_aside(f"  {usage_line(one.answer)}")
    voice.turns.append(Said(voice.waiting, question, one))
    voice.waiting = []
    return True
