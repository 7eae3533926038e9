"""Commands that print again what they printed before, where nothing has changed that they read."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable
from typing import Any, TextIO

from drovik import workflow
from drovik.cli.arguments import project_folder
from drovik.errors import DONE

_OF_THE_TERMINAL = ("NO_COLOR", "FORCE_COLOR", "TERM", "COLORTERM", "COLUMNS", "LINES", "LANG", "LC_ALL", "TZ")
Run = Callable[[argparse.Namespace], int]


def printed_again(run: Run) -> Run:
    """A command that only reads, and prints the same of the same.

    It is run where it may run the project's code, counts a look at held-out cases, or works elsewhere.
    """

    def run_or_print(arguments: argparse.Namespace) -> int:
        if arguments.trust or arguments.cluster or arguments.split != "tune":
            return run(arguments)
        keeper = workflow.OutputKeeper(project_folder(arguments.project), _depends_on(arguments))
        known = keeper.known()
        if known is not None:
            sys.stdout.write(known)
            return DONE
        with _Copied("stdout") as results, _Copied("stderr") as asides:
            code = run(arguments)
        if code == DONE and not asides.parts:
            keeper.keep("".join(results.parts))
        return code

    return run_or_print


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

    def __enter__(self) -> _Copied:
        setattr(sys, self._name, self)
        return self

    def __exit__(self, *_: object) -> None:
        setattr(sys, self._name, self._stream)

    def write(self, text: str) -> int:
        """Write a text, and keep it."""
        self.parts.append(text)
        return self._stream.write(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)
