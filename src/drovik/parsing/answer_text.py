"""What is read out of a reply, for one arm and one case.

A model's text → a reading: the value in it, its status, and how the value was found.

Statuses and ways of finding are those of the design; this is a pure function of text, form and schema.
"""

from __future__ import annotations

import json
import math
import re
import sys
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

from drovik.files import depth_exceeds
from drovik.parsing.find_json import MAX_DEPTH, find_in_long, find_json
from drovik.parsing.schema_errors import SchemaError, schema_errors
from drovik.parsing.status import Status
from drovik.project.schemas import SchemaChecker
from drovik.project.spending import Spending


class UnreadValue:
    """A value as JSON, which takes a fraction of the memory: it is read each time that somebody asks for it."""

    __slots__ = ("text",)

    def __init__(self, text: str) -> None:
        self.text = text

    def __eq__(self, other: object) -> bool:
        return bool(json.loads(self.text) == (json.loads(other.text) if isinstance(other, UnreadValue) else other))

    __hash__ = None  # type: ignore[assignment]


class _Members(NamedTuple):
    status: Status
    how: str = ""
    text: str = ""
    value: Any = None
    errors: tuple[SchemaError, ...] = ()
    note: str = ""
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    spent: Spending | None = None
    seconds: float | None = None
    pictures: tuple[Mapping[str, Any], ...] = ()


_VALUE = _Members._fields.index("value")


class Answer(_Members):
    """What is read out of a reply. Its tokens, money and seconds are those of the reply it was read from.

    `pictures` tell where the pictures come from that it is about, where a measure has to know.
    """

    __slots__ = ()

    @property
    def value(self) -> Any:
        """JSON for a JSON answer, else the text itself; None where there is none."""
        value = self[_VALUE]
        return json.loads(value.text) if type(value) is UnreadValue else value


READING_REVISION = 4
"""Raised when the same text may be read otherwise than before, so that kept readings are made again."""

How = Literal["bare", "fenced", "in_prose", "repaired", ""]

_MOST_CANDIDATES = 100
"""JSON values looked at in one text: an answer that holds more has lost its way."""
_MOST_WRONG = 20
"""Schema errors that a candidate is judged by."""
_MOST_DIGITS = 300
"""A number of more digits is text: nobody computes with it, and Python refuses thousands of them."""
_LARGEST: int = 10**_MOST_DIGITS
LONG = 300_000
"""Characters from which on a text is looked through at a glance: nothing nearly-JSON is made whole in it. Longer
answers are a model that has lost its way; to walk through twenty megabytes of those would take minutes.
"""
_LARGE_EXPONENT = re.compile(r"[eE][+-]?\d{3}")
_STRETCH = 150
"""Half of `_MOST_DIGITS`: a run of that many digits fills a whole stretch wherever it begins."""
_FENCE = re.compile(r"```[^\n`]*\n?(.*?)(?:```|\Z)", re.DOTALL)


@dataclass(frozen=True)
class Reading:
    """What was read out of a reply's text. `value` is JSON for a JSON answer, else the text itself."""

    status: Status
    how: How = ""
    value: Any = None
    errors: tuple[SchemaError, ...] = ()
    candidates: int = 0


@dataclass(frozen=True)
class _Candidate:
    how: How
    value: Any
    errors: tuple[SchemaError, ...]
    size: int


