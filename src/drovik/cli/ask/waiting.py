"""A sign of life while an answer is waited for: which model, how long already, how many of how many, tokens, money.

Only on a terminal: a log and a pipe get nothing. What is shown is one line of standard error, written over itself.
"""

from __future__ import annotations

import sys
import threading
import time
from types import TracebackType
from typing import TYPE_CHECKING

from drovik.cli.printing import strip_controls
from drovik.money import money_text
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.planning.requests import Request
    from drovik.transport.queue import Tally

_EVERY = 0.2
"""Seconds between two lines: it moves, and costs no CPU worth saying."""
_AFTER = 0.4
"""Seconds before the first: what answers at once needs no sign of life."""


class Waiting:
    """Shows what is waited for, on a terminal. It is quiet while an answer's text is written."""

    def __init__(self) -> None:
        self.tally: Tally | None = None
        self._open: dict[str, float] = {}
        self._lock = threading.Lock()
        self._done = threading.Event()
        self._thread: threading.Thread | None = None
        self._quiet = False
        self._drawn = False
        self._started = time.monotonic()

    def __enter__(self) -> Waiting:
        if sys.stderr.isatty():
            self._thread = threading.Thread(target=self._follow, daemon=True)
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._done.set()
        if self._thread:
            self._thread.join()
        self.clear()

    def begins(self, request: Request) -> None:
        """A request is about to leave."""
        self._open[request.arm.model_name] = time.monotonic()
        self._quiet = False

    def ended(self, request: Request) -> None:
        """A request came to an end."""
        self._open.pop(request.arm.model_name, None)

    def clear(self, quiet: bool = False) -> None:
        """Take the line away, for something else is written; with `quiet` it stays away until the next request."""
        with self._lock:
            self._quiet = quiet
            if self._drawn:
                sys.stderr.write("\r\x1b[K")
                sys.stderr.flush()
            self._drawn = False

    def _follow(self) -> None:
        while not self._done.wait(_EVERY):
            with self._lock:
                line = self.line()
                if line and not self._quiet and time.monotonic() - self._started > _AFTER:
                    sys.stderr.write(f"\r\x1b[K{line}")
                    sys.stderr.flush()
                    self._drawn = True

    def line(self) -> str:
        """What is waited for, in one line; empty where nothing is."""
        now, tally = time.monotonic(), self.tally
        parts = [f"{model}: {now - since:.0f} s" for model, since in list(self._open.items())[:3]]
        if tally is not None:
            if tally.total > 1:
                parts.append(f"{tally.answered + tally.failed} of {tally.total}")
            if tally.input_tokens or tally.output_tokens:
                parts.append(f"{counted(tally.input_tokens, 'token')} in, {tally.output_tokens} out")
            if tally.money:
                parts.append(money_text(tally.money, 6))
            if tally.state:
                parts.append(tally.state)
        return strip_controls("   ".join(parts))[: _columns() - 1]


def _columns() -> int:
    import shutil

    return shutil.get_terminal_size().columns
