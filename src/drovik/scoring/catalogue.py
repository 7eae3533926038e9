"""The table of measures by type, and the measures of a task. A new type is one module and one row."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from drovik.problems import Problem, known_words
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.facts import Facts
from drovik.scoring.fields import Fields
from drovik.scoring.label import Label
from drovik.scoring.measure import ABSENT, Measure, expected_at, read_table

MEASURES: dict[str, type[Measure]] = {one.kind: one for one in (Label, Fields, Facts)}


def measures_of(task: Task, problems: list[Problem]) -> tuple[Measure, ...]:
    """The measures of a task; what is wrong with their tables is added to `problems`."""
    found = []
    for written in task.measures:
        place = f"measures.{written.name}"
        kind = MEASURES.get(written.type)
        if kind is None:
            what = f"there is no measure of type '{written.type}'"
            problems.append(Problem(what, known_words(written.type, MEASURES), task.file, f"{place}.type"))
            continue
        table: Any = read_table(kind, written.table, place, task, problems)
        measure = kind.make(written.name, table, task, place, problems) if table is not None else None
        if measure is not None:
            found.append(measure)
    return tuple(found)


def check_cases(task: Task, measures: Sequence[Measure], cases: Sequence[Case], source: str) -> list[Problem]:
    """A Problem for each expected output that a measure of the task cannot use."""
    problems = []
    for case in cases:
        for measure in measures:
            expected = expected_at(measure, task, case)
            wrong = measure.check_expected(expected) if expected is not ABSENT else None
            if wrong:
                problems.append(Problem(wrong[0], wrong[1], source, f"{case.place}: expected.{task.name}"))
        if (
            task.name in case.expected
            and measures
            and all(expected_at(one, task, case) is ABSENT for one in measures)
        ):
            what = f"no measure of the task '{task.name}' finds anything in it"
            remedy = f"shape it as {task.file} wants it"
            problems.append(Problem(what, remedy, source, f"{case.place}: expected.{task.name}"))
    return problems
