"""Scores as rows, and what a comparison of arms comes to: the same figures as the commands print with `--json`."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, Literal

from drovik.comparing.ranking import rank
from drovik.comparing.verdict import compare_arms, estimate
from drovik.errors import Problem, UsageError, known_words
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.suspects import suspects_of
from drovik.reporting.documents import causes_document, estimate_document, ranking_document, verdict_document
from drovik.scoring.scores import ArmScores

if TYPE_CHECKING:
    from pandas import DataFrame

Kind = Literal["measures", "cases", "findings", "causes", "suspects"]


@dataclass(frozen=True)
class Scores:
    """The scores of a project's arms; `views` has all that is known, by task."""

    views: tuple[TaskView, ...]

    def arm(self, task: str, arm: str) -> ArmScores:
        """The scores of one arm in one task.

        :raises UsageError: if there is none.
        """
        view = self._view(task)
        names = [one.arm for one in view.scores]
        if arm not in names:
            raise UsageError(Problem(f"there is no arm '{arm}'", known_words(arm, names)))
        return view.score_of(arm)

    def _view(self, task: str) -> TaskView:
        names = [one.task.name for one in self.views]
        if task not in names:
            raise UsageError(Problem(f"unknown task '{task}'", known_words(task, names)))
        return self.views[names.index(task)]

    def rows(self, kind: Kind = "measures") -> list[dict[str, Any]]:
        """Plain dictionaries.

        :param kind: "measures", one an arm and measure, with its score, interval and number of cases; "cases", one an
            arm, measure and case; "findings", one a difference that was found, with its cause; "causes", one an arm,
            measure and cause, with the score if it were fixed; "suspects", one an expected output that models agree
            against.
        """
        by_arm = {"measures": measure_rows, "cases": case_rows, "findings": finding_rows}
        by_task = {"causes": _cause_rows, "suspects": _suspect_rows}
        if kind in by_task:
            return [row for view in self.views for row in by_task[kind](view)]
        if kind not in by_arm:
            raise UsageError(Problem(f"there are no rows of '{kind}'", known_words(kind, [*by_arm, *by_task])))
        return [row for view in self.views for arm in view.scores for row in by_arm[kind](arm)]

    def to_frame(self, kind: Kind = "measures") -> DataFrame:
        """The rows as a data frame of pandas.

        :raises UsageError: where pandas is not installed.
        """
        try:
            import pandas as pd
        except ImportError:
            raise UsageError(Problem("pandas is not installed", "pip install pandas, or take .rows()")) from None
        return pd.DataFrame(self.rows(kind))


def measure_rows(arm: ArmScores) -> Iterator[dict[str, Any]]:
    """A row a measure: its score with the interval."""
    for score in arm.measures:
        names = {"task": arm.task, "arm": arm.arm, "measure": score.measure.name, "what": score.measure.what}
        yield names | estimate_document(estimate(score)) | {"failed": score.failed}


def case_rows(arm: ArmScores) -> Iterator[dict[str, Any]]:
    """A row a measure and case."""
    for score in arm.measures:
        for one in score.cases:
            yield {
                "task": arm.task, "arm": arm.arm, "measure": score.measure.name, "case": one.case.id,
                "status": one.answer.status if one.answer else None, "score": one.score.value if one.score else None,
                "findings": len(one.score.findings) if one.score else None,
            }  # fmt: skip


def finding_rows(arm: ArmScores) -> Iterator[dict[str, Any]]:
    """A row a difference that was found."""
    for score in arm.measures:
        for one in score.scored:
            for found in one.score.findings if one.score else ():
                yield {
                    "task": arm.task, "arm": arm.arm, "measure": score.measure.name, "case": one.case.id,
                    "where": found.where, "expected": found.expected, "got": found.got, "cause": found.cause,
                    "note": found.note,
                }  # fmt: skip


def _cause_rows(view: TaskView) -> Iterator[dict[str, Any]]:
    for one in causes_document(view):
        for cause in one["causes"]:
            yield {"task": view.task.name, "arm": one["arm"], "measure": one["measure"], **cause}


def _suspect_rows(view: TaskView) -> Iterator[dict[str, Any]]:
    return (asdict(one) for one in suspects_of(view))


def compare(first: ArmScores, second: ArmScores, measure: str | None = None) -> dict[str, Any]:
    """The verdict between two arms of one task: the fields that `drovik compare --json` prints.

    :param measure: what decides; None for the measure that the task itself decides on.
    :raises UsageError: where they are of two tasks, or have no scored case in common.
    """
    if first.task != second.task:
        what = f"'{first.task}' and '{second.task}' are two tasks"
        raise UsageError(Problem(what, "compare two arms of one task"))
    return verdict_document(compare_arms(first, second, str(measure or first.decide_on)))


def rank_arms(scores: Scores, measure: str | None = None) -> dict[str, dict[str, Any]]:
    """By task, all arms from best to worst, and the best beside each: what `drovik compare --json` prints.

    :param measure: what decides; None for the measure that each task itself decides on.
    """
    found = {}
    for view in scores.views:
        name = measure or view.task.decide_on
        if name in [one.name for one in view.measures]:
            found[view.task.name] = ranking_document(rank(view.scores, str(name)))
    return found
