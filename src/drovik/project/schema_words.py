"""A JSON Schema in words, an example of it, and the same with every member required."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from drovik.errors import Problem, UsageError
from drovik.project.schemas import SchemaChecker

MOST_DEPTH = 40
MOST_NAMED = 12
"""Values of an enumeration that are named."""
_KINDS = {
    "string": "a text", "number": "a number", "integer": "a whole number", "boolean": "true or false",
    "null": "null", "array": "a list", "object": "an object",
}  # fmt: skip
_BOUNDS = {
    "minimum": "at least {}", "maximum": "at most {}", "exclusiveMinimum": "above {}", "exclusiveMaximum": "below {}",
    "minLength": "of at least {} characters", "maxLength": "of at most {} characters",
    "minItems": "of at least {}", "maxItems": "of at most {}", "pattern": "of the form {}", "format": "a {}",
    "multipleOf": "a multiple of {}",
}  # fmt: skip


def in_words(schema: Mapping[str, Any]) -> list[str]:
    """What a value that fits is, a line for each member."""
    return [f"{'  ' * depth}{line}" for depth, line in _lines(schema, schema, "the answer", "", 0)]


def _resolved(part: Any, root: Mapping[str, Any]) -> dict[str, Any]:
    """A part with its reference put in; references that lead nowhere, or round, are left."""
    for _ in range(MOST_DEPTH):
        if not isinstance(part, dict):
            return {}
        reference = part.get("$ref")
        if not isinstance(reference, str) or not reference.startswith("#"):
            return part
        found: Any = root
        for step in reference.removeprefix("#").split("/")[1:]:
            name = step.replace("~1", "/").replace("~0", "~")
            found = found.get(name) if isinstance(found, dict) else None
        part = found
    return {}


def _lines(part: Any, root: Mapping[str, Any], name: str, more: str, depth: int) -> Iterator[tuple[int, str]]:
    one = _resolved(part, root)
    told = f"{name}: {_told(one, root)}{more}"
    if depth > MOST_DEPTH:
        yield depth, told
        return
    yield depth, f"{told}; {one['description']}" if isinstance(one.get("description"), str) else told
    required = one.get("required") if isinstance(one.get("required"), list) else []
    members = one.get("properties") if isinstance(one.get("properties"), dict) else {}
    for key, inner in (members or {}).items():
        yield from _lines(inner, root, key, "" if key in (required or []) else ", may be left out", depth + 1)
    items = _resolved(one.get("items"), root) if one.get("items") is not None else {}
    if items.get("properties") or items.get("items"):
        yield from _lines(items, root, "each", "", depth + 1)


def _told(one: Mapping[str, Any], root: Mapping[str, Any]) -> str:
    """What a value is, in few words."""
    for word in ("anyOf", "oneOf"):
        if isinstance(one.get(word), list):
            return " or ".join(_told(_resolved(part, root), root) for part in one[word])
    if "const" in one:
        return f"always {_plain(one['const'])}"
    if isinstance(one.get("enum"), list):
        values = [_plain(value) for value in one["enum"]]
        left = f" and {len(values) - MOST_NAMED} more" if len(values) > MOST_NAMED else ""
        return f"one of {', '.join(values[:MOST_NAMED])}{left}"
    kinds = one.get("type")
    names = [kinds] if isinstance(kinds, str) else kinds if isinstance(kinds, list) else []
    told = " or ".join(_KINDS.get(str(kind), str(kind)) for kind in names) or "anything"
    bounds = [words.format(_plain(one[key])) for key, words in _BOUNDS.items() if key in one]
    if "minItems" in one and one["minItems"] == one.get("maxItems"):
        told, bounds = f"{told} of {_plain(one['minItems'])}", [text for text in bounds if "of at" not in text]
    told = ", ".join([told, *bounds])
    items = _resolved(one.get("items"), root) if "items" in one else None
    if items is not None and not items.get("properties") and not items.get("items"):
        told += f", each {_told(items, root)}"
    return told


def _plain(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def example_of(schema: Mapping[str, Any]) -> Any:
    """A value that fits a schema, with all of its members.

    :raises UsageError: where none that is made so fits, for a pattern or a condition that it does not see through.
    """
    found = _example(schema, schema, "", 0)
    wrong = SchemaChecker(schema).mismatches(found, 1)
    if wrong:
        place = "".join(f"/{step}" for step in wrong[0].steps) or "the whole"
        what = f"no example is found for this schema: {place}: {wrong[0].words[:160]}"
        raise UsageError(Problem(what, "write one into it: examples = [ … ]"))
    return found


def _example(part: Any, root: Mapping[str, Any], name: str, depth: int) -> Any:
    one = _resolved(part, root)
    for key in ("examples", "enum"):
        if isinstance(one.get(key), list) and one[key]:
            return one[key][0]
    for key in ("const", "default"):
        if key in one:
            return one[key]
    for key in ("anyOf", "oneOf", "allOf"):
        if isinstance(one.get(key), list) and one[key]:
            return _example({**one[key][0], **{k: v for k, v in one.items() if k != key}}, root, name, depth + 1)
    kinds = one.get("type")
    kind = kinds if isinstance(kinds, str) else next(iter(kinds), "null") if isinstance(kinds, list) else _guess(one)
    if depth > MOST_DEPTH:
        return None
    if kind == "object":
        members = one.get("properties") if isinstance(one.get("properties"), dict) else {}
        return {key: _example(inner, root, key, depth + 1) for key, inner in (members or {}).items()}
    if kind == "array":
        many = max(1, int(one.get("minItems", 1)))
        return [_example(one.get("items", {}), root, name, depth + 1)] * min(many, 1000) if one.get("items") else []
    return _plain_example(kind, one, name)


def _guess(one: Mapping[str, Any]) -> str:
    return "object" if "properties" in one else "array" if "items" in one else "string"


def _plain_example(kind: str, one: Mapping[str, Any], name: str) -> Any:
    if kind in ("number", "integer"):
        low = one.get("minimum", one.get("exclusiveMinimum", 0))
        value = low + 1 if "exclusiveMinimum" in one else max(low, 0) if "maximum" not in one else low
        step = one.get("multipleOf")
        return value if not step else step * -(-value // step)
    if kind == "boolean":
        return True
    if kind == "null":
        return None
    if r"\d{4}-\d{2}-\d{2}" in str(one.get("pattern", "")) or one.get("format") == "date":
        return "2026-03-04"
    if r"\d{2}:\d{2}" in str(one.get("pattern", "")) or one.get("format") == "time":
        return "14:05"
    text = name or "text"
    text += "x" * max(0, int(one.get("minLength", 0)) - len(text))
    return text[: int(one.get("maxLength", len(text)))]


def all_required(schema: Mapping[str, Any]) -> dict[str, Any]:
    """The same schema for services that demand every member: what may be left out may be null instead, and no
    others may come.
    """
    found: dict[str, Any] = _required(dict(schema), 0)
    return found


def _required(part: Any, depth: int) -> Any:
    if not isinstance(part, dict) or depth > MOST_DEPTH:
        return part
    found = {key: _within(key, value, depth) for key, value in part.items()}
    members = found.get("properties")
    if isinstance(members, dict):
        had = part.get("required") if isinstance(part.get("required"), list) else []
        found["properties"] = {
            name: inner if name in (had or []) else _nullable(inner) for name, inner in members.items()
        }
        found["required"] = list(members)
        found["additionalProperties"] = False
    return found


def _within(key: str, value: Any, depth: int) -> Any:
    if key in ("properties", "$defs", "definitions", "patternProperties") and isinstance(value, dict):
        return {name: _required(inner, depth + 1) for name, inner in value.items()}
    if key in ("anyOf", "oneOf", "allOf", "prefixItems") and isinstance(value, list):
        return [_required(inner, depth + 1) for inner in value]
    return _required(value, depth + 1) if key in ("items", "additionalProperties", "not", "contains") else value


def _nullable(part: Any) -> Any:
    """A schema that lets null through too."""
    if not isinstance(part, dict):
        return part
    kinds = part.get("type")
    if isinstance(kinds, str) and not any(key in part for key in ("enum", "const")):
        return part if kinds == "null" else {**part, "type": [kinds, "null"]}
    if isinstance(kinds, list) and not any(key in part for key in ("enum", "const")):
        return part if "null" in kinds else {**part, "type": [*kinds, "null"]}
    if isinstance(part.get("anyOf"), list):
        return part if {"type": "null"} in part["anyOf"] else {**part, "anyOf": [*part["anyOf"], {"type": "null"}]}
    return {"anyOf": [part, {"type": "null"}]}
