"""What a part of a sample was taken for.

JSON values as trees: their leaves with the paths to them, and copies with parts put in place of others.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from drovik.dialects.response import path_of


@dataclass(frozen=True)
class Inference:
    """What a part was taken for, and why. `sure` is False for a guess; `others` are what else it might have been."""

    role: str
    place: str
    value: str
    why: str
    sure: bool = True
    others: tuple[str, ...] = ()


Path = tuple[str | int, ...]


@dataclass(frozen=True)
class Evidence:
    """What the rest of a sample says of a request's parts.

    `handles` are what earlier requests got for pictures, `given` what they got beside those, `echoed` the texts that
    are in the replies too, `listed` what a request that only lists gave, `told` what the page says of names, `errors`
    the words of its sample errors.
    """

    handles: frozenset[str] = frozenset()
    given: frozenset[str] = frozenset()
    echoed: frozenset[str] = frozenset()
    listed: frozenset[str] = frozenset()
    told: Mapping[str, str] = field(default_factory=dict)
    errors: str = ""

    def of(self, names: tuple[str, ...]) -> str:
        """What the page says of the last of some names."""
        return self.told.get(names[-1], "") if names else ""


NOTHING = Evidence()


def leaves(tree: Any, at: Path = ()) -> Iterator[tuple[Path, Any]]:
    """Every value that holds no others, with its path."""
    if isinstance(tree, dict) and tree:
        for name, inner in tree.items():
            yield from leaves(inner, (*at, name))
    elif isinstance(tree, list) and tree:
        for number, inner in enumerate(tree):
            yield from leaves(inner, (*at, number))
    else:
        yield at, tree


def lists(tree: Any, at: Path = ()) -> Iterator[tuple[Path, list[Any]]]:
    """Every list in a tree, the outer before the inner."""
    if isinstance(tree, dict):
        for name, inner in tree.items():
            yield from lists(inner, (*at, name))
    elif isinstance(tree, list):
        yield at, tree
        for number, inner in enumerate(tree):
            yield from lists(inner, (*at, number))


def value_at(tree: Any, path: Path) -> Any:
    """What is at a path."""
    for step in path:
        tree = tree[step]
    return tree


def with_parts(tree: Any, parts: Mapping[Path, Any]) -> Any:
    """A copy of a tree with other parts at some paths; of two, one within the other, the outer goes in."""
    made = copy.deepcopy(tree)
    for path in sorted(parts, key=len, reverse=True):
        if not path:
            return copy.deepcopy(parts[path])
        inner = made
        for step in path[:-1]:
            inner = inner[step]
        inner[path[-1]] = copy.deepcopy(parts[path])
    return made


def common(first: Path, second: Path) -> Path:
    """The path to the innermost part that holds both."""
    shared = 0
    while shared < min(len(first), len(second)) and first[shared] == second[shared]:
        shared += 1
    return first[:shared]


def shown(path: Path) -> str:
    """A path as a JSONPath."""
    text = "$"
    for step in path:
        text = f"{text}[{step}]" if isinstance(step, int) else path_of(text, step)
    return text


def names_of(path: Path) -> tuple[str, ...]:
    """The members' names of a path."""
    return tuple(step for step in path if isinstance(step, str))


def texts_of(tree: Any) -> set[str]:
    """All texts in a tree, also in the parts of a form."""
    if isinstance(tree, list) and tree and not isinstance(tree[0], dict | list | str):
        return {str(part.value) for part in tree if hasattr(part, "value")}
    return {value for _, value in leaves(tree) if isinstance(value, str)}
