"""Scores and verdicts as plain values for `--json`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from drovik.comparing.verdict import Estimate, Verdict
    from drovik.scoring.arm_scores import ArmScores, Costs, MeasureScore, RepairTurns


def costs_document(costs: Costs) -> dict[str, Any]:
    """What an arm took."""
    return {
        "answers": costs.answers,
        "input_tokens": costs.input_tokens,
        "output_tokens": costs.output_tokens,
        "money": dict(costs.money),
        "median_seconds": costs.seconds,
        "reported_models": list(costs.reported_models),
    }


def estimate_document(one: Estimate) -> dict[str, Any]:
    """A score with its interval."""
    return {"score": one.value, "low": one.low, "high": one.high, "cases": one.cases, "interval_by": one.method}


def measure_document(score: MeasureScore) -> dict[str, Any]:
    """One measure of one arm."""
    from drovik.comparing.judge_agreement import checked_against_people
    from drovik.comparing.verdict import estimate, estimate_as_read, estimate_figures

    document: dict[str, Any] = {"measure": score.measure.name, "type": score.measure.kind, "what": score.measure.what}
    document |= estimate_document(estimate(score))
    as_read = estimate_as_read(score)
    if told := checked_against_people(score.measure):
        document["checked"] = told
    document |= {"failed": score.failed, "bounds": score.bounds}
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


def verdict_document(verdict: Verdict) -> dict[str, Any]:
    """A verdict between two arms."""
    from drovik.comparing.verdict import in_words

    return {
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
        "fixed": list(verdict.fixed),
        "broken": list(verdict.broken),
        "improved": list(verdict.improved),
        "worsened": list(verdict.worsened),
        "in_words": in_words(verdict),
    }
