"""How fast one endpoint is asked: its slots, its limits, and what its service says of them.

It slows down where the service says that it is too much, and climbs again as long as it is answered: half as
many at once after a 429, one more for each round of good answers (additive increase, multiplicative
decrease). Where one at a time is still too much, it waits longer and longer in between.

What a reply's headers say is left of a service's limits, and when they begin again.

Read are the standard's own headers (IETF draft "RateLimit header fields for HTTP": `RateLimit`, and before it
`RateLimit-Remaining` with `RateLimit-Reset`), and those that the dialect names under `[left]`.
"""

from __future__ import annotations

import asyncio
import math
import re
import time
from collections import deque
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import NamedTuple

from drovik.errors import Problem
from drovik.project.dialects import LeftHeaders
from drovik.project.settings import Limits
from drovik.transport.outcomes import seconds_to_wait
from drovik.transport.shared_limits import SharedLimits

_PAIR = re.compile(r"\b([rt])=([0-9]{1,15})(?![0-9])")
_SPAN = re.compile(r"([0-9]{1,15}(?:\.[0-9]{1,15})?)\s*(ms|s|m|h|d)")
_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_LONGEST = 100
"""Characters of a value that may be a span or a date."""
_EPOCH = 1_000_000_000
"""A number so large is not a span in seconds but a time since 1970."""


class Remaining(NamedTuple):
    """How many requests (or shares of tokens) are left, and in how many seconds there are more."""

    number: int | None = None
    seconds: float | None = None


def remaining_of(headers: Mapping[str, str], told: LeftHeaders | None, now: datetime | None = None) -> Remaining:
    """The scarcest that the headers tell of.

    :param told: the headers' names in the dialect, where it gives some.
    """
    found = []
    standard = dict(_PAIR.findall(headers.get("RateLimit") or ""))
    if "r" in standard:
        found.append(Remaining(int(standard["r"]), float(standard["t"]) if "t" in standard else None))
    names = [("RateLimit-Remaining", "RateLimit-Reset")]
    if told is not None:
        names += [(told.requests or "", told.requests_again or ""), (told.tokens or "", told.tokens_again or "")]
    for name, again in names:
        count = headers.get(name) if name else None
        if count is not None and re.fullmatch(r"\s*-?[0-9]{1,15}(\.0*)?\s*", count):
            found.append(Remaining(int(float(count)), span(headers.get(again), now) if again else None))
    known = [one for one in found if one.seconds is not None]
    return min(known, key=lambda one: one.number or 0, default=Remaining())


def span(text: str | None, now: datetime | None = None) -> float | None:
    """Seconds from now: of a number, a span such as `1m30s` or `250ms`, a time since 1970, or a date."""
    if not text:
        return None
    now = now or datetime.now(UTC)
    text = text.strip()
    if len(text) > _LONGEST:
        return None
    try:
        number = float(text)
        if not math.isfinite(number):
            return None
        return max(0.0, number - now.timestamp() if number > _EPOCH else number)
    except ValueError:
        pass
    if _SPAN.sub("", text).strip() == "":
        return sum(float(value) * _UNITS[unit] for value, unit in _SPAN.findall(text))
    try:
        then = datetime.fromisoformat(text)
        return max(0.0, ((then if then.tzinfo else then.replace(tzinfo=UTC)) - now).total_seconds())
    except (ValueError, OverflowError):
        return seconds_to_wait(text, now)


FIRST_GAP, LONGEST_GAP = 0.25, 30.0
"""Seconds between requests once one at a time is too much: doubled on each refusal, up to half a minute."""
_LEAST_BETWEEN_CUTS = 1.0
"""Seconds: those that were under way together are reported together that it is too much, and count once."""

SETTLING = 1.2
"""Seconds after which others who use the endpoint have seen that there is one more, and taken less."""


class Slots:
    """As many at once as there is room for now; whoever has to wait goes in the order in which he came."""

    def __init__(self, room: int) -> None:
        self.room, self.in_use = room, 0
        self._waiting: deque[asyncio.Future[None]] = deque()

    @asynccontextmanager
    async def one(self) -> AsyncIterator[None]:
        """Hold one slot."""
        if self.in_use >= self.room or self._waiting:
            future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
            self._waiting.append(future)
            try:
                await future
            except asyncio.CancelledError:
                if future.done() and not future.cancelled():
                    self._give_back()
                raise
        else:
            self.in_use += 1
        try:
            yield
        finally:
            self._give_back()

    def _give_back(self) -> None:
        self.in_use -= 1
        self.let_in()

    def let_in(self) -> None:
        """Let in who waits, as far as there is room."""
        while self._waiting and self.in_use < self.room:
            future = self._waiting.popleft()
            if not future.done():
                self.in_use += 1
                future.set_result(None)


