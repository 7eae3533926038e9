"""Causes: the kinds of misses, each a small test in a table; the first that explains a difference names it."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import date
from typing import Any

from drovik.scoring.dates import read_date

OF_STATUS = {
    "off_schema": "off the schema",
    "not_json": "no JSON in the answer",
    "cut_off": "cut off at the output limit",
    "refused": "refused",
    "empty": "empty answer",
}
"""The cause of a miss whose answer is not in form."""

OTHER = "another value"


def label_cause(expected: str, got: Any, labels: Sequence[str], fold: Callable[[str], str]) -> str:
    """Why a label was missed.

    :param fold: how labels are compared.
    """
    if not isinstance(got, str):
        return "no label at its place"
    said, wanted = fold(got), fold(expected)
    for name, explains in _LABEL_CAUSES:
        if explains(said, wanted):
            return name
    if any(said == fold(label) for label in labels):
        return "another label"
    if any(explains(said, fold(label)) for label in labels for _, explains in _LABEL_CAUSES):
        return "another label"
    return "outside the list"


def _is_plural(said: str, wanted: str) -> bool:
    plurals = {f"{wanted}s", f"{wanted}es"}
    if wanted.endswith("y"):
        plurals.add(f"{wanted[:-1]}ies")
    if wanted.endswith(("f", "fe")):
        plurals.add(f"{wanted.removesuffix('e').removesuffix('f')}ves")
    return said in plurals


def _has_other_words(said: str, wanted: str) -> bool:
    return said != wanted and re.search(rf"(?<!\w){re.escape(wanted)}(?!\w)", said) is not None


def _is_plural_with_words(said: str, wanted: str) -> bool:
    return any(_is_plural(word, wanted) for word in said.split())


_LABEL_CAUSES: tuple[tuple[str, Callable[[str, str], bool]], ...] = (
    ("letter case", lambda said, wanted: said.casefold() == wanted.casefold()),
    ("plural of the label", lambda said, wanted: _is_plural(said.casefold(), wanted.casefold())),
    ("other words around the label", _has_other_words),
    ("plural of the label, among other words", _is_plural_with_words),
)


def field_cause(expected: Any, got: Any) -> str:
    """Why a field's value is wrong."""
    for name, explains in _FIELD_CAUSES:
        if explains(expected, got):
            return name
    return OTHER


def _number_of(value: Any) -> float | None:
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return float(value)
    if isinstance(value, str):
        try:
            return float(value.strip())
        except ValueError:
            return None
    return None


def _swapped(expected: Any, got: Any) -> bool:
    wanted, said = read_date(expected), read_date(got)
    if wanted is None or said is None or wanted.day > 12:
        return False
    return said == date(wanted.year, wanted.day, wanted.month)


def _is_times(expected: Any, got: Any) -> bool:
    wanted, said = _number_of(expected), _number_of(got)
    if not wanted or not said:
        return False
    return any(abs(said / wanted - share) < 1e-9 * share for share in (10, 100, 1000, 0.1, 0.01, 0.001))


def _is_comma_number(expected: Any, got: Any) -> bool:
    wanted = _number_of(expected)
    if wanted is None or not isinstance(got, str) or not re.fullmatch(r"\s*-?\d+,\d+\s*", got):
        return False
    return float(got.strip().replace(",", ".")) == wanted


_GLYPHS = str.maketrans("OolIi|SsBZzGg", "0011115582266")


def _is_glyph(expected: Any, got: Any) -> bool:
    if not isinstance(expected, str) or not isinstance(got, str) or expected == got:
        return False
    return expected.translate(_GLYPHS).casefold() == got.translate(_GLYPHS).casefold()


def _is_case_or_space(expected: Any, got: Any) -> bool:
    if not isinstance(expected, str) or not isinstance(got, str):
        return False
    return "".join(expected.split()).casefold() == "".join(got.split()).casefold()


def _is_cut_short(expected: Any, got: Any) -> bool:
    if isinstance(expected, str) and isinstance(got, str):
        return 0 < len(got.strip()) < len(expected) and expected.startswith(got.strip())
    if isinstance(expected, list) and isinstance(got, list):
        return len(got) < len(expected) and all(one in expected for one in got)
    return False


_FIELD_CAUSES: tuple[tuple[str, Callable[[Any, Any], bool]], ...] = (
    ("day and month swapped", _swapped),
    ("decimal comma", _is_comma_number),
    ("ten, a hundred or a thousand times", _is_times),
    ("letter case or spaces", _is_case_or_space),
    ("glyphs misread", _is_glyph),
    ("cut short", _is_cut_short),
)
