"""Field rules for numbers, amounts of money, dates and times."""

from __future__ import annotations

import re
from datetime import time
from typing import Any, Literal

from pydantic import Field

from drovik.scoring.rules.dates import partial_date, read_date
from drovik.scoring.rules.numerals import UNITS, close, currency_of, one_numeral, plain_number, unit_of
from drovik.scoring.rules.rule import Rule


class Number(Rule):
    """The same number, within `tolerance` or within `share` of the expected one; written as text, too.

    With a `unit` a text may give another of the same kind: "120 mm" is 12 where the unit is cm.
    """

    tolerance: float = Field(default=0.0, ge=0)
    share: float = Field(default=0.0, ge=0)
    unit: str | None = None

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        wanted, said = self._number(expected), self._number(got)
        return wanted is not None and said is not None and close(said, wanted, self.tolerance, self.share)

    def _number(self, value: Any) -> float | None:
        plain = plain_number(value)
        if plain is not None or self.unit is None:
            return plain
        readings, words = one_numeral(value)
        unit = unit_of(words)
        if not readings or unit is None or self.unit.lower() not in UNITS:
            return None
        (kind, size), (wanted_kind, wanted_size) = UNITS[unit], UNITS[self.unit.lower()]
        return readings[0] * size / wanted_size if kind == wanted_kind else None

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        if self.unit is not None and self.unit.lower() not in UNITS:
            return f"cannot be compared in '{self.unit}', which is no known unit"
        return None if self._number(expected) is not None else "is no number"


class Amount(Rule):
    """The same amount of money, with the separators of any country, and the same currency where both name one.

    `decimal` says which separator is that of the decimals, where "1.234" should not be taken both ways.
    `currency` is meant where none is named.
    """

    tolerance: float = Field(default=0.005, ge=0)
    decimal: Literal[",", "."] | None = None
    currency: str | None = None

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        wanted, words = one_numeral(expected)
        said, said_words = one_numeral(got, self.decimal)
        if not wanted or not said:
            return False
        one, other = currency_of(words) or self.currency, currency_of(said_words) or self.currency
        if one and other and one.upper() != other.upper():
            return False
        return any(close(number, wanted[0], self.tolerance) for number in said)

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        return None if one_numeral(expected)[0] else "is no amount"


class Date(Rule):
    """The same day, however it is written; `day_first` says how 03.04. is read. ISO dates are always ISO.

    With `partial` a month or a year alone is expected to be given as such: "2026-08" is August 2026.
    """

    day_first: bool = True
    partial: bool = False

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        said = self._read(got)
        return said is not None and said == self._read(expected)

    def _read(self, value: Any) -> object:
        return partial_date(value, self.day_first) if self.partial else read_date(value, self.day_first)

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        if self._read(expected) is not None:
            return None
        return "is no date" if self.partial else "is no whole date"


_TIME = re.compile(r"(\d{1,2})(?:[:.h](\d{2}))?(?:[:.](\d{2}))?\s*([ap])?\.?m?\.?", re.IGNORECASE)


class Time(Rule):
    """The same time of day: 14:05, 14.05, 2:05 pm. Seconds count only where both give them."""

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        wanted, said = _time(expected), _time(got)
        if wanted is None or said is None:
            return False
        if not (wanted[1] and said[1]):
            return (wanted[0].hour, wanted[0].minute) == (said[0].hour, said[0].minute)
        return wanted[0] == said[0]

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        return None if _time(expected) is not None else "is no time of day"


def _time(value: Any) -> tuple[time, bool] | None:
    """A time of day, and whether its seconds are given."""
    match = _TIME.fullmatch(value.strip()) if isinstance(value, str) else None
    if not match or not (match[2] or match[4]):
        return None
    hour = int(match[1])
    if match[4] and 1 <= hour <= 12:
        hour = hour % 12 + (12 if match[4].lower() == "p" else 0)
    try:
        return time(hour, int(match[2] or 0), int(match[3] or 0)), match[3] is not None
    except ValueError:
        return None
