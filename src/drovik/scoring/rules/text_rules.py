"""Field rules for addresses and formulas.

Reading dates as people and models write them.
"""

from __future__ import annotations

import math
import re
from datetime import date, datetime
from functools import lru_cache
from typing import Any

from pydantic import Field
from typing_extensions import override

from drovik.errors import Problem, UsageError
from drovik.scoring.rules.rule import Outcome, Rule
from drovik.text import normalized

_SHORT = {
    "st": "street", "str": "street", "straße": "street", "strasse": "street", "rd": "road", "ave": "avenue",
    "av": "avenue",
    "ln": "lane", "sq": "square", "pl": "place", "no": "", "nr": "", "apt": "flat",
}  # fmt: skip
_MOST_FORMULA = 300
"""Characters of a formula."""
_MOST_FUNCTIONS, _DEEPEST_FORMULA = 8, 12
"""Functions and brackets of one: beyond these SymPy may not come to an end."""
_LARGEST_POWER = 400
"""An exponent beyond this makes numbers that fill the memory."""


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


class Formula(Rule):
    """The same expression: `2*(a+b)` is `2*b + 2*a`. It is worked out by SymPy, an extra, from a small grammar."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        wanted, said = _expression(expected), _expression(got)
        if wanted is None or said is None:
            return False
        import sympy

        return bool(wanted == said) or bool(sympy.simplify(wanted - said) == 0)

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if _expression(expected) is not None else "is not a formula"


_FUNCTIONS = ("sqrt", "sin", "cos", "tan", "exp", "log", "ln", "pi")


def _is_deep(text: str) -> bool:
    depth = 0
    for char in text:
        depth += (char == "(") - (char == ")")
        if depth > _DEEPEST_FORMULA:
            return True
    return False


def _expression(value: Any) -> Any:
    """A formula as an expression; None where it is none.

    SymPy's own parser runs Python: only numbers, letters, brackets and signs of arithmetic come to it, and no name of
    more than one letter but those of a few functions; and powers are small, for a tower of them would never end.
    """
    if isinstance(value, int | float) and not isinstance(value, bool):
        value = str(value)
    if not isinstance(value, str) or not value.strip() or len(value) > _MOST_FORMULA:
        return None
    text = value.rpartition("=")[2].replace("^", "**").replace("·", "*").replace("×", "*").replace("−", "-")
    if not re.fullmatch(r"[\w\s.+*/()-]+", text) or "_" in text or re.search(r"\.(?!\d)", text):
        return None
    words = re.findall(r"[^\W\d_]+", text)
    if any(len(word) > 1 and word not in _FUNCTIONS for word in words):
        return None
    if sum(len(word) > 1 for word in words) > _MOST_FUNCTIONS or _is_deep(text):
        return None  # functions of functions of functions keep SymPy busy for ever
    powers = re.findall(r"\*\*[\s(-]*(\d*)(\s*\*\*)?", text)
    if any(tower for _, tower in powers) or math.prod(int(one[:6] or 1) for one, _ in powers) > _LARGEST_POWER:
        return None
    try:
        from sympy.parsing import sympy_parser as parser
    except ImportError:
        what, remedy = "the rule 'formula' needs SymPy", "install it: pip install 'drovik[formula]'"
        raise UsageError(Problem(what, remedy)) from None
    import sympy

    names = {word: sympy.Symbol(word) for word in words if len(word) == 1}
    known = {name: getattr(sympy, name) for name in _FUNCTIONS}
    steps = (*parser.standard_transformations, parser.implicit_multiplication_application)
    made = {name: getattr(sympy, name) for name in ("Integer", "Float", "Rational", "Symbol", "Function")}
    try:
        return parser.parse_expr(text, {**names, **known}, steps, made)
    except Exception:  # the parser raises whatever the text makes Python raise
        return None


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
