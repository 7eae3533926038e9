"""Reading dates as people and models write them."""

from __future__ import annotations

import re
from datetime import date, datetime
from typing import Any

_ISO = re.compile(r"\d{4}-\d{2}-\d{2}")


def read_date(value: Any, day_first: bool = True) -> date | None:
    """The date that a text gives whole, with day, month and year; None where it gives none.

    ISO dates (ISO 8601) are read as such, whatever `day_first` says.
    """
    if not isinstance(value, str) or not any(char.isdigit() for char in value) or len(value) > 60:
        return None
    text = value.strip()
    if _ISO.fullmatch(text):
        try:
            return date.fromisoformat(text)
        except ValueError:
            return None
    from dateutil import parser

    try:
        # Parsed over two defaults that share no part: what differs was not in the text.
        first = parser.parse(text, dayfirst=day_first, default=datetime(2001, 1, 1))
        second = parser.parse(text, dayfirst=day_first, default=datetime(2002, 2, 2))
    except (ValueError, OverflowError, TypeError):
        return None
    return first.date() if first.date() == second.date() else None
