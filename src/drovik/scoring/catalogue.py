"""The table of measures by type, and the measures of a task. A new type is one module and one row."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from importlib import import_module
from typing import Any, cast

from drovik.errors import Problem, known_words
from drovik.project.cases import Case
from drovik.project.former_names import remedy_for
from drovik.project.tasks import Task
from drovik.scoring.extensions import added, extensions
from drovik.scoring.json_pointer import ABSENT
from drovik.scoring.judged_pairs import MOST_JUDGED
from drovik.scoring.measure import Measure, expected_at, read_table
from drovik.scoring.scores import LONG

MEASURES = {
    "label": "label.Label",
    "fields": "fields.Fields",
    "text": "transcript.TextMeasure",
    "facts": "statements.Statements",
    "similarity": "similarity.Similarity",
    "items": "items.Items",
    "boxes": "boxes.Boxes",
    "points": "boxes.Points",
    "regions": "regions.Regions",
    "form": "format.Format",
    "judge": "judge.Judge",
    "function": "function.Function",
}
"""Of each type its module and class; a module is loaded by the first task that has a measure of its type."""


def measure_class(kind: str) -> type[Measure] | None:
    """The class of a type of measures, be it one that a package adds; None where there is none."""
    if kind not in MEASURES:
        return cast(type[Measure] | None, added("drovik.measures", kind, Measure))
    module, name = MEASURES[kind].split(".")
    return cast(type[Measure], getattr(import_module(f"drovik.scoring.measures.{module}"), name))


def measures_of(task: Task, problems: list[Problem]) -> tuple[Measure, ...]:
    """The measures of a task; what is wrong with their tables is added to `problems`."""
    found = []
    for written in task.measures:
        place = f"measures.{written.name}"
        kind = measure_class(written.type)
        if kind is None:
            what = f"there is no measure of type '{written.type}'"
            remedy = remedy_for(written.type) or known_words(
                written.type, [*MEASURES, *extensions("drovik.measures")]
            )
            problems.append(Problem(what, remedy, task.file, f"{place}.type"))
            continue
        wrong: list[Problem] = []
        table: Any = read_table(kind, written.table, place, task, wrong)
        # Of a table that is broken only what is wrong with itself is said: what it lacks may be what was left out.
        beyond: list[Problem] = []
        measure = kind.make(written.name, table, task, place, beyond) if table is not None else None
        problems += wrong or beyond
        if measure is not None:
            found.append(measure)
    return tuple(found)


def measures_with_expectations(measures: Sequence[Measure], task: Task, cases: Sequence[Case]) -> tuple[Measure, ...]:
    """The measures when they know what is expected of every case of a project, whichever of them is looked at."""
    found = []
    for measure in measures:
        expected = [one for case in cases if (one := expected_at(measure, task, case)) is not ABSENT]
        found.append(measure.informed(expected))
    return tuple(found)


def check_cases(task: Task, measures: Sequence[Measure], cases: Sequence[Case], source: str) -> list[Problem]:
    """A Problem for each expected output that the measures of the task cannot use; the same is looked at once."""
    problems: list[Problem] = []
    fit: set[tuple[str, bool]] = set()
    for case in cases if measures else ():
        key = (repr(case.expected.get(task.name, ABSENT)), task.name in case.refusal)
        if key in fit:
            continue
        wrongs = list(_wrongs(task, measures, case))
        problems += [Problem(what, remedy, source, f"{case.place}: {member}") for what, remedy, member in wrongs]
        if not wrongs and len(fit) < MOST_JUDGED and len(key[0]) < LONG:
            fit.add(key)
    return problems


def _wrongs(task: Task, measures: Sequence[Measure], case: Case) -> Iterator[tuple[str, str, str]]:
    """What is wrong with a case's expected output, what to do, and where in the case it is."""
    member = f"expected.{task.name}"
    found = [(measure, expected_at(measure, task, case)) for measure in measures]
    for measure, expected in found:
        wrong = measure.check_expected(expected) if expected is not ABSENT else None
        if wrong:
            yield (*wrong, member)
    if task.name in case.expected and all(expected is ABSENT for _, expected in found):
        yield (
            f"no measure of the task '{task.name}' finds anything in it",
            f"shape it as {task.file} wants it",
            member,
        )
    if task.name in case.refusal and task.name not in case.expected:
        what = f"'{task.name}' is to be declined here and has no expected output, so it would not be scored"
        yield what, "give what would be right if it were answered", "refusal"