class Reader:
    """Reads the answers of one task. The schema is compiled once.

    :param form: "json" or "text".
    :param schema: what the answers are checked against; None lets any JSON through.
    """

    def __init__(self, form: str, schema: Mapping[str, Any] | None = None) -> None:
        self.form = form
        self._checker = SchemaChecker(schema) if schema is not None else None

    def read(self, text: str, cut_off: bool = False, refused: bool = False) -> Reading:
        """The reading of a text.

        :param cut_off: the service said that the output limit ended it.
        :param refused: the service said that it declined.
        """
        if refused:
            return Reading(Status.REFUSED, value=text)
        if not text.strip():
            return Reading(Status.CUT_OFF if cut_off else Status.EMPTY)
        if self.form == "text":
            return Reading(Status.CUT_OFF if cut_off else Status.OK, value=text.strip())
        candidates, broken_off = self._candidates(text, cut_off)
        if not candidates:
            return Reading(Status.CUT_OFF if cut_off or broken_off else Status.NOT_JSON)
        best = _best(candidates)
        status = Status.OFF_SCHEMA if best.errors else Status.OK
        return Reading(status, best.how, best.value, best.errors, len(candidates))

    def _candidates(self, text: str, cut_off: bool) -> tuple[list[_Candidate], bool]:
        """Every JSON value in the text; nearly-JSON only if there is none. And whether one broke off.

        Within a container that the output limit broke off nothing counts: it is a part of an answer. Where
        the model itself just stopped, what is whole within counts, and so does all of it, closed up.
        """
        text = text.strip().removeprefix("\N{ZERO WIDTH NO-BREAK SPACE}").lstrip()
        bare = self._candidate("bare", text)
        if bare:
            return [bare], False
        if len(text) > LONG:
            return self._kept(("in_prose", one.json) for one in find_in_long(text)), False
        strict = find_json(text)
        fences = [match.span(1) for match in _FENCE.finditer(text)]
        found = self._kept((_how(text, one.start, one.end, fences), one.json) for one in strict.spans)
        if found:
            return found, False
        if cut_off and strict.cut_json is not None:
            return [], True
        lenient = find_json(text, lenient=True)
        mended: list[tuple[How, str]] = [("repaired", one.json) for one in lenient.spans]
        if not mended and not cut_off:
            mended = [("in_prose", one.json) for one in strict.within_cut]
            if lenient.cut_json not in (None, "{}", "[]"):
                mended.append(("repaired", str(lenient.cut_json)))
        return self._kept(mended), False

    def _kept(self, spans: Iterable[tuple[How, str]]) -> list[_Candidate]:
        every = list(spans)
        told = [one for one in every if len(one[1]) > 2] or every[:1]  # {} and [] say nothing beside others
        if len(told) > _MOST_CANDIDATES:
            largest = max(told, key=lambda one: len(one[1]))
            told = [largest, *told[-_MOST_CANDIDATES:]]
        return [one for one in (self._candidate(how, text) for how, text in told) if one is not None]

    def _candidate(self, how: How, text: str) -> _Candidate | None:
        wrong: list[str] = []
        hooks: dict[str, Any] = {}
        if _has_large_number(text):  # a call for each of ten million numbers takes longer than all else
            hooks["parse_int"] = lambda digits: _whole(digits, wrong)
            hooks["parse_float"] = lambda digits: _decimal(digits, wrong)
        try:
            value = json.loads(
                text, object_pairs_hook=lambda pairs: _members(pairs, wrong), parse_constant=_no_constant, **hooks
            )
        except (ValueError, RecursionError):
            return None
        if text.count("[") + text.count("{") > MAX_DEPTH and depth_exceeds(value, MAX_DEPTH):
            return None
        errors = tuple(SchemaError("", what) for what in dict.fromkeys(wrong[:_MOST_WRONG]))
        if self._checker is not None:
            errors += schema_errors(self._checker, value)
        return _Candidate(how, value, errors, len(text))


def _members(pairs: list[tuple[str, Any]], wrong: list[str]) -> dict[str, Any]:
    """An object's members; of a name that is there twice the last counts, as most parsers have it."""
    members = dict(pairs)
    if len(members) < len(pairs):
        for name, value in pairs:
            if members[name] != value:
                wrong.append(f"the member '{name[:100]}' is there twice, with different values")
    return members


def _has_large_number(text: str) -> bool:
    """Whether there may be a number in it that a double cannot hold.

    A run of 300 digits fills a whole stretch of 150 wherever it begins; a search for 300 of them takes a second.
    """
    stretches = (text[start : start + _STRETCH] for start in range(0, len(text), _STRETCH))
    return any(one.isdecimal() for one in stretches) or _LARGE_EXPONENT.search(text) is not None


def _whole(digits: str, wrong: list[str]) -> int:
    """A whole number; of one with hundreds of digits, which no double can hold and nobody means, the largest."""
    if len(digits) <= _MOST_DIGITS:
        return int(digits)
    wrong.append(f"there is a number of {len(digits)} digits")
    return -_LARGEST if digits.startswith("-") else _LARGEST


def _decimal(digits: str, wrong: list[str]) -> float:
    """A number with a point or exponent; of one beyond the largest double, that."""
    value = float(digits)
    if math.isinf(value):
        wrong.append(f"the number {digits[:40]} is too large")
        return math.copysign(sys.float_info.max, value)
    return value


def _no_constant(word: str) -> float:
    raise ValueError(f"{word} is not JSON")


def _how(text: str, start: int, end: int, fences: list[tuple[int, int]]) -> How:
    for first, last in fences:
        if first <= start and end <= last and not text[first:start].strip() and not text[end:last].strip():
            return "fenced"
    return "in_prose"


def _best(candidates: list[_Candidate]) -> _Candidate:
    """The last that fits the schema (a model that corrects itself means what it says last), else the largest."""
    fitting = [one for one in candidates if not one.errors]
    return fitting[-1] if fitting else max(candidates, key=lambda one: one.size)
