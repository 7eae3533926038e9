"""A model's text → a reading: the value in it, its status, and how the value was found.

Statuses and ways of finding are those of the design; this is a pure function of text, form and schema.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from drovik.project.schemas import validator_for
from drovik.reading.find_json import MAX_DEPTH, find_json
from drovik.reading.schema_errors import SchemaError, schema_errors

READING_REVISION = 1
"""Raised when the same text may be read otherwise than before, so that kept readings are made anew."""

Status = Literal["ok", "off_schema", "not_json", "cut_off", "refused", "empty", "failed"]
How = Literal["bare", "fenced", "in_prose", "mended", ""]

STATUSES: tuple[Status, ...] = ("ok", "off_schema", "not_json", "cut_off", "refused", "empty", "failed")
_MOST_CANDIDATES = 100
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
        self._validator = validator_for(schema) if schema is not None else None

    def read(self, text: str, cut_off: bool = False, refused: bool = False) -> Reading:
        """The reading of a text.

        :param cut_off: the service said that the output limit ended it.
        :param refused: the service said that it declined.
        """
        if refused:
            return Reading("refused", value=text)
        if not text.strip():
            return Reading("cut_off" if cut_off else "empty")
        if self.form == "text":
            return Reading("cut_off" if cut_off else "ok", value=text.strip())
        candidates, broken_off = self._candidates(text, cut_off)
        if not candidates:
            return Reading("cut_off" if cut_off or broken_off else "not_json")
        best = _best(candidates)
        status: Status = "off_schema" if best.errors else "ok"
        return Reading(status, best.how, best.value, best.errors, len(candidates))

    def _candidates(self, text: str, cut_off: bool) -> tuple[list[_Candidate], bool]:
        """Every JSON value in the text; nearly-JSON only where there is none. And whether one broke off.

        Within a container that the output limit broke off nothing counts: it is a part of an answer. Where
        the model itself just stopped, what is whole within counts, and so does all of it, closed up.
        """
        bare = self._candidate("bare", text.strip())
        if bare:
            return [bare], False
        strict = find_json(text)
        fences = [match.span(1) for match in _FENCE.finditer(text)]
        found = self._kept((_how(text, one.start, one.end, fences), one.json) for one in strict.spans)
        if found:
            return found, False
        if cut_off and strict.cut_json is not None:
            return [], True
        lenient = find_json(text, lenient=True)
        mended: list[tuple[How, str]] = [("mended", one.json) for one in lenient.spans]
        if not mended and not cut_off:
            mended = [("in_prose", one.json) for one in strict.within_cut]
            if lenient.cut_json not in (None, "{}", "[]"):
                mended.append(("mended", str(lenient.cut_json)))
        return self._kept(mended), False

    def _kept(self, spans: Iterable[tuple[How, str]]) -> list[_Candidate]:
        every = list(spans)
        told = [one for one in every if len(one[1]) > 2] or every[:1]  # {} and [] say nothing beside others
        if len(told) > _MOST_CANDIDATES:
            largest = max(told, key=lambda one: len(one[1]))
            told = [largest, *told[-_MOST_CANDIDATES:]]
        return [one for one in (self._candidate(how, text) for how, text in told) if one is not None]

    def _candidate(self, how: How, text: str) -> _Candidate | None:
        doubled: list[str] = []
        if _is_too_deep(text):
            return None
        try:
            value = json.loads(
                text, object_pairs_hook=lambda pairs: _members(pairs, doubled), parse_constant=_no_constant
            )
        except (ValueError, RecursionError):
            return None
        errors = tuple(
            SchemaError("", f"the member '{name}' stands there twice, with different values") for name in doubled
        )
        if self._validator is not None:
            errors += schema_errors(self._validator, value)
        return _Candidate(how, value, errors, len(text))


def _members(pairs: list[tuple[str, Any]], doubled: list[str]) -> dict[str, Any]:
    """An object's members; of a name that stands there twice the last counts, as most parsers have it."""
    members: dict[str, Any] = {}
    for name, value in pairs:
        if name in members and members[name] != value:
            doubled.append(name)
        members[name] = value
    return members


def _is_too_deep(text: str) -> bool:
    """Whether brackets are nested beyond what a parser can bear; those in strings count too, which errs safely."""
    if text.count("[") + text.count("{") <= MAX_DEPTH:
        return False
    depth = 0
    for char in text:
        depth += (char in "[{") - (char in "]}")
        if depth > MAX_DEPTH:
            return True
    return False


def _no_constant(word: str) -> float:
    raise ValueError(f"{word} is no JSON")


def _how(text: str, start: int, end: int, fences: list[tuple[int, int]]) -> How:
    for first, last in fences:
        if first <= start and end <= last and not text[first:start].strip() and not text[end:last].strip():
            return "fenced"
    return "in_prose"


def _best(candidates: list[_Candidate]) -> _Candidate:
    """The last that fits the schema (a model that corrects itself means what it says last), else the largest."""
    fitting = [one for one in candidates if not one.errors]
    return fitting[-1] if fitting else max(candidates, key=lambda one: one.size)
