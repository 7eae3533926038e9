"""Fields as they are named on a command line → the JSON Schema of the answer.

`total:number`, `date:date`, `street?`, `items[].name`, `items[].price:number`, `buyer.town`: a type behind a colon,
`?` for what may be missing, `[]` for a list, a dot for a member within.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from drovik.errors import Problem, UsageError, known_words

_TYPES: dict[str, dict[str, Any]] = {
    "string": {"type": "string"},
    "number": {"type": "number"},
    "integer": {"type": "integer"},
    "boolean": {"type": "boolean"},
    "date": {"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}$", "description": "YYYY-MM-DD"},
    "time": {"type": "string", "pattern": r"^\d{2}:\d{2}(:\d{2})?$", "description": "HH:MM"},
    "array": {"type": "array"},
    "object": {"type": "object"},
}
_FIELD = re.compile(r"(?P<path>[^:?]+?)(?P<may_lack>\?)?(?::(?P<kind>[^?]*))?(?P<may_lack_too>\?)?")
_STEP = re.compile(r"[^.\[\]]+(?:\[\])*")


def schema_of_fields(fields: Sequence[str]) -> dict[str, Any]:
    """The schema of an object with these fields. What may be missing (`?`) is not there, or null.

    :raises UsageError: where a type is unknown, or a field has no name.
    """
    made = _object()
    for field in fields:
        match = _FIELD.fullmatch(field.strip())
        kind = (match["kind"] or "string") if match else ""
        if match is None or not all(_STEP.fullmatch(one) for one in match["path"].split(".")):
            remedy = "write it like street?, total:number or items[].name"
            raise UsageError(Problem(f"--field: '{field}' is not a field", remedy))
        if kind not in _TYPES:
            raise UsageError(Problem(f"--field {field}: there is no type '{kind}'", known_words(kind, _TYPES)))
        _put(made, match["path"].split("."), dict(_TYPES[kind]), bool(match["may_lack"] or match["may_lack_too"]))
    return made


def _object() -> dict[str, Any]:
    return {"type": "object", "properties": {}, "required": [], "additionalProperties": False}


def _put(inside: dict[str, Any], steps: Sequence[str], leaf: dict[str, Any], may_lack: bool) -> None:
    """Put a field into a schema of an object, with all that leads to it."""
    name, *rest = steps
    bare = name.replace("[]", "")
    depth = name.count("[]")
    there = inside["properties"].get(bare)
    if rest:
        within = there if there is not None else _listed(_object(), depth)
        _put(_innermost(within), rest, leaf, may_lack)
        inside["properties"][bare] = within
    else:
        made = _listed(leaf, depth)
        inside["properties"][bare] = {**made, "type": [made["type"], "null"]} if may_lack else made
    lacks = may_lack and not rest
    if not lacks and bare not in inside["required"]:
        inside["required"].append(bare)


def _listed(schema: dict[str, Any], depth: int) -> dict[str, Any]:
    for _ in range(depth):
        schema = {"type": "array", "items": schema}
    return schema


def _innermost(schema: dict[str, Any]) -> dict[str, Any]:
    """The object that a list of lists of objects is made of."""
    while schema.get("type") == "array":
        schema = schema["items"]
    if schema.get("type") != "object" or "properties" not in schema:
        schema.update(_object())
    return schema
