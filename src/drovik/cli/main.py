"""The program `drovik`: finds the command, runs it, and is the one place where errors are printed.

A command's module is imported only when that command is run, so that `drovik --version` stays quick.
"""

from __future__ import annotations

import argparse
import atexit
import contextlib
import gc
import importlib
import os
import sys
from collections.abc import Sequence
from typing import NoReturn

from drovik.cli.signs_of_life import SignsOfLife
from drovik.errors import DONE, INTERRUPTED, WRONG_INPUT, DrovikError
from drovik.text import without_controls
from drovik.version import __version__

COMMANDS = {
    "demo": ("drovik.cli.demo", "copy the demo project, run the whole job on it, show the results"),
    "endpoint": (
        "drovik.cli.endpoint.endpoint_command",
        "learn a service from its own sample, try it, list its models",
    ),
    "ask": ("drovik.cli.ask.ask_command", "one question about one or more pictures, no project needed"),
    "talk": ("drovik.cli.ask.talk", "a conversation about pictures"),
    "new": ("drovik.cli.new", "a project out of a folder of pictures or a table"),
    "schema": ("drovik.cli.schema", "infer a schema from examples, explain or rewrite one, those of Drovik's files"),
    "check": ("drovik.cli.check", "say what is wrong with a project before money is spent"),
    "prompts": ("drovik.cli.prompts", "the prompt versions, and what changed from one to another"),
    "bring": ("drovik.cli.bring", "take in outside answers as an arm: a person's, another system's"),
    "split": ("drovik.cli.split", "mark cases that are held out from tuning"),
    "pictures": (
        "drovik.cli.pictures.pictures_command",
        "what a prep makes of the pictures, and what looks wrong with them",
    ),
    "quote": ("drovik.cli.quote", "what sending would cost: requests, tokens, money, time"),
    "send": ("drovik.cli.send", "send what has no answer yet"),
    "score": ("drovik.cli.score", "the scores of each arm"),
    "compare": ("drovik.cli.compare", "the verdict between two arms, or the ranking of all"),
    "show": ("drovik.cli.show", "one case: pictures, prompt, answers, differences, causes"),
    "review": ("drovik.cli.review.review_command", "people judge answers, or fill in expected outputs"),
    "report": ("drovik.cli.report", "the whole comparison as one HTML page"),
    "export": ("drovik.cli.export", "answers, scores, attempts and money as tables; the project as one file"),
    "import": ("drovik.cli.import_cases", "take in cases of a bundle, another project or a table"),
    "doctor": ("drovik.cli.doctor", "what is installed, where things are, what is missing"),
    "completion": ("drovik.cli.completion", "what a shell completes; the manual page"),
    "store": ("drovik.cli.store", "check and repair what was sent and came back"),
    "stand-in": ("drovik.cli.stand_in", "run the simulated service"),
}
"""Each command's module and what it does; the module has EXAMPLE, add_arguments and run."""


class _Parser(argparse.ArgumentParser):
    """Errors in one line, with the command to ask for help."""

    def error(self, message: str) -> NoReturn:
        if message.startswith("unrecognized arguments"):
            from drovik.project.former_names import remedy_for

            words = message.partition(": ")[2].split()
            message += "".join(f"; {word}: {new}" for word in words if (new := remedy_for(word.partition("=")[0])))
        self.exit(WRONG_INPUT, f"{self.prog}: {message}; see: {self.prog} --help\n")


def whole_parser() -> argparse.ArgumentParser:
    """The parser with the options of every command."""
    return _parser((), every=True)


def _parser(argv: Sequence[str], every: bool = False) -> argparse.ArgumentParser:
    parser = _Parser(
        prog="drovik",
        description="Sends pictures with prompts to multimodal models; checks, scores and compares the answers.",
        epilog="Start with: drovik demo",
    )
    parser.add_argument("--version", action="version", version=f"drovik {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", title="commands, in the order of the work")
    chosen = next((word for word in argv if not word.startswith("-")), None)
    for name, (module, text) in COMMANDS.items():
        if name == chosen or every:
            command = importlib.import_module(module)
            epilog = f"example:\n  {command.EXAMPLE}"
            kind = argparse.RawDescriptionHelpFormatter
            one = commands.add_parser(name, help=text, description=text, epilog=epilog, formatter_class=kind)
            command.add_arguments(one)
            one.set_defaults(run=command.run)
        else:
            commands.add_parser(name, help=text)
    return parser


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command line; the return value is the exit code of the design."""
    words = list(sys.argv[1:] if argv is None else argv)
    # A hundred thousand cases are many objects and no cycles: looking for those as often as is usual takes a third.
    gc.set_threshold(200_000, 50, 100)
    if argv is None:
        # The program ends with this: to look through all that it holds for cycles first takes a fifth of a question.
        atexit.register(gc.freeze)
    # Nobody's additions to the package that reads records take part here, nor the search for them.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    _open_what_is_closed()
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):  # a terminal that lacks a character shows another, and nothing ends
            stream.reconfigure(errors="replace")
    try:
        code = _run(words)
        sys.stdout.flush()
        return code
    except DrovikError as error:
        for problem in error.problems:
            print(_safe(problem.line() if problem.file else f"drovik: {problem.line()}"), file=sys.stderr)
        return error.exit_code
    except KeyboardInterrupt:
        print("drovik: interrupted; what came back is kept", file=sys.stderr)
        return INTERRUPTED
    except BrokenPipeError:
        # Whoever read the output has seen enough; nothing must complain at exit either.
        _nothing_more_to_print()
        return DONE
    except Exception as error:
        return _last_resort(error)


def _open_what_is_closed() -> None:
    """Standard streams that were closed by whoever started this: what is printed there goes nowhere."""
    if sys.stdout is None:
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115


def _run(words: Sequence[str]) -> int:
    if words in (["--version"], ["-V"]):
        print(f"drovik {__version__}")
        return DONE
    parser = _parser(words)
    arguments, rest = parser.parse_known_args(words)
    if rest and (any(word.startswith("-") and word != "-" for word in rest) or not hasattr(arguments, "words")):
        parser.error(f"unrecognized arguments: {' '.join(rest)}")
    if rest:
        arguments.words += rest  # words that are behind options, which argparse does not put together
    if arguments.command is None:
        parser.print_help()
        return DONE
    with SignsOfLife():
        code: int = arguments.run(arguments)
    return code


def _nothing_more_to_print() -> None:
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _last_resort(error: Exception) -> int:
    """One line for what nobody thought of: an error of the store, of the system, or of Drovik itself."""
    if "DROVIK_TRACEBACK" in os.environ:
        raise error
    _nothing_more_to_print()
    what = f"drovik: {_why(error)}"
    with contextlib.suppress(OSError, ValueError):
        print(_safe(what), file=sys.stderr, flush=True)
    return WRONG_INPUT


def _why(error: Exception) -> str:
    import errno
    import sqlite3

    if isinstance(error, sqlite3.Error):
        from drovik.store.database import store_error

        return store_error(error).problems[0].line()
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        where = f" ({error.filename})" if error.filename else ""
        return f"the disk is full{where}; make room, and run it again"
    if isinstance(error, OSError) and error.strerror:
        where = f"{error.filename}: " if error.filename else ""
        return f"{where}{error.strerror}; check the path and its permissions"
    kind = type(error).__name__
    return f"this should not have happened: {kind}: {str(error)[:300]}; with DROVIK_TRACEBACK=1 it says where"


def _safe(text: str) -> str:
    """Without control characters: a file's or a service's words may be in an error."""
    return without_controls(text)
