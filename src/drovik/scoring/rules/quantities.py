"""Field rules for numbers, amounts of money, dates and times.

Numbers, amounts and units as people and models write them: every reading that a text allows.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from datetime import time
from functools import lru_cache
from typing import Any, Literal

from pydantic import Field
from typing_extensions import override

from drovik.scoring.rules.rule import Rule
from drovik.scoring.rules.text_rules import partial_date, read_date

_NUMERAL = re.compile(r"[-+\u2212]?\s?\d[\d.,'’\u00a0\u202f\u2009 ]*(?:[eE][-+]?\d+)?")
_LONGEST = 200
"""Characters in which a quantity is looked for: a longer text is prose."""
_SPACES = "'’\u00a0\u202f\u2009 "
CURRENCIES = {
    "€": "EUR", "$": "USD", "£": "GBP", "¥": "JPY", "₹": "INR", "₩": "KRW", "₺": "TRY", "zł": "PLN", "kč": "CZK",
    "euro": "EUR", "euros": "EUR", "dollar": "USD", "dollars": "USD", "pound": "GBP", "pounds": "GBP",
    "franken": "CHF", "fr.": "CHF", "us$": "USD",
}  # fmt: skip
"""Signs and words of currencies, with their ISO 4217 codes; a code of three capitals is itself."""
_CODES = frozenset(
    (
        *CURRENCIES.values(),
        "AUD",
        "BRL",
        "CAD",
        "CNY",
        "DKK",
        "HUF",
        "ISK",
        "MXN",
        "NOK",
        "NZD",
        "RON",
        "SEK",
        "SGD",
        "ZAR",
    )
)
"""Codes that no other word of three letters is mistaken for."""
UNITS: dict[str, tuple[str, float]] = {
    "mm": ("length", 0.001), "cm": ("length", 0.01), "dm": ("length", 0.1), "m": ("length", 1.0),
    "km": ("length", 1e3),
    "in": ("length", 0.0254), "inch": ("length", 0.0254), "inches": ("length", 0.0254), "ft": ("length", 0.3048),
    "mg": ("mass", 1e-6), "g": ("mass", 0.001), "kg": ("mass", 1.0), "t": ("mass", 1e3), "lb": ("mass", 0.45359237),
    "oz": ("mass", 0.028349523125), "ml": ("volume", 1e-3), "cl": ("volume", 1e-2), "dl": ("volume", 0.1),
    "l": ("volume", 1.0), "s": ("time", 1.0), "sec": ("time", 1.0), "min": ("time", 60.0), "h": ("time", 3600.0),
    "ms": ("time", 0.001), "d": ("time", 86400.0), "w": ("power", 1.0), "kw": ("power", 1e3), "wh": ("energy", 1.0),
    "kwh": ("energy", 1e3), "%": ("share", 0.01), "b": ("data", 1.0), "kb": ("data", 1e3), "mb": ("data", 1e6),
    "gb": ("data", 1e9), "cm²": ("area", 1e-4), "m²": ("area", 1.0), "m2": ("area", 1.0), "km²": ("area", 1e6),
}  # fmt: skip
"""Units by what they measure, and how many of its base unit one is."""


def plain_number(value: Any) -> float | None:
    """A JSON number, or a text that a programming language reads as one; None else, and where it is not finite."""
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        return None
    try:
        number = float(value)
    except (ValueError, OverflowError):
        return None
    return number if math.isfinite(number) else None


def readings(text: str, decimal: str | None = None) -> list[float]:
    """Every number that a numeral may stand for, the likeliest first; empty where it is none.

    One separator before exactly three digits may part thousands or decimals; all else is plain: the last of two
    separators is the decimal one, a separator that comes twice parts thousands, and so do spaces and apostrophes.
    What parts thousands has three digits behind it (in India two, but for the last): `7 12` are two numbers.

    :param decimal: "," or "." where that is known.
    """
    body = text.strip().replace("\u2212", "-").rstrip(".,")
    match = re.fullmatch(r"([-+]?)\s?(\d[\d.," + _SPACES + r"]*?)([eE][-+]?\d+)?", body)
    if not match:
        return []
    sign, digits, power = match[1], match[2], match[3] or ""
    pieces = re.split(f"[{_SPACES}]+", digits)
    if not _parts_thousands([*pieces[:-1], re.split("[.,]", pieces[-1])[0]]):
        return []
    digits = "".join(pieces)
    found = []
    for form in _forms(digits, decimal):
        try:
            found.append(float(f"{sign}{form}{power}"))
        except (ValueError, OverflowError):
            continue
    return [one for one in dict.fromkeys(found) if math.isfinite(one)]


def _parts_thousands(pieces: Sequence[str]) -> bool:
    """Whether digits are parted as thousands are, or not at all."""
    first, *others = map(len, pieces)
    if not others:
        return True
    in_threes = first <= 3 and set(others) == {3}
    return in_threes or (first <= 2 and others[-1] == 3 and set(others[:-1]) == {2})


def _with_decimal(digits: str, decimal: str) -> list[str]:
    """The form of a numeral whose mark of decimals is known; none where the other mark parts no thousands."""
    whole, _, rest = digits.partition(decimal)
    pieces = whole.split("." if decimal == "," else ",")
    return [f"{''.join(pieces)}.{rest}"] if _parts_thousands(pieces) else []


def _forms(digits: str, decimal: str | None) -> list[str]:
    """A numeral's digits with a point for decimals, in every way it may be meant."""
    marks = [char for char in digits if char in ".,"]
    if decimal is not None:
        return _with_decimal(digits, decimal)
    if not marks:
        return [digits]
    last = marks[-1]
    if len(set(marks)) == 2:
        return _with_decimal(digits, last) if marks.count(last) == 1 else []
    if len(marks) > 1:
        return [digits.replace(last, "")] if _parts_thousands(digits.split(last)) else []
    whole, _, rest = digits.partition(last)
    as_decimal, as_thousands = f"{whole}.{rest}", whole + rest
    if len(rest) != 3 or whole.startswith("0") or len(whole) > 3:
        return [as_decimal]
    return [as_decimal, as_thousands] if last == "." else [as_thousands, as_decimal]


