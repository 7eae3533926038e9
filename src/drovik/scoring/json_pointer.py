"""Places in answers and expected outputs: JSON Pointers (RFC 6901), read once and followed often."""

from __future__ import annotations

import json
from functools import lru_cache
from typing import Annotated, Any

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import AfterValidator

ABSENT: Any = type("Absent", (), {"__repr__": lambda self: "ABSENT", "__bool__": lambda self: False})()
"""What stands at a place where nothing stands."""


@lru_cache(maxsize=4096)
def _steps(pointer: str) -> tuple[str, ...]:
    return tuple(JsonPointer(pointer).parts)


def at(value: Any, pointer: str) -> Any:
    """What stands at a JSON Pointer, or ABSENT."""
    if not pointer:
        return value
    for step in _steps(pointer):
        if isinstance(value, dict):
            value = value.get(step, ABSENT)
        elif isinstance(value, list):
            # RFC 6901: digits without leading zeros; '-' is the place behind the last, where nothing stands.
            known = step.isascii() and step.isdigit() and (step == "0" or step[0] != "0") and int(step) < len(value)
            value = value[int(step)] if known else ABSENT
        else:
            return ABSENT
    return value


def proper_pointer(pointer: str) -> str:
    """A JSON Pointer as it was written.

    :raises ValueError: where it is none.
    """
    try:
        JsonPointer(pointer)
    except JsonPointerException:
        raise ValueError(f"'{pointer}' is not a JSON Pointer; it begins with '/', like /kind") from None
    return pointer


Pointer = Annotated[str, AfterValidator(proper_pointer)]
"""A JSON Pointer in a table that a person wrote."""


def is_absent(value: Any) -> bool:
    """Whether nothing stands at a place: a null is as absent."""
    return value is ABSENT or value is None


def shown(value: Any) -> str:
    """A value as findings show it."""
    return "nothing" if is_absent(value) else json.dumps(value, ensure_ascii=False)
