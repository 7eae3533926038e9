"""Measures, field rules and causes that other installed packages add, by entry points (docs/python.md).

They are looked up only where a name is not one of Drovik's own, which a project then finds first.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib.metadata import entry_points
from typing import Any, Literal, get_args

from drovik.errors import Problem, UsageError

Group = Literal["drovik.measures", "drovik.rules", "drovik.causes"]


@cache
def is_anything_added() -> bool:
    """Whether any package adds something; it is not loaded for that.

    What it gives for an answer may change with its own code, of which nobody here knows.
    """
    every = entry_points()
    return any(every.select(group=group) for group in get_args(Group))


@cache
def extensions(group: Group) -> Mapping[str, Any]:
    """What is added to a group, by name.

    :raises UsageError: if something of it cannot be loaded.
    """
    found: dict[str, Any] = {}
    for point in entry_points(group=group):
        try:
            found[point.name] = point.load()
        except Exception as error:  # whatever a stranger's module does while it is imported
            name = point.dist.name if point.dist else "a package"
            what = f"{name} adds '{point.name}' to {group}, and it cannot be loaded: {type(error).__name__}: {error}"
            raise UsageError(Problem(what[:300], f"repair or remove it: pip uninstall {name}")) from None
    return found


def added(group: Group, name: str, base: type) -> Any:
    """What a package adds under a name, or None.

    :param base: what it has to be, or to be derived from.
    :raises UsageError: if it is not.
    """
    one = extensions(group).get(name)
    if one is None or isinstance(one, base) or (isinstance(one, type) and issubclass(one, base)):
        return one
    raise UsageError(
        Problem(f"'{name}' in {group} is not a {base.__name__}", "repair or remove the package that adds it")
    )
