"""Places in answers and expected outputs: JSON Pointers (RFC 6901), read once and followed often.

How stable the structure of JSON answers is that no schema holds together: which members come and go.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated, Any

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import AfterValidator

ABSENT: Any = type("Absent", (), {"__repr__": lambda self: "ABSENT", "__bool__": lambda self: False})()
"""What is at a place if there is nothing."""


@lru_cache(maxsize=4096)
def pointer_steps(pointer: str) -> tuple[str, ...]:
    """The steps of a JSON Pointer, unescaped."""
    return tuple(JsonPointer(pointer).parts)


def value_at_pointer(value: Any, pointer: str) -> Any:
    """What is at a JSON Pointer, or ABSENT."""
    if not pointer:
        return value
    for step in pointer_steps(pointer):
        if isinstance(value, dict):
            value = value.get(step, ABSENT)
        elif isinstance(value, list):
            # RFC 6901: digits without leading zeros; '-' is the place behind the last, if there is nothing.
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
    """Whether there is nothing at a place: a null is as absent."""
    return value is ABSENT or value is None


def shown(value: Any) -> str:
    """A value as findings show it."""
    return "nothing" if is_absent(value) else json.dumps(value, ensure_ascii=False)


MOST_DEPTH = 6
"""Levels of an answer whose structure is described."""
_NAMES = {bool: "true or false", int: "number", float: "number", str: "text", list: "list", dict: "object"}


@dataclass(frozen=True)
class Member:
    """A place in answers (a JSON Pointer, `*` for any element of a list): how many answers have it, and what kinds of
    value are there, with how often.
    """

    place: str
    answers: int
    kinds: tuple[tuple[str, int], ...]


@dataclass(frozen=True)
class Structure:
    """The members of some answers; `same` is the share of answers whose members are those of most."""

    answers: int
    same: float
    members: tuple[Member, ...]

    @property
    def changing(self) -> tuple[Member, ...]:
        """Those that are not in every answer, or not always of one kind; null is of any."""
        return tuple(
            one
            for one in self.members
            if one.answers < self.answers or len({k for k, _ in one.kinds if k != "null"}) > 1
        )


def structure_of(values: Iterable[Any]) -> Structure | None:
    """The structure of JSON answers; None if there are none."""
    shapes: Counter[frozenset[str]] = Counter()
    kinds: dict[str, Counter[str]] = {}
    count = 0
    for value in values:
        count += 1
        places = set()
        for place, kind in set(_places(value, "", MOST_DEPTH)):
            kinds.setdefault(place, Counter())[kind] += 1
            places.add(place)
        shapes[frozenset(places)] += 1
    if not count:
        return None
    present = Counter(place for shape, times in shapes.items() for place in shape for _ in range(times))
    members = tuple(
        Member(place, present[place], tuple(kinds[place].most_common())) for place in sorted(kinds, key=_in_order)
    )
    return Structure(count, shapes.most_common(1)[0][1] / count, members)


def _in_order(place: str) -> tuple[str, ...]:
    return tuple(place.split("/"))


def _places(value: Any, place: str, depth: int) -> Iterator[tuple[str, str]]:
    yield place, "null" if value is None else _NAMES.get(type(value), "text")
    if not depth:
        return
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from _places(inner, f"{place}/{name}", depth - 1)
    elif isinstance(value, list):
        for inner in value:
            yield from _places(inner, f"{place}/*", depth - 1)
