"""What people said: their scores, how far measures and people agree, preferences, what is to be settled."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.printing import heading, say, table
from drovik.reporting.columns import interval_text
from drovik.reporting.documents import estimate_document
from drovik.text import bounds_text, counted, percent, score_text

if TYPE_CHECKING:
    from drovik.comparing.people import Agreement
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.judgements import TodaysJudgements
    from drovik.project.reading import Project

MOST_LISTED = 10


def show_results(project: Project, view: TaskView) -> bool:
    """Print what people said of a task; whether there was anything."""
    today = workflow.todays_judgements(project, view.task, view.answers)
    filled = workflow.unchanged_share(project, view.task.name)
    if not (today.of_answers or today.preferences or today.stale or filled):
        return False
    heading(view.task.heading)
    people = sorted({one.by or "somebody" for one in (*today.of_answers, *today.preferences)})
    many = len(today.of_answers) + len(today.preferences)
    if many:
        say(f"{counted(many, 'judgement')} by {', '.join(people)}.")
    if today.stale:
        say(f"{counted(today.stale, 'judgement')} are of answers that have changed since, and do not count.")
    _show_scores(view)
    for one in workflow.agreement_of_measures(view, today):
        _show_agreement(one, "They differ on")
    for one in workflow.agreement_of_people(today):
        _show_agreement(one, "To settle")
    _show_preferences(today)
    if filled is not None:
        low, high = bounds_text(filled.low, filled.high)
        told = f"{percent(filled.value)} ({low} – {high}) of {counted(filled.cases, 'answer')}"
        say(f"Filled in as expected outputs: {told} needed no correction.")
    return True


def _show_scores(view: TaskView) -> None:
    rows = []
    for arm in view.scores:
        judged, own = arm.measure("people"), arm.measure(view.task.decide_on or "")
        if judged is not None and judged.scored:
            one = workflow.estimate(judged)
            beside = workflow.with_interval(workflow.estimate(own)) if own and own.scored else "–"
            rows.append((arm.arm, score_text(one.value), interval_text(one), str(one.cases), beside))
    if rows:
        measure = view.task.decide_on or "measure"
        table(("arm", "by people", "95 % interval", "cases", measure), rows, numbers=(1, 3))


def _show_agreement(one: Agreement, head: str) -> None:
    say(f"{one.text()}.")
    if one.apart:
        rows = [(case, arm, first, second) for case, arm, first, second in one.apart[:MOST_LISTED]]
        more = f" ({MOST_LISTED} of {len(one.apart)})" if len(one.apart) > MOST_LISTED else ""
        say(f"{head}{more}:")
        table(("case", "arm", one.one, one.other), rows)


def _show_preferences(today: TodaysJudgements) -> None:
    for pair in workflow.pair_preferences(today.preferences):
        say(f"{pair.text()}.")
    ranked = workflow.strengths(today.preferences)
    if ranked:
        say("Chance to be preferred to an average arm (Bradley and Terry, bootstrap over cases):")
        rows = [
            (one.arm, percent(one.value), " – ".join(bounds_text(one.low, one.high)), str(one.comparisons))
            for one in ranked
        ]
        table(("arm", "preferred", "95 % interval", "comparisons"), rows, numbers=(1, 3))


def results_document(project: Project, view: TaskView) -> dict[str, Any]:
    """What people said of a task, as plain values."""
    today = workflow.todays_judgements(project, view.task, view.answers)
    filled = workflow.unchanged_share(project, view.task.name)
    scores = {
        arm.arm: estimate_document(workflow.estimate(score))
        for arm in view.scores
        if (score := arm.measure("people")) is not None and score.scored
    }
    return {
        "judgements": len(today.of_answers),
        "preferences": len(today.preferences),
        "of_answers_that_changed": today.stale,
        "scores": scores,
        "beside_measures": [asdict(one) for one in workflow.agreement_of_measures(view, today)],
        "beside_each_other": [asdict(one) for one in workflow.agreement_of_people(today)],
        **workflow.preferences_document(today.preferences),
        "filled_unchanged": estimate_document(filled) if filled is not None else None,
    }