class RateControl:
    """The pace at one endpoint. `share` is this program's part of the slots."""

    def __init__(self, limits: Limits, shared: SharedLimits | None = None) -> None:
        self.limits, self.shared = limits, shared
        self.share = limits.concurrency
        self.users = 1
        self._most = limits.concurrency
        self.slots = Slots(limits.concurrency)
        self._allowed = float(limits.concurrency)
        self._gap = 0.0
        self._next = 0.0
        self._cut_at = -_LEAST_BETWEEN_CUTS
        self._quiet_until = 0.0
        self._heard_quiet = 0.0
        """The last time that another program told of; how long it is heeded counts from when it was first heard."""

    def bound_to(self, most: int) -> None:
        """Never have more under way than this many, whatever the service bears."""
        self._most = most
        self._set_room()

    async def settle(self) -> None:
        """Come in beside others: if there are some, wait until they have taken less."""
        self.look()
        if self.users > 1:
            await asyncio.sleep(SETTLING)
            self.look()

    def alone(self) -> Problem | None:
        """Why the limits are not shared with other programs, where they are not."""
        if self.shared is None or not self.shared.alone:
            return None
        what = (
            "the limits cannot be shared with other programs of this machine: the user's state folder is not writable"
        )
        return Problem(what, "run one program at a time for each endpoint")

    def look(self) -> None:
        """See how many use the endpoint now, and what one of them was told."""
        if self.shared is not None:
            found = self.shared.share(self.slots.in_use)
            self.share, self.users = found.slots, found.users
            told = self.shared.quiet_until()
            if told != self._heard_quiet:
                self._heard_quiet = told
                self._quiet_until = max(self._quiet_until, min(told, time.monotonic() + self.limits.give_up_after))
            self._set_room()

    def _set_room(self) -> None:
        self.slots.room = min(self.share, self._most, max(1, int(self._allowed)))
        self.slots.let_in()

    def quiet_for(self) -> float:
        """For how many seconds more nothing should leave."""
        return max(self._quiet_until, self._next) - time.monotonic()

    def take(self, tokens: int) -> float:
        """Take a place in the limits for a request that comes to this many tokens; seconds to wait for it."""
        if self._gap:
            self._next = time.monotonic() + self._gap
        return self.shared.seconds_until(tokens) if self.shared is not None else 0.0

    def day_allows(self, tokens: int) -> str | None:
        """What of the day's limits is used up, if anything is."""
        return self.shared.day_allows(tokens) if self.shared is not None else None

    def correct(self, estimated: int, counted: int) -> None:
        """Put right how many tokens a request came to."""
        if self.shared is not None and counted != estimated:
            self.shared.correct(counted - estimated)

    def on_rate_limited(self, wait: float | None) -> None:
        """The service said that it is too much.

        :param wait: for how many seconds it asked not to be asked, if it did.
        """
        now = time.monotonic()
        if wait is not None:
            self.keep_quiet(wait)
        if now - self._cut_at < _LEAST_BETWEEN_CUTS:
            return
        self._cut_at = now
        if self._allowed <= 1:
            self._gap = min(LONGEST_GAP, max(FIRST_GAP, self._gap * 2))
            self._next = now + self._gap
        self.halve_concurrency()

    def halve_concurrency(self) -> None:
        """Have half as many under way."""
        self._allowed = max(1.0, min(self._allowed, self.slots.room) / 2)
        self._set_room()

    def keep_quiet(self, seconds: float) -> None:
        """Let nothing leave for so long, here and from others on this machine; no longer than `give_up_after`."""
        seconds = min(seconds, self.limits.give_up_after)
        self._quiet_until = max(self._quiet_until, time.monotonic() + seconds)
        if self.shared is not None and seconds > 0:
            self.shared.keep_quiet(seconds)

    def answered(self) -> None:
        """The service answered: climb."""
        if self._gap:
            self._gap = 0.0 if self._gap < FIRST_GAP else self._gap * 0.8
        if self._allowed < self.limits.concurrency:
            self._allowed = min(self.limits.concurrency, self._allowed + 1 / self._allowed)
            self._set_room()

    def apply_headers(self, left: Remaining) -> None:
        """Take in what a reply's headers say is left of the service's limits."""
        if left.number is None or left.seconds is None:
            return
        if left.number <= 0:
            self.keep_quiet(left.seconds)
        elif left.number < self.slots.in_use:
            self._allowed = max(1.0, float(left.number))
            self._set_room()
