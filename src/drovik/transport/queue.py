"""The asks that wait for one endpoint, claimed a few at a time, so that no other program asks the same."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Collection, Iterable
from itertools import islice

from drovik.planning.plan import Ask
from drovik.store.claims import Claims

LOOKS_EVERY = 0.5
"""Seconds after which it is looked again whether others are done with what they claimed."""


class Queue:
    """One endpoint's asks, in order. What others hold is waited for at the end.

    :param again: what is asked again on purpose; it is done only by an attempt after `since`.
    """

    def __init__(
        self, asks: Iterable[Ask], claims: Claims, again: Collection[str], since: int, at_a_time: int
    ) -> None:
        self._asks, self._claims = iter(asks), claims
        self._again, self._since, self._at_a_time = again, since, at_a_time
        self._ready: deque[tuple[Ask, bool]] = deque()
        self._elsewhere: list[Ask] = []
        self._lock = asyncio.Lock()

    @property
    def elsewhere(self) -> int:
        """How many are held by others."""
        return len(self._elsewhere)

    async def next(self, is_over: Callable[[], bool]) -> tuple[Ask, bool] | None:
        """The next ask, and whether it has its answer meanwhile; None at the end.

        :param is_over: whether to stop waiting for what others hold.
        """
        async with self._lock:
            while not self._ready and not is_over():
                some = list(islice(self._asks, self._at_a_time))
                if not some and not self._elsewhere:
                    return None
                if not some:
                    await asyncio.sleep(LOOKS_EVERY)
                    self._claims.beat()
                    some, self._elsewhere = self._elsewhere, []
                self._sort(some)
            return self._ready.popleft() if self._ready else None

    def claim(self, ask: Ask) -> bool | None:
        """Claim one ask that was not in the queue: whether it is done already; None where another has it."""
        found = self._claims.claim([ask.identity], self._again, self._since)[ask.identity]
        if found == "taken":
            self._elsewhere.append(ask)
            return None
        return found == "done"

    def _sort(self, some: list[Ask]) -> None:
        found = self._claims.claim([ask.identity for ask in some], self._again, self._since)
        for ask in some:
            if found[ask.identity] == "taken":
                self._elsewhere.append(ask)
            else:
                self._ready.append((ask, found[ask.identity] == "done"))
