"""Signs of life while a command works and prints nothing: on standard error, where they disturb no results.

On a terminal it is a line that is drawn over and is gone in the end; in a log a line now and then.
"""

from __future__ import annotations

import shutil
import sys
import threading
import time
from types import TracebackType

from drovik.following import Step, listening
from drovik.text import shortened, without_controls

_FIRST_SECONDS, _DRAWN_SECONDS = 1.0, 0.25
"""On a terminal: until there is a line, and between two of them."""
_LOG_SECONDS = 20.0
"""Between two lines of a log, and until the first."""


class SignsOfLife:
    """Shows what a command is at, while it lasts."""

    def __init__(self) -> None:
        self._stream = sys.stderr  # the true one: what is copied from there is of the results
        self._is_drawn_over = self._stream.isatty()
        self._step: Step | None = None
        self._since = 0.0
        self._is_there = False
        self._lock = threading.Lock()
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None
        self._listening = listening(self._at)

    def __enter__(self) -> SignsOfLife:
        self._listening.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._ended.set()
        self._at(None)
        self._listening.__exit__(kind, error, trace)

    def _at(self, step: Step | None) -> None:
        if step is not None and self._step is not None:  # as a million times over
            self._step = step
            return
        with self._lock:
            self._step = step
            if step is None:
                self._wipe()
                return
            self._since = time.monotonic()
        if self._thread is None:
            self._thread = threading.Thread(target=self._show, daemon=True)
            self._thread.start()

    def _show(self) -> None:
        first, pause = (_FIRST_SECONDS, _DRAWN_SECONDS) if self._is_drawn_over else (_LOG_SECONDS, _LOG_SECONDS)
        while not self._ended.wait(pause):
            with self._lock:
                step = self._step
                if step is not None and time.monotonic() - self._since >= first and not self._ended.is_set():
                    self._write(step)

    def _write(self, step: Step) -> None:
        if self._is_drawn_over:
            self._is_there = True
            width = shutil.get_terminal_size().columns
            self._put(f"\r\x1b[2K\x1b[2m{step_line(step, width - 1)}\x1b[0m")
        else:
            self._put(f"{step_line(step)}\n")

    def _wipe(self) -> None:
        if self._is_there:
            self._is_there = False
            self._put("\r\x1b[2K")

    def _put(self, text: str) -> None:
        try:
            self._stream.write(text)
            self._stream.flush()
        except (OSError, ValueError):  # nobody looks any more
            self._ended.set()


def step_line(step: Step, widest: int = 78) -> str:
    """A step as one line of that many characters at most, such as "scoring sort: 1200 of 4000 (30 %)"."""
    count = f": {step.done}" if step.done else ""
    if step.total:
        count = f": {step.done} of {step.total} ({100 * step.done // step.total} %)"
    return shortened(without_controls(step.what), max(widest - len(count), 1)) + count
