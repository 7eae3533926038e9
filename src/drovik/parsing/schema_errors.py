"""What is off the schema in an answer: each error with its place as a JSON Pointer, in few words."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from drovik.project.schemas import Mismatch, SchemaChecker
from drovik.text import cut

MOST_ERRORS = 20
"""Errors kept of one answer: the rest repeats them."""
_SHOWN = 60
"""Characters of a value in a message."""


@dataclass(frozen=True)
class SchemaError:
    """An error at a place; the place of the whole answer is the empty JSON Pointer.

    `rule` is the keyword of JSON Schema that is broken; it is empty for what is no matter of the schema, as a number
    that no double holds.
    """

    at: str
    what: str
    rule: str = ""


def pointer(steps: Iterable[object]) -> str:
    """A JSON Pointer (RFC 6901) from its steps."""
    return "".join("/" + str(step).replace("~", "~0").replace("/", "~1") for step in steps)


def schema_errors(checker: SchemaChecker, value: object) -> tuple[SchemaError, ...]:
    """The first errors of a value against a schema, in the order of their places."""
    found = [
        SchemaError(pointer(one.steps), _what(one, _at(value, one.steps)), one.rule)
        for one in checker.mismatches(value, MOST_ERRORS)
    ]
    return tuple(sorted(found, key=lambda one: one.at))


def _at(value: Any, steps: Iterable[str | int]) -> Any:
    for step in steps:
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            return None
    return value


def _what(error: Mismatch, got: Any) -> str:
    rule, wanted = error.rule, error.wanted
    if rule == "pattern" and wanted is None:
        return error.words
    words = {
        "type": lambda: f"{_short(got)} is not {_types(wanted)}",
        "enum": lambda: f"{_short(got)} is none of {_short(wanted, 160)}",
        "const": lambda: f"{_short(got)} is not {_short(wanted)}",
        "pattern": lambda: f"{_short(got)} does not match {str(wanted)[:160]}",
        "minimum": lambda: f"{_short(got)} is below {wanted}",
        "maximum": lambda: f"{_short(got)} is above {wanted}",
        "minLength": lambda: f"{_short(got)} is shorter than {wanted}",
        "maxLength": lambda: f"{_short(got)} is longer than {wanted}",
        "minItems": lambda: f"has fewer than {wanted} elements",
        "maxItems": lambda: f"has more than {wanted} elements",
    }
    if rule == "required":
        return f"the member '{str(wanted)[:100]}' is missing"
    if rule in ("additionalProperties", "unevaluatedProperties") and isinstance(wanted, list):
        extra = ", ".join(f"'{name}'" for name in wanted[:20])
        return f"has members that the schema does not know: {extra[:160]}"
    return words[rule]() if rule in words else error.words[:200]


def _types(wanted: Any) -> str:
    names = wanted if isinstance(wanted, list) else [wanted]
    articles = {"integer": "a whole number", "array": "a list", "object": "an object", "null": "null"}
    return " or ".join(articles.get(str(name), f"a {name}") for name in names)


def _short(value: object, most: int = _SHOWN) -> str:
    """A value in few characters; of a large one no more is written out than that."""
    if isinstance(value, str):
        value = value[:most]
    if isinstance(value, dict | list) and len(value) > most:
        return "a list" if isinstance(value, list) else "an object"
    try:
        text = json.dumps(value, ensure_ascii=False)
    except (RecursionError, ValueError, TypeError):
        text = str(type(value).__name__)
    return cut(text, most)
