"""Expected outputs against the tasks they are for: known tasks, and the tasks' own schemas."""

from __future__ import annotations

from collections.abc import Sequence

from drovik.errors import Problem, known_words
from drovik.project.cases import Case
from drovik.project.schemas import SchemaChecker
from drovik.project.tasks import Task

_MOST_ERRORS = 100
"""Of one expected output."""


def check_expected(cases: Sequence[Case], tasks: Sequence[Task], names: Sequence[str], source: str) -> list[Problem]:
    """Expected outputs that are for no task, or that the task's own schema would not let through.

    :param names: of all tasks, also of those that could not be read.
    """
    checkers = {task.name: SchemaChecker(task.schema) for task in tasks if task.schema is not None}
    problems = []
    for case in cases:
        for name in (*case.expected, *case.refusal):
            if name not in names:
                place = f"{case.place}: expected" if name in case.expected else f"{case.place}: refusal"
                problems.append(Problem(f"there is no task '{name}'", known_words(name, names), source, place))
        for name, checker in checkers.items():
            if name not in case.expected:
                continue
            for error in checker.mismatches(case.expected[name], _MOST_ERRORS):
                steps = "".join(f"/{step}" for step in error.steps)
                what = f"does not fit the task's own schema: {error.words[:160]}"
                remedy = f"correct it, or tasks/{name}'s schema"
                problems.append(Problem(what, remedy, source, f"{case.place}: expected.{name}{steps}"))
    return problems
