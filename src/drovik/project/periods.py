"""Periods that part the answers of one arm: `fulmar/v2@2026-03` is what it answered in that month."""

from __future__ import annotations

import re
from datetime import date, timedelta
from typing import NamedTuple

_FORM = re.compile(r"(?P<year>\d{4})(?:-(?P<month>\d\d)(?:-(?P<day>\d\d))?)?$")


class Period(NamedTuple):
    """Days in UTC, as ISO dates: from the first, to before the second."""

    start: str
    end: str


def period_of(text: str) -> Period | None:
    """A year, a month or a day; None where a text is none of these."""
    found = _FORM.match(text)
    if found is None:
        return None
    year, month, day = int(found["year"]), found["month"], found["day"]
    try:
        first = date(year, int(month or 1), int(day or 1))
        if day:
            last = first + timedelta(days=1)
        elif month:
            last = date(year + int(month) // 12, int(month) % 12 + 1, 1)
        else:
            last = date(year + 1, 1, 1)
    except (ValueError, OverflowError):
        return None
    return Period(first.isoformat(), last.isoformat())
