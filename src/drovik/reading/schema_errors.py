"""What is off the schema in an answer: each error with its place as a JSON Pointer, in few words."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from jsonschema import Draft202012Validator, ValidationError

MOST_ERRORS = 20
_SHOWN = 60


@dataclass(frozen=True)
class SchemaError:
    """An error at a place; the place of the whole answer is the empty JSON Pointer."""

    at: str
    what: str


def pointer(steps: Iterable[object]) -> str:
    """A JSON Pointer (RFC 6901) from its steps."""
    return "".join("/" + str(step).replace("~", "~0").replace("/", "~1") for step in steps)


def schema_errors(validator: Draft202012Validator, value: object) -> tuple[SchemaError, ...]:
    """The first errors of a value against a schema, in the order of their places."""
    found: list[SchemaError] = []
    try:
        for error in validator.iter_errors(value):
            found.append(SchemaError(pointer(error.absolute_path), _what(error)))
            if len(found) >= MOST_ERRORS:
                break
    except RecursionError:
        found.append(SchemaError("", "is nested too deeply to be checked"))
    return tuple(sorted(found, key=lambda one: one.at))


def _what(error: ValidationError) -> str:
    rule, got = str(error.validator), error.instance
    wanted: Any = error.validator_value
    words = {
        "type": f"{_short(got)} is not {_types(wanted)}",
        "enum": f"{_short(got)} is none of {_short(wanted, 160)}",
        "const": f"{_short(got)} is not {_short(wanted)}",
        "pattern": f"{_short(got)} does not match {wanted}",
        "minimum": f"{_short(got)} is below {wanted}",
        "maximum": f"{_short(got)} is above {wanted}",
        "minLength": f"{_short(got)} is shorter than {wanted}",
        "maxLength": f"{_short(got)} is longer than {wanted}",
        "minItems": f"has fewer than {wanted} elements",
        "maxItems": f"has more than {wanted} elements",
    }
    if rule == "required" and isinstance(got, dict):
        missing = [name for name in wanted if name not in got]
        # One error comes per missing name; its own message names it.
        name = next((one for one in missing if repr(one) in error.message), missing[0] if missing else "")
        return f"the member '{name}' is missing"
    if rule == "additionalProperties" and isinstance(got, dict) and wanted is False:
        known = set(error.schema.get("properties", {})) if isinstance(error.schema, dict) else set()
        extra = ", ".join(f"'{name}'" for name in got if name not in known)
        return f"has members that the schema does not know: {extra[:160]}"
    return words.get(rule) or error.message[:200]


def _types(wanted: Any) -> str:
    names = wanted if isinstance(wanted, list) else [wanted]
    articles = {"integer": "a whole number", "array": "a list", "object": "an object", "null": "null"}
    return " or ".join(articles.get(str(name), f"a {name}") for name in names)


def _short(value: object, most: int = _SHOWN) -> str:
    try:
        text = json.dumps(value, ensure_ascii=False)
    except (RecursionError, ValueError, TypeError):
        text = str(type(value).__name__)
    return text if len(text) <= most else text[: most - 1] + "…"
