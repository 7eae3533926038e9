"""Commands that print again what they printed before, where nothing has changed that they read."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any, TextIO

from drovik import workflow
from drovik.cli.arguments import project_folder
from drovik.errors import DONE, DrovikError

if TYPE_CHECKING:
    from drovik.project.picture_files import KnownStates

_OF_THE_TERMINAL = ("NO_COLOR", "FORCE_COLOR", "TERM", "COLORTERM", "COLUMNS", "LINES", "LANG", "LC_ALL", "TZ")
_MOST_CHARACTERS = 2_000_000


@dataclass
class Printed:
    """What a command says of its output: whether it stays the same while neither files nor store change.

    `states` is what the files looked like when it began. `next_time` prints what it will print if it is run again
    and nothing changes until then, where that is something else; what it prints is kept and not shown.
    """

    stays: bool = True
    states: KnownStates = field(default_factory=dict)
    next_time: Callable[[], int] | None = None


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
    code, text = _printed_by(partial(run, arguments, printed))
    if text is not None and printed.stays:
        keeper.keep(text)
    if printed.next_time is not None:
        keeper.look_again()
        # The work is done, and said: whatever is wrong now, the next time says it.
        with contextlib.suppress(DrovikError, KeyboardInterrupt):
            text = _printed_by(printed.next_time, is_shown=False)[1]
            if text is not None:
                keeper.keep(text)
    return code


def _printed_by(work: Callable[[], int], is_shown: bool = True) -> tuple[int, str | None]:
    """The exit code of some work and what it printed: None where that is not to be printed again."""
    with _Copied("stdout", is_shown) as results, _Copied("stderr", is_shown) as asides:
        code = work()
    is_fit = code == DONE and not asides.size and results.size < _MOST_CHARACTERS
    return code, "".join(results.parts) if is_fit else None


def _depends_on(arguments: argparse.Namespace) -> dict[str, Any]:
    words = {name: value for name, value in vars(arguments).items() if name not in ("run", "project")}
    terminal = [os.environ.get(name) for name in _OF_THE_TERMINAL]
    size = list(os.get_terminal_size(sys.stdout.fileno())) if sys.stdout.isatty() else None
    return {"words": words, "terminal": [size, sys.stdout.encoding, *terminal]}


class _Copied:
    """Keeps what is written to a standard stream, besides writing it there, or in place of that."""

    def __init__(self, name: str, is_shown: bool) -> None:
        self._name, self._is_shown = name, is_shown
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
        return self._stream.write(text) if self._is_shown else len(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)
