"""Commands that print again what they printed before, where nothing has changed that they read."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any, TextIO

from drovik import workflow
from drovik.cli.arguments import project_folder
from drovik.errors import DONE

if TYPE_CHECKING:
    from drovik.project.picture_files import KnownStates

_OF_THE_TERMINAL = ("NO_COLOR", "FORCE_COLOR", "TERM", "COLORTERM", "COLUMNS", "LINES", "LANG", "LC_ALL", "TZ")
_MOST_CHARACTERS = 2_000_000


@dataclass
class Printed:
    """What a command says of its output: whether it stays the same while neither files nor store change.

    `states` is what the files looked like when it began.
    """

    stays: bool = True
    states: KnownStates = field(default_factory=dict)


Run = Callable[[argparse.Namespace, Printed], int]


Command = Callable[[argparse.Namespace], int]


def printed_again(where: Callable[[argparse.Namespace], bool]) -> Callable[[Run], Command]:
    """A command that prints the same of the same, and then does nothing else.

    What it printed while it changed what scores are made of is not kept: the store has another revision then.

    :param where: whether that is so of a command line; else it is always run.
    """

    def of(run: Run) -> Command:
        return partial(_run_or_print, run, where)

    return of


def _run_or_print(run: Run, where: Callable[[argparse.Namespace], bool], arguments: argparse.Namespace) -> int:
    printed = Printed()
    if not where(arguments):
        return run(arguments, printed)
    keeper = workflow.OutputKeeper(project_folder(arguments.project), _depends_on(arguments))
    known = keeper.known()
    if known is not None:
        sys.stdout.write(known)
        return DONE
    printed.states = keeper.states
    with _Copied("stdout") as results, _Copied("stderr") as asides:
        code = run(arguments, printed)
    if code == DONE and printed.stays and not asides.size and results.size < _MOST_CHARACTERS:
        keeper.keep("".join(results.parts))
    return code


def _depends_on(arguments: argparse.Namespace) -> dict[str, Any]:
    words = {name: value for name, value in vars(arguments).items() if name not in ("run", "project")}
    terminal = [os.environ.get(name) for name in _OF_THE_TERMINAL]
    size = list(os.get_terminal_size(sys.stdout.fileno())) if sys.stdout.isatty() else None
    return {"words": words, "terminal": [size, sys.stdout.encoding, *terminal]}


class _Copied:
    """Keeps what is written to a standard stream, besides writing it there."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._stream: TextIO = getattr(sys, name)
        self.parts: list[str] = []
        self.size = 0

    def __enter__(self) -> _Copied:
        setattr(sys, self._name, self)
        return self

    def __exit__(self, *_: object) -> None:
        setattr(sys, self._name, self._stream)

    def write(self, text: str) -> int:
        """Write a text, and keep it while there is not too much."""
        self.size += len(text)
        if self.size < _MOST_CHARACTERS:
            self.parts.append(text)
        return self._stream.write(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)
