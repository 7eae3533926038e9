"""The circuit of one endpoint: it opens where the endpoint keeps failing, and a probe closes it.

While it is open nothing leaves; from time to time one request goes out as a probe. So a service that is away
for an hour costs a few probes, and not the tries of everything that waits.
"""

from __future__ import annotations

import time

FAILED_IN_A_ROW = 10
"""With fewer, one bad picture or a hiccup would stop everything; with more, a dead service costs minutes."""
FIRST_PAUSE, LONGEST_PAUSE, GROWTH = 1.0, 30.0, 1.5
"""Seconds before the first probe and between later ones, and by what each is longer than the last."""
PATIENCE_AT_FIRST = 10.0
"""Seconds after which the endpoint is left where nothing ever worked."""

FAILURES = ("service_error", "lost", "timeout", "unreachable", "unreadable")


class CircuitBreaker:
    """Closed at first.

    :param concurrency: how many may fail together without that being a sign.
    :param give_up_after: seconds after which an endpoint that worked is left.
    """

    def __init__(self, concurrency: int, give_up_after: float) -> None:
        self._patience = give_up_after
        self._bound = max(FAILED_IN_A_ROW, 2 * concurrency)
        self._row = 0
        self._pause = FIRST_PAUSE
        self._open_since: float | None = None
        self._until = 0.0
        self._probing = False
        self._worked = False

    @property
    def is_open(self) -> bool:
        """Whether nothing but probes should leave."""
        return self._open_since is not None

    def wait(self) -> float:
        """Seconds to wait before asking whether to go; nought where it may be asked now."""
        if not self.is_open:
            return 0.0
        return max(0.05, self._until - time.monotonic()) if not self._may_probe() else 0.0

    def _may_probe(self) -> bool:
        return not self._probing and time.monotonic() >= self._until

    def enter(self) -> bool:
        """Whether a request may leave; the one that may while the circuit is open is the probe."""
        if not self.is_open:
            return True
        if not self._may_probe():
            return False
        self._probing = True
        return True

    def leave(self) -> None:
        """What entered did not leave after all."""
        self._probing = False

    def take(self, kind: str) -> None:
        """Take in what came of a request."""
        self._probing = False
        if kind not in FAILURES:
            self._row, self._open_since, self._pause = 0, None, FIRST_PAUSE
            self._worked = self._worked or kind == "answered"
            return
        self._row += 1
        now = time.monotonic()
        if self.is_open:
            if now >= self._until:  # the probe failed; what was under way when it opened is not a probe
                self._pause = min(LONGEST_PAUSE, self._pause * GROWTH)
                self._until = now + self._pause
        elif self._row >= self._bound:
            self._open_since, self._until = now, now + self._pause

    def gives_up(self) -> bool:
        """Whether it has been open for so long that there is no point in waiting on."""
        if self._open_since is None:
            return False
        return time.monotonic() - self._open_since > (
            self._patience if self._worked else min(self._patience, PATIENCE_AT_FIRST)
        )
