"""A column of the cases → the level of each: a label, a fact, a member of the expected output, a picture's size.

Numbers of many values are put into bands, so that each level has cases enough to say something.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from drovik.errors import Problem, UsageError
from drovik.heavy import np
from drovik.planning.sources import source_digests
from drovik.project.arms import canonical
from drovik.project.cases import Case
from drovik.project.preps import Prep
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.scoring.json_pointer import ABSENT, value_at_pointer
from drovik.scoring.measure import Measure, expected_at
from drovik.store.answer_store import Store

MOST_LEVELS = 12
"""Levels of a column; of more, the rarest are put together."""
MOST_NUMBERS = 6
"""Different numbers of a column that are levels of their own; more than these are put into bands."""
BANDS = 4
"""Bands of about as many cases each."""
NOTHING, OTHERS = "(none)", "(others)"
"""The level of the cases that have nothing there, and of those whose own level is too rare."""
FORMS = (
    "label, given.NAME, expected.NAME, pictures.width, pictures.height, pictures.pixels, pictures.count, group, split"
)
"""What can be a column."""


@dataclass(frozen=True)
class CaseLevels:
    """The levels of a column in their order, and the level of each case by its id."""

    column: str
    levels: tuple[str, ...]
    of: Mapping[str, str]


def levels_of(
    project: Project, store: Store, task: Task, measure: Measure, cases: Sequence[Case], column: str
) -> CaseLevels:
    """The level of each case in a column.

    :param measure: whose place in the expected output is the label.
    :raises UsageError: where the column is unknown, or no case has anything in it.
    :raises DrovikError: where a picture cannot be read.
    """
    values = _values(project, store, task, measure, cases, column)
    if all(one is ABSENT for one in values.values()):
        raise UsageError(Problem(f"no case has anything at '{column}'", f"take one of: {FORMS}"))
    return _leveled(column, values)


def _values(
    project: Project, store: Store, task: Task, measure: Measure, cases: Sequence[Case], column: str
) -> dict[str, Any]:
    head, _, rest = column.partition(".")
    if head == "pictures" and rest in _PICTURES:
        return _pictures(project, store, cases, rest)
    if head == "label" and not rest:
        found = {case.id: expected_at(measure, task, case) for case in cases}
        if any(isinstance(one, dict) for one in found.values()):
            what = f"the measure '{measure.name}' of '{task.name}' looks at no label"
            raise UsageError(Problem(what, "take a member of the expected output: expected.NAME"))
        return found
    if head in ("given", "expected") and rest:
        pointer = "/" + "/".join(rest.replace("~", "~0").replace("/", "~1").split("."))
        whole = {case.id: case.given if head == "given" else case.expected.get(task.name, ABSENT) for case in cases}
        return {name: value_at_pointer(_plain(one), pointer) for name, one in whole.items()}
    if column in ("group", "split"):
        return {case.id: ABSENT if (one := getattr(case, column)) is None else one for case in cases}
    raise UsageError(Problem(f"there is no column '{column}'", f"take one of: {FORMS}"))


def _plain(whole: Any) -> Any:
    return dict(whole) if isinstance(whole, Mapping) else whole


_PICTURES = ("count", "width", "height", "pixels")


def _pictures(project: Project, store: Store, cases: Sequence[Case], what: str) -> dict[str, Any]:
    """A number of each case's pictures: how many there are, or the size of the first, as it is stored."""
    if what == "count":
        return {case.id: len(case.pictures) for case in cases}
    sources, found = source_digests(project, store, cases), {}
    for case in cases:
        facts = sources.facts(case.pictures[0], Prep())
        sides = {"width": facts.width, "height": facts.height, "pixels": facts.width * facts.height}
        found[case.id] = sides[what]
    return found


def _leveled(column: str, values: Mapping[str, Any]) -> CaseLevels:
    known = [one for one in values.values() if one is not ABSENT and one is not None]
    numbers = sorted({float(one) for one in known if _is_number(one)})
    if known and all(map(_is_number, known)):
        edges = _edges([float(one) for one in known]) if len(numbers) > MOST_NUMBERS else []
        names = {
            name: _band(float(one), edges) if edges else _name(one) for name, one in values.items() if _is_number(one)
        }
        order = _bands(edges) if edges else [_name(one) for one in numbers]
    else:
        names = {name: _name(one) for name, one in values.items() if one is not ABSENT and one is not None}
        order = [name for name, _ in sorted(Counter(names.values()).items(), key=lambda one: (-one[1], one[0]))]
        if len(order) > MOST_LEVELS:
            rare = set(order[MOST_LEVELS - 1 :])
            names = {name: OTHERS if one in rare else one for name, one in names.items()}
            order = [*order[: MOST_LEVELS - 1], OTHERS]
    of = {name: names.get(name, NOTHING) for name in values}
    levels = [one for one in (*order, NOTHING) if one in set(of.values())]
    return CaseLevels(column, tuple(levels), of)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _name(value: Any) -> str:
    """A value as the name of a level."""
    if isinstance(value, str):
        return value or '""'
    if _is_number(value):
        return f"{value:g}" if abs(value) < 1e6 else f"{value:.0f}"
    return canonical(value)


def _edges(numbers: Sequence[float]) -> list[float]:
    """Where one band ends and the next begins: the quarters, rounded."""
    found = np.quantile(numbers, [part / BANDS for part in range(1, BANDS)])
    span = max(numbers) - min(numbers)
    places = max(0, 2 - int(np.floor(np.log10(span)))) if span < 100 else 0
    rounded = sorted({round(float(one), places) for one in found})
    return [one for one in rounded if min(numbers) < one <= max(numbers)]


def _band(value: float, edges: Sequence[float]) -> str:
    return _bands(edges)[int(np.searchsorted(edges, value, side="right"))]


def _bands(edges: Sequence[float]) -> list[str]:
    """The names of bands; the lower edge of each is in it."""
    texts = [_number(one) for one in edges]
    inner = [f"{low} to below {high}" for low, high in itertools.pairwise(texts)]
    return [f"below {texts[0]}", *inner, f"{texts[-1]} and more"]


def _number(value: float) -> str:
    """An edge with all of its decimals: it says what lies on either side of it."""
    return f"{value:.0f}" if value == int(value) else f"{Decimal(repr(value)):f}"
