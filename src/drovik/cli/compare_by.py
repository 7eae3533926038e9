"""What `drovik compare` says beyond a score: by the levels of a column, by measure, within a practical margin."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import points
from drovik.cli.printing import say, table
from drovik.reporting.columns import difference_cell
from drovik.reporting.documents import level_document, stratum_document
from drovik.text import score_text

if TYPE_CHECKING:
    from drovik.comparing.ranking import Ranking
    from drovik.comparing.strata import LevelScores, Stratum
    from drovik.comparing.verdict import Verdict
    from drovik.evaluation.case_columns import CaseLevels
    from drovik.evaluation.gathering import TaskView
    from drovik.project.reading import Project
    from drovik.scoring.scores import ArmScores

_MOST_ARMS = 6
"""Arms beside each other in a table of levels; `--json` has all."""


def add_by_arguments(parser: argparse.ArgumentParser) -> None:
    """`--by` and `--margin`."""
    parser.add_argument(
        "--by", metavar="COLUMN",
        help="where one is better: by label, measure, given.NAME, expected.NAME, pictures.width, group",
    )  # fmt: skip
    parser.add_argument(
        "--margin", type=points, metavar="POINTS",
        help="what makes no difference in use: says what is better, no worse, or not known",
    )  # fmt: skip


class Levels:
    """The chosen column of a project's cases."""

    def __init__(self, project: Project, store: workflow.Store, column: str | None) -> None:
        self._project, self.store, self._column = project, store, column

    def _levels(self, view: TaskView, measure: str) -> CaseLevels:
        chosen = next(one for one in view.measures if one.name == measure)
        return workflow.levels_of(self._project, self.store, view.task, chosen, view.cases, str(self._column))

    def _strata(self, view: TaskView, first: ArmScores, second: ArmScores, measure: str) -> tuple[Stratum, ...]:
        if self._column == "measure":
            return workflow.compare_by_measure(first, second)
        levels = self._levels(view, measure)
        return workflow.compare_by(first, second, measure, levels.of, levels.levels)

    def _scores(self, view: TaskView, ranking: Ranking) -> tuple[LevelScores, ...]:
        if ranking.measure is None:
            return ()
        if self._column == "measure":
            return workflow.scores_by_measure(ranking)
        levels = self._levels(view, ranking.measure.name)
        return workflow.scores_by(ranking, levels.of, levels.levels)

    def verdict_document(self, view: TaskView, first: ArmScores, second: ArmScores, measure: str) -> dict[str, Any]:
        """The verdicts of all levels, for `--json`; nothing where no column was chosen."""
        if self._column is None:
            return {}
        strata = self._strata(view, first, second, measure)
        return {"by": {"column": self._column, "levels": [stratum_document(one) for one in strata]}}

    def ranking_document(self, view: TaskView, ranking: Ranking) -> dict[str, Any]:
        """The scores of all levels, for `--json`; nothing where no column was chosen."""
        if self._column is None:
            return {}
        found = self._scores(view, ranking)
        return {"by": {"column": self._column, "levels": [level_document(one) for one in found]}}

    def show_verdict(self, view: TaskView, first: ArmScores, second: ArmScores, measure: str) -> None:
        """A table of the two arms by level."""
        if self._column is None:
            return
        strata = self._strata(view, first, second, measure)
        rows = [
            (
                one.level, str(one.verdict.after.cases),
                *(score_text(side.value, side.coefficient) for side in (one.verdict.before, one.verdict.after)),
                difference_cell(one.verdict), one.verdict.outcome,
            )
            for one in strata
        ]  # fmt: skip
        say()
        titles = (self._column, "cases", first.arm, second.arm, "difference (95 % interval)", f"{second.arm} is")
        table(titles, rows, numbers=(1, 2, 3))
        if told := workflow.strata_text(strata):
            say(told, style="bold")

    def show_ranking(self, view: TaskView, ranking: Ranking) -> None:
        """A table of all ranked arms by level, and where an arm is unlike the best."""
        if self._column is None:
            return
        found = self._scores(view, ranking)
        names = ranking.names[:_MOST_ARMS]
        rows = []
        for one in found:
            cases = max(estimate.cases for estimate in one.estimates.values())
            scores = [one.estimates.get(name) for name in names]
            rows.append(
                (one.level, str(cases), *("–" if s is None else score_text(s.value, s.coefficient) for s in scores))
            )
        say()
        table((self._column, "cases", *names), rows, numbers=range(1, len(names) + 2))
        for line in workflow.levels_text(found, ranking.names):
            say(line)


def show_margin(verdict: Verdict, margin: float | None) -> None:
    """How the second arm stands beside the first, where a margin was given."""
    if margin is not None:
        say(workflow.margin_text(verdict, margin), style="bold")


def show_margins(ranking: Ranking, margin: float | None) -> None:
    """How all arms stand beside the best, where a margin was given."""
    if margin is not None and (told := workflow.margin_list(ranking.verdicts, margin)):
        say(told, style="bold")