def numerals(text: str) -> list[tuple[str, int, int]]:
    """Every numeral in a text, with where it begins and ends."""
    found = []
    for match in _NUMERAL.finditer(text):
        body = match[0].rstrip(" .,'’")
        found.append((body, match.start(), match.start() + len(body)))
    return found


def one_numeral(value: Any, decimal: str | None = None) -> tuple[list[float], str]:
    """What the one numeral of a value may stand for, and the words around it in lower case.

    :return: no readings if there is no numeral, or several.
    """
    if not isinstance(value, str):
        plain = plain_number(value)
        return ([], "") if plain is None else ([plain], "")
    return _numeral_of(value, decimal) if len(value) <= _LONGEST else ([], "")


@lru_cache(maxsize=20_000)
def _numeral_of(value: str, decimal: str | None) -> tuple[list[float], str]:
    found = numerals(value)
    if len(found) != 1:
        return [], ""
    body, start, end = found[0]
    rest = f"{value[:start]} {value[end:]}".strip().lower()
    return readings(body, decimal), " ".join(rest.split())


def currency_of(words: str) -> str | None:
    """The code of the currency that the words around an amount name; None where they name none.

    A word of three letters may be a code; one that is known goes first: "fee 20 EUR" is not of the currency FEE.
    """
    code = None
    for word in words.replace(",", " ").split():
        plain = word.strip("()-–.:") or word
        if plain in CURRENCIES or word in CURRENCIES:
            return CURRENCIES.get(plain) or CURRENCIES[word]
        if len(plain) == 3 and plain.isascii() and plain.isalpha():
            if plain.upper() in _CODES:
                return plain.upper()
            code = code or plain.upper()
    return code


def unit_of(words: str) -> str | None:
    """The unit that the words around a number begin with; None where it is none that is known."""
    for word in words.split():
        if word.strip(".,()") in UNITS:
            return word.strip(".,()")
    return None


def close(one: float, other: float, tolerance: float = 0.0, part: float = 0.0) -> bool:
    """Whether a number is within a tolerance, or within a share, of the expected `other`."""
    room = max(tolerance, part * abs(other))
    return abs(one - other) <= room + 1e-12 * max(1.0, abs(other))


class Number(Rule):
    """The same number, within `tolerance` or within `share` of the expected one; written as text, too.

    With a `unit` a text may give another of the same kind: "120 mm" is 12 where the unit is cm.
    """

    tolerance: float = Field(default=0.0, ge=0)
    share: float = Field(default=0.0, ge=0)
    unit: str | None = None

    @override
    def same(self, expected: Any, got: Any) -> bool:
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

    @override
    def check_expected(self, expected: Any) -> str | None:
        if self.unit is not None and self.unit.lower() not in UNITS:
            return f"cannot be compared in '{self.unit}', which is not a known unit"
        return None if self._number(expected) is not None else "is not a number"


class Amount(Rule):
    """The same amount of money, with the separators of any country, and the same currency where both name one.

    `decimal` says which separator is that of the decimals, where "1.234" should not be taken both ways.
    `currency` is meant where none is named.
    """

    tolerance: float = Field(default=0.005, ge=0)
    decimal: Literal[",", "."] | None = None
    currency: str | None = None

    @override
    def same(self, expected: Any, got: Any) -> bool:
        wanted, words = one_numeral(expected)
        said, said_words = one_numeral(got, self.decimal)
        if not wanted or not said:
            return False
        one, other = currency_of(words) or self.currency, currency_of(said_words) or self.currency
        if one and other and one.upper() != other.upper():
            return False
        return any(close(number, wanted[0], self.tolerance) for number in said)

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if one_numeral(expected)[0] else "is not an amount"


class Date(Rule):
    """The same day, however it is written; `day_first` says how 03.04. is read. ISO dates are always ISO.

    With `partial` a month or a year alone is expected to be given as such: "2026-08" is August 2026.
    """

    day_first: bool = True
    partial: bool = False

    @override
    def same(self, expected: Any, got: Any) -> bool:
        said = self._read(got)
        return said is not None and said == self._read(expected)

    def _read(self, value: Any) -> object:
        return partial_date(value, self.day_first) if self.partial else read_date(value, self.day_first)

    @override
    def check_expected(self, expected: Any) -> str | None:
        if self._read(expected) is not None:
            return None
        return "is not a date" if self.partial else "is not a whole date"


_TIME = re.compile(r"(\d{1,2})(?:[:.h](\d{2}))?(?:[:.](\d{2}))?\s*([ap])?\.?m?\.?", re.IGNORECASE)


class Time(Rule):
    """The same time of day: 14:05, 14.05, 2:05 pm. Seconds count only where both give them."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        wanted, said = _time(expected), _time(got)
        if wanted is None or said is None:
            return False
        if not (wanted[1] and said[1]):
            return (wanted[0].hour, wanted[0].minute) == (said[0].hour, said[0].minute)
        return wanted[0] == said[0]

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if _time(expected) is not None else "is not a time of day"


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
