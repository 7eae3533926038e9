"""A part of the cases or answers, drawn by a seed: for a first look, or to see whether a service is as it was."""

from __future__ import annotations

import random
from collections.abc import Iterable, Sequence

from jsonpointer import JsonPointer, JsonPointerException

from drovik.planning.plan import Ask
from drovik.project.canonical import canonical
from drovik.project.cases import Case
from drovik.project.tasks import Task


def sample_of_cases(cases: Sequence[Case], tasks: Iterable[Task], count: int, seed: int) -> list[Case]:
    """So many cases, spread over the labels as evenly as there are cases of each, in the order of the project.

    The labels are those expected by the first task that has a label measure; cases without one are a label of
    their own.
    """
    by_label: dict[str, list[Case]] = {}
    place = _label_place(tasks)
    for case in cases:
        by_label.setdefault(_label(case, place), []).append(case)
    chance = random.Random(seed)
    heaps = [chance.sample(by_label[label], len(by_label[label])) for label in sorted(by_label)]
    chance.shuffle(heaps)
    taken: set[str] = set()
    while heaps and len(taken) < count:
        for heap in heaps:
            if len(taken) < count:
                taken.add(heap.pop().id)
        heaps = [heap for heap in heaps if heap]
    return [case for case in cases if case.id in taken]


def _label_place(tasks: Iterable[Task]) -> tuple[str, str] | None:
    for task in tasks:
        for measure in sorted(task.measures, key=lambda one: one.name != task.decide_on):
            if measure.type == "label":
                return task.name, str(measure.table.get("at", ""))
    return None


def _label(case: Case, place: tuple[str, str] | None) -> str:
    if place is None or place[0] not in case.expected:
        return ""
    try:
        return canonical(JsonPointer(place[1]).resolve(case.expected[place[0]], None))
    except JsonPointerException:
        return ""


def sample_of_asks(asks: Iterable[Ask], count: int, seed: int) -> list[Ask]:
    """Of each arm so many asks that have an answer, in order."""
    by_arm: dict[tuple[str, str], list[Ask]] = {}
    for ask in asks:
        by_arm.setdefault((ask.task.name, ask.arm.name), []).append(ask)
    chance = random.Random(seed)
    chosen = {
        one.identity for name in sorted(by_arm) for one in chance.sample(by_arm[name], min(count, len(by_arm[name])))
    }
    return [ask for asks in by_arm.values() for ask in asks if ask.identity in chosen]
