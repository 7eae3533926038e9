"""What a reply's headers say is left of a service's limits, and when they begin again.

Read are the standard's own headers (IETF draft "RateLimit header fields for HTTP": `RateLimit`, and before it
`RateLimit-Remaining` with `RateLimit-Reset`), and those that the dialect names under `[left]`.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from drovik.project.dialects import LeftHeaders
from drovik.transport.outcomes import seconds_to_wait

_PAIR = re.compile(r"\b([rt])=([0-9]{1,15})(?![0-9])")
_SPAN = re.compile(r"([0-9]{1,15}(?:\.[0-9]{1,15})?)\s*(ms|s|m|h|d)")
_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_LONGEST = 100
"""Characters of a value that may be a span or a date."""
_EPOCH = 1_000_000_000
"""A number so large is no span in seconds but a time since 1970."""


class Left(NamedTuple):
    """How many requests (or shares of tokens) are left, and in how many seconds there are more."""

    number: int | None = None
    seconds: float | None = None


def left_of(headers: Mapping[str, str], told: LeftHeaders | None, now: datetime | None = None) -> Left:
    """The scarcest that the headers tell of.

    :param told: the headers' names in the dialect, where it gives some.
    """
    found = []
    standard = dict(_PAIR.findall(headers.get("RateLimit") or ""))
    if "r" in standard:
        found.append(Left(int(standard["r"]), float(standard["t"]) if "t" in standard else None))
    names = [("RateLimit-Remaining", "RateLimit-Reset")]
    if told is not None:
        names += [(told.requests or "", told.requests_again or ""), (told.tokens or "", told.tokens_again or "")]
    for name, again in names:
        count = headers.get(name) if name else None
        if count is not None and re.fullmatch(r"\s*-?[0-9]{1,15}(\.0*)?\s*", count):
            found.append(Left(int(float(count)), span(headers.get(again), now) if again else None))
    known = [one for one in found if one.seconds is not None]
    return min(known, key=lambda one: one.number or 0, default=Left())


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
