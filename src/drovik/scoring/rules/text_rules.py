"""The field rule for addresses.

Reading dates as people and models write them.
"""

from __future__ import annotations

import re
from datetime import date, datetime
from functools import lru_cache
from typing import Any

from pydantic import Field
from typing_extensions import override

from drovik.scoring.rules.rule import Outcome, Rule
from drovik.text import normalized

_SHORT = {
    "st": "street", "str": "street", "straße": "street", "strasse": "street", "rd": "road", "ave": "avenue",
    "av": "avenue",
    "ln": "lane", "sq": "square", "pl": "place", "no": "", "nr": "", "apt": "flat",
}  # fmt: skip


class PostalAddress(Rule):
    """The same address by its parts, whichever order they are in and however they are parted: every number has to
    be there, and of the words at least `least`. What lacks some words is distinguished as near.
    """

    least: float = Field(default=0.8, gt=0, le=1)

    @override
    def outcome(self, expected: Any, got: Any) -> Outcome:
        if not isinstance(got, str):
            return "wrong"
        (words, numbers), (said, said_numbers) = _parts(str(expected)), _parts(got)
        if numbers != said_numbers:
            return "wrong"
        if words == said:
            return "correct"
        common = len(words & said)
        return "near" if 2 * common >= self.least * (len(words) + len(said)) else "wrong"

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return self.outcome(expected, got) != "wrong"

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if isinstance(expected, str) and any(_parts(expected)) else "is not an address"


def _parts(text: str) -> tuple[frozenset[str], frozenset[str]]:
    """The words of an address, abbreviations written out, and its numbers: house, postcode."""
    plain = normalized(text)
    plain = re.sub(r"(\w)str(?:aße|asse|\.)?(?!\w)", r"\1 street", plain)
    tokens = re.findall(r"\w+", plain)
    numbers = frozenset(one for one in tokens if any(char.isdigit() for char in one))
    return frozenset(word for one in tokens if one not in numbers and (word := _SHORT.get(one, one))), numbers


_ISO = re.compile(r"\d{4}-\d{2}-\d{2}")
_MAY_BE_WHOLE = re.compile(r"\d\D.*\d|\d{6}", re.DOTALL)
"""A whole date has a day and a year at least."""


_MONTH = re.compile(r"(\d{4})-(\d{2})|(\d{1,2})[./](\d{4})")
_YEAR = re.compile(r"\d{4}")


def partial_date(value: Any, day_first: bool = True) -> tuple[int, int | None, int | None] | None:
    """Year, month and day of a text that gives at least the year; None for what it leaves out."""
    whole = read_date(value, day_first)
    if whole is not None:
        return whole.year, whole.month, whole.day
    if not isinstance(value, str):
        return None
    text = value.strip()
    if _YEAR.fullmatch(text):
        return int(text), None, None
    match = _MONTH.fullmatch(text)
    if match:
        year, month = int(match[1] or match[4]), int(match[2] or match[3])
        return (year, month, None) if 1 <= month <= 12 else None
    words = re.fullmatch(r"([^\W\d]+)\.?,? (\d{4})", text)
    named = read_date(f"1 {words[1]} {words[2]}") if words else None
    return (named.year, named.month, None) if named else None


def read_date(value: Any, day_first: bool = True) -> date | None:
    """The date that a text gives whole, with day, month and year; None where it gives none.

    ISO dates (ISO 8601) are read as such, whatever `day_first` says.
    """
    if not isinstance(value, str) or len(value) > 60 or not _MAY_BE_WHOLE.search(value):
        return None
    return _date_of(value.strip(), day_first)


@lru_cache(maxsize=20_000)
def _date_of(text: str, day_first: bool) -> date | None:
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
