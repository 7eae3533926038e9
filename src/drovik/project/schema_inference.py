"""Examples → the JSON Schema that they all fit, as narrow as they give reason for."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from drovik.errors import Problem, UsageError

MOST_VALUES = 30
"""Different texts of an enumeration."""
_EACH = 2
"""How often a text comes on average where texts are values of a list and not free: each twice."""
_FEWEST = 4
"""Of fewer texts nobody can tell whether they repeat."""
MOST_DEPTH = 30
_DATE = re.compile(r"\d{4}-\d{2}-\d{2}")
_TIME = re.compile(r"\d{2}:\d{2}(:\d{2})?")
DATE_PATTERN = r"^\d{4}-\d{2}-\d{2}$"
"""Of a date: not every service heeds `format`."""
_PATTERNS = {
    _DATE: {"pattern": DATE_PATTERN, "description": "YYYY-MM-DD"},
    _TIME: {"pattern": r"^\d{2}:\d{2}(:\d{2})?$", "description": "HH:MM"},
}
_WHOLE, _NUMBER = re.compile(r"[+-]?\d{1,15}"), re.compile(r"[+-]?\d{1,15}(\.\d{1,15})?([eE][+-]?\d{1,3})?")


def infer_schema(examples: Sequence[Any]) -> dict[str, Any]:
    """The schema of some values.

    Members that are not in all of them are optional, what is null somewhere may be null, texts that repeat are an
    enumeration, dates and times have their form, texts and lists have a maximum with room.

    :raises UsageError: where there is no example, or they are nested too deep.
    """
    if not examples:
        raise UsageError(Problem("there are no examples", "give a file with a value in each line"))
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **_of(list(examples), 0)}


def _of(values: list[Any], depth: int) -> dict[str, Any]:
    if depth > MOST_DEPTH:
        raise UsageError(Problem(f"the examples are nested deeper than {MOST_DEPTH}", "leave the depths out"))
    kinds: dict[str, list[Any]] = {}
    for one in values:
        kinds.setdefault(_kind(one), []).append(one)
    if set(kinds) >= {"integer", "number"}:
        kinds["number"] += kinds.pop("integer")
    may_be_null = bool(kinds.pop("null", None))
    found = [_of_kind(kind, those, depth) for kind, those in kinds.items()]
    if not found:
        return {"type": "null"}
    if len(found) == 1:
        return _or_null(found[0]) if may_be_null else found[0]
    return {"anyOf": [*found, *([{"type": "null"}] if may_be_null else [])]}


def _kind(value: Any) -> str:
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "boolean"
    if isinstance(value, int):
        return "integer"
    if isinstance(value, float):
        return "number"
    if isinstance(value, str):
        return "string"
    return "array" if isinstance(value, list) else "object"


def _or_null(schema: dict[str, Any]) -> dict[str, Any]:
    found = {**schema, "type": [schema["type"], "null"]}
    return found | ({"enum": [*schema["enum"], None]} if "enum" in schema else {})


def _of_kind(kind: str, values: list[Any], depth: int) -> dict[str, Any]:
    if kind == "object":
        return _of_objects(values, depth)
    if kind == "array":
        elements = [element for one in values for element in one]
        found: dict[str, Any] = {"type": "array"} | ({"items": _of(elements, depth + 1)} if elements else {})
        return found | {"maxItems": _with_room(max(map(len, values)))}
    return _of_texts(values) if kind == "string" else {"type": kind}


def _of_objects(values: list[dict[str, Any]], depth: int) -> dict[str, Any]:
    members: dict[str, list[Any]] = {}
    for one in values:
        for name, value in one.items():
            members.setdefault(name, []).append(value)
    return {
        "type": "object",
        "properties": {name: _of(those, depth + 1) for name, those in members.items()},
        "required": [name for name, those in members.items() if len(those) == len(values)],
        "additionalProperties": False,
    }


def _of_texts(values: list[str]) -> dict[str, Any]:
    for form, said in _PATTERNS.items():
        if all(form.fullmatch(one) for one in values):
            return {"type": "string", **said}
    counts = Counter(values)
    repeats = len(values) >= max(_FEWEST, _EACH * len(counts))
    if len(counts) <= MOST_VALUES and repeats and max(map(len, counts)) <= 100:
        return {"type": "string", "enum": sorted(counts)}
    return {"type": "string", "maxLength": _with_room(max(map(len, values)))}


def _with_room(most: int) -> int:
    """A round number with as much room again: 1, 2 or 5 times a power of ten."""
    wanted = max(2 * most, 4)
    step = 1
    while 10 * step < wanted:
        step *= 10
    return min(base * step for base in (1, 2, 5, 10) if base * step >= wanted)


def values_of_table(rows: Iterable[Mapping[str, str]]) -> list[dict[str, Any]]:
    """The rows of a table of texts as objects: empty cells left out, numbers where a whole column has them."""
    found = [dict(row) for row in rows]
    columns = list(dict.fromkeys(name for row in found for name in row))
    kinds = {name: _column_kind([row[name] for row in found if row.get(name)]) for name in columns}
    return [
        {name: kinds[name](cell) for name, cell in row.items() if cell is not None and cell != ""} for row in found
    ]


def _column_kind(cells: Sequence[str]) -> Any:
    """What a column's cells are read with: a number with a leading zero is a text, such as a postcode."""
    if cells and not any(re.match(r"[+-]?0\d", one) for one in cells):
        if all(_WHOLE.fullmatch(one) for one in cells):
            return int
        if all(_NUMBER.fullmatch(one) for one in cells):
            return float
    if cells and {one.lower() for one in cells} <= {"true", "false"}:
        return lambda cell: cell.lower() == "true"
    return str


def member_of(value: Any, member: str) -> Any:
    """A member within a value, by names with dots between; None where it is not there."""
    for name in member.split("."):
        value = value.get(name) if isinstance(value, dict) else None
    return value


def is_schema(value: Any) -> bool:
    """Whether a JSON value looks like a schema, and not like an example."""
    names = {"$schema", "type", "properties", "anyOf", "oneOf", "allOf", "enum", "$ref", "items", "const", "$defs"}
    if not isinstance(value, dict) or not names & value.keys():
        return False
    kind = value.get("type")
    return kind is None or kind in _TYPES or (isinstance(kind, list) and all(one in _TYPES for one in kind))


_TYPES = ("object", "array", "string", "number", "integer", "boolean", "null")


def schema_text(schema: Mapping[str, Any]) -> str:
    """A schema as it is written to a file."""
    return json.dumps(schema, ensure_ascii=False, indent=2) + "\n"
