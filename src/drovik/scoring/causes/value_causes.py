"""Why single values are wrong: a table of tests on what was expected and what came, and what other values say.

Characters that look alike, and texts that differ in nothing else.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from functools import lru_cache
from typing import Any

from drovik.scoring.causes.cause_table import (
    ANOTHER_CURRENCY,
    ANOTHER_FIELDS_VALUE,
    ANOTHER_UNIT,
    ANOTHER_VALUE,
    ANOTHER_WAY_OF_WRITING,
    CUT_SHORT,
    DAY_AND_MONTH_SWAPPED,
    DIGITS_SWAPPED,
    GLYPHS_MISREAD,
    LETTER_CASE_SPACES_OR_ACCENTS,
    NUMBER_AS_TEXT,
    OFF_BY_A_POWER_OF_TEN,
    SEPARATOR_MISREAD,
    VALUES_SWAPPED,
    YEAR_OFF,
)
from drovik.scoring.json_pointer import is_absent
from drovik.scoring.rules.nested import Leaf
from drovik.scoring.rules.quantities import UNITS, close, currency_of, one_numeral, plain_number, unit_of
from drovik.scoring.rules.text_rules import read_date
from drovik.text import normalized

_ALIKE = ("0OoQD", "1lIi|!", "5Ss", "8B", "2Zz", "6Gb", "9gq", "uv", "ce", "4A", "7T")
_PAIRS = (("rn", "m"), ("cl", "d"), ("vv", "w"), ("li", "h"), ("ii", "u"), ("lo", "b"), ("nn", "m"))
MOST = 3
"""Misread characters; a text with more of them is another text."""


def _are_alike(one: str, other: str) -> bool:
    return any(one in group and other in group for group in _ALIKE)


def is_glyph_slip(wanted: str, got: str) -> bool:
    """Whether a text is another one with a few characters taken for some that look like them: 0/O, 1/l, rn/m.

    No more than three of them, and no more than a third of the text.
    """
    one, other = unicodedata.normalize("NFC", wanted.strip()), unicodedata.normalize("NFC", got.strip())
    if one == other or abs(len(one) - len(other)) > MOST:
        return False
    slips = _slips(one, other, MOST)
    return slips is not None and 0 < slips <= max(1, len(one) // 3)


def _slips(one: str, other: str, left: int) -> int | None:
    """How many slips lead from one text to the other; None where more than `left`, or where none do."""
    at = 0
    while at < len(one) and at < len(other) and one[at] == other[at]:
        at += 1
    one, other = one[at:], other[at:]
    if not one and not other:
        return 0
    if not left or not one or not other:
        return None
    found = []
    if _are_alike(one[0], other[0]):
        found.append(_slips(one[1:], other[1:], left - 1))
    # The slip may have begun a character before the first that differs: "rn" and "m", "cl" and "d".
    for two, single in _PAIRS:
        if one.startswith(two) and other.startswith(single):
            found.append(_slips(one[2:], other[1:], left - 1))
        if one.startswith(single) and other.startswith(two):
            found.append(_slips(one[1:], other[2:], left - 1))
    known = [number for number in found if number is not None]
    return 1 + min(known) if known else None


def value_causes(missed: Sequence[Leaf], expected: Callable[[], Mapping[str, Any]]) -> list[str]:
    """The cause of each leaf that is not right.

    :param missed: all of one case.
    :param expected: gives every single value that is expected of the case, by its place.
    """
    causes = [_cause(leaf, expected) for leaf in missed]
    # Two values that are in each other's place are swapped, be it that each is another field's value too.
    for one, first in enumerate(missed):
        for other in range(one + 1, len(missed)):
            second = missed[other]
            if _may_be_swapped(first, second, causes[one], causes[other]):
                causes[one] = causes[other] = VALUES_SWAPPED
    return causes


def _may_be_swapped(first: Leaf, second: Leaf, *causes: str) -> bool:
    weak = (ANOTHER_FIELDS_VALUE, ANOTHER_VALUE)
    return (
        all(cause in weak for cause in causes)
        and _alike(first.got, second.wanted)
        and _alike(second.got, first.wanted)
        and not is_absent(first.got)
    )


def _cause(leaf: Leaf, expected: Callable[[], Mapping[str, Any]]) -> str:
    if leaf.outcome in ("missing", "invented"):
        return leaf.outcome
    cause = plain_cause(leaf.wanted, leaf.got)
    if cause != ANOTHER_VALUE:
        return cause
    for place, value in expected().items():
        if place != leaf.where and _alike(value, leaf.got) and not _alike(value, leaf.wanted) and _tells(value):
            return ANOTHER_FIELDS_VALUE
    return ANOTHER_VALUE


def plain_cause(wanted: Any, got: Any) -> str:
    """The cause of a wrong value by itself, without a look at other values."""
    tests = _TESTS
    if isinstance(wanted, str) and isinstance(got, str) and not (_DIGIT.search(wanted) or _DIGIT.search(got)):
        tests = _TESTS_OF_WORDS
    return next((name for name, explains in tests if explains(wanted, got)), ANOTHER_VALUE)


_DIGIT = re.compile(r"\d")


def _tells(value: Any) -> bool:
    """Whether a value says enough for its coming up elsewhere to be no chance: not true, 0, 1 or a single letter."""
    return not isinstance(value, bool) and len(str(value)) > 1


def _alike(one: Any, other: Any) -> bool:
    if isinstance(one, str) and isinstance(other, str):
        return _bare(one) == _bare(other)
    numbers = plain_number(one), plain_number(other)
    return numbers[0] is not None and numbers[0] == numbers[1]


@lru_cache(maxsize=50_000)
def _bare(text: str) -> str:
    """A text without letter case, spaces and accents."""
    return "".join(normalized(text, accents=False).split())


def _is_case_or_space(wanted: Any, got: Any) -> bool:
    return isinstance(wanted, str) and isinstance(got, str) and _bare(wanted) == _bare(got)


def _is_number_as_text(wanted: Any, got: Any) -> bool:
    """12.5 given as "12,50", or as "12.5"; with words beside it, it is still the number."""
    if plain_number(wanted) is None or isinstance(wanted, str) or not isinstance(got, str):
        return False
    found, words = one_numeral(got)
    same = bool(found) and any(close(one, float(wanted)) for one in found)
    return same and (not words or unit_of(words) is not None or currency_of(words) is not None)


# Dates.


def _dates(wanted: Any, got: Any) -> tuple[date, date] | None:
    one = read_date(wanted) if isinstance(wanted, str) else None
    if one is None:
        return None
    other = read_date(got)
    return (one, other) if other is not None else None


def _is_swapped_day(wanted: Any, got: Any) -> bool:
    """The twelfth of May for the fifth of December, and a date that has its day where the month belongs."""
    one = read_date(wanted) if isinstance(wanted, str) else None
    if one is None or not isinstance(got, str) or one.day == one.month:
        return False
    numbers = [int(part) for part in re.findall(r"\d{1,9}", got)[:3]]
    if re.fullmatch(r"\s*\d{4}-\d{1,2}-\d{1,2}\s*", got):
        return numbers == [one.year, one.day, one.month]
    other = read_date(got)
    if other is None or one.day > 12:
        return False
    return other == date(one.year, one.day, one.month)


_LETTER_AND_DIGIT = re.compile(r"[^\W\d_]\d|\d[^\W\d_]")


def _is_other_way(wanted: Any, got: Any) -> bool:
    """The same day, time or amount, written in another way than the rule takes."""
    found = _dates(wanted, got)
    if found and found[0] == found[1]:
        return True
    if not isinstance(wanted, str) or not isinstance(got, str):
        return False
    (one, words), (other, said) = one_numeral(wanted), one_numeral(got)
    if not one or not other or not words or said not in (words, "") or not close(other[0], one[0]):
        return False
    # A letter against a digit is a part of a name, as in "1A", where it is neither a unit nor a currency.
    return bool(unit_of(words) or currency_of(words)) or not any(map(_LETTER_AND_DIGIT.search, (wanted, got)))


def _is_year_off(wanted: Any, got: Any) -> bool:
    found = _dates(wanted, got)
    return bool(found and found[0].year != found[1].year and found[0].timetuple()[1:3] == found[1].timetuple()[1:3])


# Numbers.


def _digits(value: Any) -> str | None:
    """The significant digits of a number, as it is written or as it is."""
    if isinstance(value, str):
        found, _ = one_numeral(value)
        text = re.sub(r"[^\d.,]", "", value) if found else ""
    else:
        number = plain_number(value)
        text = "" if number is None else f"{number:.10f}"
    return re.sub(r"\D", "", text).strip("0") or None


def _numbers(wanted: Any, got: Any) -> tuple[list[float], list[float]]:
    return one_numeral(wanted)[0], one_numeral(got)[0]


def _ratio(wanted: Any, got: Any) -> float | None:
    one, other = _numbers(wanted, got)
    return abs(other[0] / one[0]) if one and other and one[0] else None


def _is_ten_times(wanted: Any, got: Any) -> bool:
    ratio = _ratio(wanted, got)
    return ratio is not None and any(abs(ratio - times) < 1e-9 * times for times in (10, 100, 0.1, 0.01))


def _is_separator(wanted: Any, got: Any) -> bool:
    """The same digits with the separator at another place: 1.234 for 1234, 123.45 for 1.2345."""
    one, other = _digits(wanted), _digits(got)
    return one is not None and one == other and len(one) > 1 and _ratio(wanted, got) not in (None, 1.0)


def _texts(wanted: Any, got: Any) -> tuple[str, str] | None:
    """Two values as they would be written, with the same number of decimals."""
    if isinstance(wanted, str) and isinstance(got, str):
        return wanted.strip(), got.strip()
    one, other = plain_number(wanted), plain_number(got)
    if one is None or other is None:
        return None
    places = max(_decimals(wanted), _decimals(got))
    return f"{one:.{places}f}", f"{other:.{places}f}"


def _decimals(value: Any) -> int:
    _, _, rest = str(value).partition(".")
    return min(len(rest.rstrip("0")), 6) if rest.isdigit() else 0


def _is_digits_swapped(wanted: Any, got: Any) -> bool:
    """Two neighbouring digits have changed places, and nothing else differs."""
    found = _texts(wanted, got)
    if found is None or len(found[0]) != len(found[1]):
        return False
    apart = [n for n, (one, other) in enumerate(zip(*found, strict=True)) if one != other]
    if len(apart) != 2:
        return False
    first, second = apart
    between = found[0][first + 1 : second]
    return (
        found[0][first].isdigit()
        and found[0][second].isdigit()
        and not any(char.isalnum() for char in between)
        and found[0][first] == found[1][second]
        and found[0][second] == found[1][first]
    )


def _is_glyph(wanted: Any, got: Any) -> bool:
    if isinstance(wanted, str) and isinstance(got, str):
        return is_glyph_slip(wanted, got)
    if isinstance(got, str) and plain_number(wanted) is not None:
        return is_glyph_slip(str(wanted), got)
    return False


# Units, currencies, and what was left off.


def _is_unit(wanted: Any, got: Any) -> bool:
    """The same number with another unit, or the amount that another unit comes to."""
    (one, words), (other, said) = one_numeral(wanted), one_numeral(got)
    units = unit_of(words), unit_of(said)
    if not one or not other:
        return False
    if units[0] and units[1]:
        return units[0] != units[1]
    named = units[1] if not isinstance(wanted, str) else None
    if named is None or currency_of(said):
        return False
    kind, size = UNITS[named]
    times = {round(factor / size, 12) for other_kind, factor in UNITS.values() if other_kind == kind}
    ratio = other[0] / one[0] if one[0] else 0.0
    return any(abs(ratio - share) < 1e-9 * max(share, 1e-9) for share in times if share != 1.0)


def _is_currency(wanted: Any, got: Any) -> bool:
    (one, words), (other, said) = one_numeral(wanted), one_numeral(got)
    codes = currency_of(words), currency_of(said)
    same = bool(one and other and close(other[0], one[0]))
    return same and None not in codes and codes[0] != codes[1]


def _is_cut_short(wanted: Any, got: Any) -> bool:
    if isinstance(wanted, str) and isinstance(got, str):
        begun = got.strip().removesuffix("...").removesuffix("…").rstrip()
        return 0 < len(begun) < len(wanted.strip()) and wanted.strip().casefold().startswith(begun.casefold())
    if isinstance(wanted, list) and isinstance(got, list):
        return len(got) < len(wanted) and all(one in wanted for one in got)
    return False


_TESTS: tuple[tuple[str, Callable[[Any, Any], bool]], ...] = (
    (LETTER_CASE_SPACES_OR_ACCENTS, _is_case_or_space),
    (NUMBER_AS_TEXT, _is_number_as_text),
    (DAY_AND_MONTH_SWAPPED, _is_swapped_day),
    (ANOTHER_WAY_OF_WRITING, _is_other_way),
    (YEAR_OFF, _is_year_off),
    (ANOTHER_CURRENCY, _is_currency),
    (ANOTHER_UNIT, _is_unit),
    (GLYPHS_MISREAD, _is_glyph),
    (OFF_BY_A_POWER_OF_TEN, _is_ten_times),
    (SEPARATOR_MISREAD, _is_separator),
    (DIGITS_SWAPPED, _is_digits_swapped),
    (CUT_SHORT, _is_cut_short),
)
_WORDS_ALONE = (_is_case_or_space, _is_glyph, _is_cut_short)
_TESTS_OF_WORDS = tuple((name, explains) for name, explains in _TESTS if explains in _WORDS_ALONE)
"""Those that can explain a difference of texts without a digit."""
