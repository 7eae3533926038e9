"""Figures of the page, as SVG: scores with their intervals. Colour carries no meaning alone.

Scores and verdicts as plain values for `--json`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik.comparing.judge_agreement import agreement_text
from drovik.comparing.margin import standing
from drovik.comparing.ranking import Ranking, flattery_text, ranking_text
from drovik.comparing.verdict import (
    Estimate,
    estimate,
    estimate_as_read,
    estimate_figures,
    more_cases_text,
    verdict_text,
)
from drovik.evaluation.suspects import contradictions, impacts_of, near_duplicates, suspects_of
from drovik.reporting.columns import COST_MEMBERS, ESTIMATE_MEMBERS, ArmEntry, members

if TYPE_CHECKING:
    from drovik.comparing.strata import LevelScores, Stratum
    from drovik.comparing.verdict import Verdict
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.suspects import Contradiction, NearDuplicates, SuspectLabel
    from drovik.project.reading import Project
    from drovik.scoring.scores import ArmScores, Costs, MeasureScore, RepairTurns


def costs_document(costs: Costs) -> dict[str, Any]:
    """What an arm took."""
    return members(ArmEntry("", costs=costs), COST_MEMBERS)


def estimate_document(one: Estimate) -> dict[str, Any]:
    """A score with its interval."""
    return members(ArmEntry("", one), ESTIMATE_MEMBERS)


def measure_document(score: MeasureScore) -> dict[str, Any]:
    """One measure of one arm."""

    document: dict[str, Any] = {"measure": score.measure.name, "type": score.measure.kind, "what": score.measure.what}
    document |= estimate_document(estimate(score))
    as_read = estimate_as_read(score)
    if told := agreement_text(score.measure):
        document["checked"] = told
    document |= {"failed": score.failed, "bounds": score.bounds, "repeats_agree": score.agreement}
    document["as_read"] = estimate_document(as_read) if as_read else None
    document["figures"] = {name: estimate_document(one) for name, one in estimate_figures(score).items()}
    document["tables"] = [
        {"title": one.title, "columns": list(one.columns), "rows": {name: list(row) for name, row in one.rows}}
        for one in score.tables
    ]
    return document


def _second_document(second: RepairTurns) -> dict[str, Any]:
    """What repair turns came to, with the scores as they would be with them."""
    return {
        "asked": second.asked,
        "valid": second.in_form,
        "costs": costs_document(second.costs),
        "measures": [measure_document(one) for one in second.measures],
    }


def arm_document(arm: ArmScores) -> dict[str, Any]:
    """One arm."""
    return {
        "arm": arm.arm,
        "statuses": dict(arm.statuses),
        "found": dict(arm.how),
        "not_sent": arm.unsent,
        "costs": costs_document(arm.costs),
        "measures": [measure_document(one) for one in arm.measures],
        "repeats": arm.repeats,
        "repeats_agree": arm.agreement,
        "repair_turns": _second_document(arm.second) if arm.second else None,
    }


def stratum_document(one: Stratum) -> dict[str, Any]:
    """The verdict between two arms at one level of a column."""
    return {"level": one.level, "cases": one.verdict.after.cases} | verdict_document(one.verdict)


def level_document(one: LevelScores) -> dict[str, Any]:
    """The ranked arms at one level of a column, and the best of all beside each other."""
    arms = [{"arm": name} | estimate_document(found) for name, found in one.estimates.items()]
    return {"level": one.level, "arms": arms, "verdicts": [verdict_document(verdict) for verdict in one.verdicts]}


def verdict_document(verdict: Verdict, margin: float | None = None) -> dict[str, Any]:
    """A verdict between two arms.

    :param margin: what makes no difference in use, as a share: then how the second arm stands within it is said too.
    """
    within = {} if margin is None else {"margin": margin, "standing": standing(verdict, margin)}

    return within | {
        "task": verdict.task,
        "measure": verdict.measure,
        "first": {"arm": verdict.first} | estimate_document(verdict.before) | costs_document(verdict.first_costs),
        "second": {"arm": verdict.second} | estimate_document(verdict.after) | costs_document(verdict.second_costs),
        "difference": verdict.difference,
        "low": verdict.low,
        "high": verdict.high,
        "p": verdict.p,
        "test": verdict.test,
        "comparisons": verdict.compared,
        "outcome": verdict.outcome,
        "cases_needed": verdict.needed,
        "more_cases": more_cases_text(verdict) or None,
        "fixed": list(verdict.fixed),
        "broken": list(verdict.broken),
        "improved": list(verdict.improved),
        "worsened": list(verdict.worsened),
        "in_words": verdict_text(verdict),
    }


def ranking_document(ranking: Ranking) -> dict[str, Any]:
    """A ranking of arms, with the verdict of the best beside each other one."""
    return {
        "measure": ranking.measure.name if ranking.measure else None,
        "ranking": list(ranking.names),
        "arms": [
            {"arm": arm.arm} | estimate_document(one)
            for arm, one in zip(ranking.arms, ranking.estimates, strict=True)
        ],
        "may_be_best": list(ranking.may_be_best),
        "worse": list(ranking.worse),
        "set_aside": dict(ranking.set_aside),
        "best_flattered_by": ranking.flattered,
        "verdicts": [verdict_document(one) for one in ranking.verdicts],
        "in_words": " ".join(one for one in (ranking_text(ranking), flattery_text(ranking)) if one),
    }


def causes_document(view: TaskView) -> list[dict[str, Any]]:
    """What to fix first, as plain values."""

    return [
        {
            "arm": arm,
            "measure": measure,
            "causes": [
                {
                    "cause": one.cause,
                    "cases": one.cases,
                    "findings": one.findings,
                    "right_without_it": one.alone,
                    "suspects": one.suspects,
                    "score": one.score,
                    "score_if_fixed": one.without,
                    "owner": one.owner,
                    "remedy": one.remedy,
                    "line": one.line,
                    "examples": list(one.examples),
                }
                for one in causes
            ],
        }
        for arm, measure, causes in impacts_of(view)
    ]


def suspects_document(project: Project, views: Sequence[TaskView]) -> dict[str, Any]:
    """Suspect expected outputs, as plain values."""

    def plain(found: Sequence[SuspectLabel | NearDuplicates | Contradiction]) -> list[dict[str, Any]]:
        return [asdict(one) for one in found]

    return {
        "against_the_models": plain([one for view in views for one in suspects_of(view)]),
        "nearly_the_same_picture": plain(near_duplicates(project, views)),
        "across_tasks": plain(contradictions([view for view in views if view.task.judges is None])),
    }
