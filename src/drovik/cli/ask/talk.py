"""`drovik talk`: a conversation about pictures; what was said is kept and sent again with each question."""

from __future__ import annotations

import argparse
import re
import shlex
import sys
import tempfile
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import all_services, on_terminal
from drovik.cli.ask.ask_command import add_question_arguments, overrides_of
from drovik.cli.ask.conversation import Talk, Voice
from drovik.cli.ask.shown import endpoints_of
from drovik.cli.printing import say, say_aside, strip_controls
from drovik.errors import DONE, NO_SERVICE, DrovikError, Problem, UsageError

if TYPE_CHECKING:
    from drovik.workflow.services import Services


EXAMPLE = (
    "drovik talk tray.jpg\n  drovik talk tray.jpg --model fulmar --model gull --system 'You are a clerk.'\n"
    "  drovik talk tray.jpg --keep desk/talk"
)
HELP = (
    "/picture FILE   show another picture with the next question; a file dragged in does too\n"
    "/save FILE      save the conversation: .json, or else text\n"
    "/cost           what it came to so far\n"
    "/help           these words;  exit, quit, bye or Ctrl-D leaves"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_question_arguments(parser)
    parser.add_argument("--keep", metavar="PROJECT/TASK", help="keep the conversation as a task when it ends")


def run(arguments: argparse.Namespace) -> int:
    """Talk until `exit` or the end of input; 3 where the last question got no answer."""
    services, by_id = workflow.with_id(all_services(arguments.project), arguments.endpoint, arguments.id)
    models = workflow.chosen_models(services, [*(arguments.model or ()), *by_id])
    prep = workflow.prep_of(services, arguments.prep)
    settings = {one: workflow.settings_for(services, [one], prep, overrides_of(arguments)) for one in models}
    for name, one in settings.items():
        workflow.require_slots(services, one)
        _require_history(services, name)
    if arguments.keep:
        workflow.require_storable(arguments.keep, workflow.AdhocQuestion())
    words = workflow.sort_words(arguments.words, None)
    _require_free_stdin(words)
    with ExitStack() as around:
        folder = Path(around.enter_context(tempfile.TemporaryDirectory(prefix="drovik-")))
        stores = [folder / f"store-{number}" / "asked.sqlite" for number, _ in enumerate(models)]
        voices = [
            Voice(name, settings[name], around.enter_context(workflow.Store(path)))
            for name, path in zip(models, stores, strict=True)
        ]
        for name in dict.fromkeys(place for voice in voices for place in endpoints_of(voice.settings)):
            endpoint = services.settings.endpoints[name]
            if endpoint.start is not None:  # so that it is not started and stopped for each question
                around.enter_context(workflow.ServicePlace(endpoint, name).used())
        talk = Talk(services, voices, arguments.system, folder, arguments.trust)
        for voice in voices:
            voice.waiting = workflow.named_pictures(words, folder, workflow.wants_bytes(services, models))
        if words.question:
            talk.ask(words.question)
        _converse(talk)
        for line in talk.keep(arguments.keep) if arguments.keep else ():
            say(line)
    return DONE if talk.answered else NO_SERVICE


def _require_history(services: Services, model: str) -> None:
    endpoint = services.settings.endpoints[services.model(model).endpoint]
    writer = workflow.RequestWriter(endpoint, services.dialects[endpoint.dialect], None)
    if not writer.keeps_history():
        what = "the dialect has a place for one question, so nothing that was said before could be sent"
        remedy = "write {turns.text} in place of {last.text}"
        raise UsageError(Problem(what, remedy, f"dialects/{endpoint.dialect}.toml"))
    if not writer.knows_speakers():
        how = "what was said before is written into the question, with who said it"
        say_aside(f"{model} takes one question at a time: {how}.")


def _require_free_stdin(words: workflow.CommandWords) -> None:
    if "-" in words.pictures:
        raise UsageError(Problem("what you say comes by standard input, so a picture cannot", "name its file"))


_LEAVES = ("exit", "quit", "bye", "/exit", "/quit", "/bye")


def _converse(talk: Talk) -> None:
    if on_terminal():
        shown = len(talk.voices[0].waiting)
        say(f"Talking with {talk.model} about {shown or 'no'} pictures. /help for commands, exit leaves.")
    while True:
        try:
            line = input("> " if on_terminal() else "").strip()
        except EOFError:
            return
        if line.lower().rstrip(".!") in _LEAVES:
            return
        if line:
            try:
                _one_line(talk, line)
            except DrovikError as error:
                for problem in error.problems:
                    print(strip_controls(problem.line()), file=sys.stderr)


def _one_line(talk: Talk, line: str) -> None:
    command, _, rest = line.partition(" ")
    dragged, question = _dragged(line)
    if dragged:
        for word in dragged:
            say(f"{talk.show(word)} goes with the next question.")
        if question:
            talk.ask(question)
    elif not line.startswith("/"):
        talk.ask(line)
    elif command == "/picture" and rest:
        say(f"{talk.show(_unquoted(rest.strip()))} goes with the next question.")
    elif command == "/save" and rest:
        talk.save(Path(rest.strip()))
        say(f"Saved in {rest.strip()}.")
    elif command == "/cost":
        say(talk.cost())
    else:
        say(HELP)


def _unquoted(word: str) -> str:
    """A path as it is dragged into a terminal: in quotes, or with backslashes before spaces."""
    if Path(word).exists():
        return word
    try:
        parts = shlex.split(word)
    except ValueError:
        return word
    return parts[0] if len(parts) == 1 else word


def _dragged(line: str) -> tuple[list[str], str]:
    """The pictures at the beginning of a line, as they are dragged in, and the question behind them."""
    whole = _unquoted(line)
    if _is_file(whole):
        return [whole], ""
    found = []
    while match := _WORD.match(line):
        word = _unquoted(match[1])
        if not _is_file(word):
            break
        found.append(word)
        line = line[match.end() :]
    return found, line.strip()


_WORD = re.compile(r"\s*('[^']*'|\"[^\"]*\"|(?:[^\s\\]|\\.)+)\s*")


def _is_file(word: str) -> bool:
    """Whether a word is the path of a picture or a clip that is there."""
    try:
        return Path(word).suffix.lower() in workflow.PICTURE_ENDINGS and Path(word).is_file()
    except (OSError, ValueError):
        return False
