"""Field rules: when a value counts as the expected one. A new rule is one class and one row below."""

from __future__ import annotations

import math
import unicodedata
from typing import Any

from pydantic import Field

from drovik.project.toml_files import Frozen
from drovik.scoring.dates import read_date


class Rule(Frozen):
    """What stands in question.toml for a field, beside `rule`; `same` is its meaning."""

    at: str | None = None

    def same(self, expected: Any, got: Any) -> bool:
        """Whether `got` counts as `expected`; neither is absent or null."""
        raise NotImplementedError

    def check_expected(self, expected: Any) -> str | None:
        """What is wrong with an expected value under this rule, if anything is."""
        return None


class Exact(Rule):
    """The same JSON value: 1 and 1.0 are the same, 1 and true are not, members may stand in any order."""

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        return same_json(expected, got)


class Text(Rule):
    """The same text but for letter case, spaces and, where `accents` is false, accents."""

    accents: bool = True

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        return isinstance(got, str) and self._folded(str(expected)) == self._folded(got)

    def _folded(self, text: str) -> str:
        plain = unicodedata.normalize("NFKC", text)
        if not self.accents:
            apart = unicodedata.normalize("NFD", plain)
            plain = "".join(char for char in apart if not unicodedata.combining(char))
        return " ".join(plain.casefold().split())

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        return None if isinstance(expected, str) else "is no text"


class Number(Rule):
    """The same number, within `tolerance` or within `share` of the expected one; written as text, too."""

    tolerance: float = Field(default=0.0, ge=0)
    share: float = Field(default=0.0, ge=0)

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        wanted, said = _number(expected), _number(got)
        if wanted is None or said is None:
            return False
        room = max(self.tolerance, self.share * abs(wanted))
        return abs(said - wanted) <= room + 1e-12 * max(1.0, abs(wanted))

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        return None if _number(expected) is not None else "is no number"


class Date(Rule):
    """The same day, however it is written; `day_first` says how 03.04. is read. ISO dates are always ISO."""

    day_first: bool = True

    def same(self, expected: Any, got: Any) -> bool:
        """See `Rule.same`."""
        said = read_date(got, self.day_first)
        return said is not None and said == read_date(expected, self.day_first)

    def check_expected(self, expected: Any) -> str | None:
        """See `Rule.check_expected`."""
        return None if read_date(expected, self.day_first) else "is no whole date"


def same_json(one: Any, other: Any) -> bool:
    """Whether two JSON values are the same, true and 1 being two."""
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(same_json(one[key], other[key]) for key in one)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(same_json(a, b) for a, b in zip(one, other, strict=True))
    return bool(one == other)


def _number(value: Any) -> float | None:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        return None
    try:
        number = float(value)
    except (ValueError, OverflowError):
        return None
    return number if math.isfinite(number) else None


RULES: dict[str, type[Rule]] = {"exact": Exact, "text": Text, "number": Number, "date": Date}
