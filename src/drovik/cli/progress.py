"""Progress of long work: a count, rate, time left, money and failures; plain lines without a terminal."""

from __future__ import annotations

import sys
import threading
import time
from types import TracebackType
from typing import TYPE_CHECKING, Any

from drovik.cli.printing import money

if TYPE_CHECKING:
    from drovik.sending.tally import Tally

_PLAIN_SECONDS = 5.0
_DRAWN_SECONDS = 0.2


class Progress:
    """Shows a tally while it grows. Everything goes to standard error; `quiet` shows nothing."""

    def __init__(self, tally: Tally, quiet: bool) -> None:
        self._tally, self._quiet = tally, quiet
        self._started = time.monotonic()
        self._done = threading.Event()
        self._thread: threading.Thread | None = None
        self._live: Any = None

    def __enter__(self) -> Progress:
        if not self._quiet:
            if sys.stderr.isatty():
                self._draw()
            self._thread = threading.Thread(target=self._follow, daemon=True)
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._done.set()
        if self._thread:
            self._thread.join()
        if self._live:
            self._live.update(self.line())
            self._live.stop()

    def note(self, text: str) -> None:
        """Say something beside the progress."""
        print(text, file=sys.stderr)

    def _draw(self) -> None:
        from rich.console import Console
        from rich.live import Live

        console = Console(stderr=True, markup=False, highlight=False)
        self._live = Live(self.line(), console=console, refresh_per_second=8, transient=False)
        self._live.start()

    def _follow(self) -> None:
        while not self._done.wait(_DRAWN_SECONDS if self._live else _PLAIN_SECONDS):
            if self._live:
                self._live.update(self.line())
            else:
                print(self.line(), file=sys.stderr, flush=True)

    def line(self) -> str:
        """The state of the work in one line."""
        tally = self._tally
        done = tally.answered + tally.failed
        passed = max(time.monotonic() - self._started, 1e-6)
        rate = done / passed
        left = f"{(tally.total - done) / rate:.0f} s left" if rate > 0 else "time left unknown"
        failed = f"{tally.failed} failed" + (f", {tally.tried_again} tried again" if tally.tried_again else "")
        quiet = tally.quiet_until - time.monotonic()
        failed += f"   waits {quiet:.0f} s, as a service asked" if quiet >= 1 else ""
        return f"{done} of {tally.total}   {rate:.1f} a second   {left}   {money(tally.money)}   {failed}"
