"""`drovik compare --plan`: how many cases, and of which labels, show a difference; from what is known so far."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arm_words import arm_meant
from drovik.cli.printing import heading, print_json, say, table
from drovik.errors import Problem, UsageError

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from drovik.comparing.case_plan import CasePlan
    from drovik.evaluation.gathering import TaskView
    from drovik.project.reading import Project


def show_plans(
    project: Project, store: workflow.Store, measured: Sequence[tuple[TaskView, str]], arms: Sequence[str],
    difference: float, as_json: bool,
) -> None:  # fmt: skip
    """The plan of each task, between the two named arms, or the first two of its ranking."""
    found = {
        view.task.name: (view, _plan(project, store, view, measure, arms, difference)) for view, measure in measured
    }
    if not any(plan for _, plan in found.values()):
        raise UsageError(
            Problem("too few cases are answered to plan by", "send a sample first: drovik send --sample 20")
        )
    if as_json:
        print_json({"tasks": {name: asdict(plan) if plan else None for name, (_, plan) in found.items()}})
        return
    for view, plan in found.values():
        if plan is not None:
            heading(view.task.heading)
            say(workflow.plan_text(plan, f"{difference * 100:g} points"), style="bold")
            table(
                ("label", "cases", "they differ in", "needed", "more"), workflow.label_rows(plan), numbers=range(1, 5)
            )


def _plan(
    project: Project, store: workflow.Store, view: TaskView, measure: str, arms: Sequence[str], difference: float
) -> CasePlan | None:
    names = _two(view, measure, arms)
    if names is None:
        return None
    first, second = names
    labels = _labels(project, store, view, measure)
    by_scores = workflow.plan_cases(view.score_of(first), view.score_of(second), measure, difference, labels)
    if by_scores is not None:
        return by_scores
    one, other = view.answers[first], view.answers[second]
    differs = {
        name: workflow.comparable(one[name]) != workflow.comparable(other[name]) for name in one if name in other
    }
    return workflow.plan_by_answers(first, second, differs, difference, labels)


def _two(view: TaskView, measure: str, arms: Sequence[str]) -> tuple[str, str] | None:
    """The two arms that are planned for: those named, or those that are hardest to tell apart; None where there are
    none."""
    if arms:
        first, second = (arm_meant(view, word).arm for word in arms)
        return first, second
    ranking = workflow.rank(view.scores, measure)
    names = list(ranking.names) or sorted(view.answers, key=lambda name: -len(view.answers[name]))
    return (names[0], names[1]) if len(names) > 1 else None


def _labels(project: Project, store: workflow.Store, view: TaskView, measure: str) -> Mapping[str, str]:
    """The label of each case; one for all where the measure looks at none."""
    chosen = next(one for one in view.measures if one.name == measure)
    try:
        found = workflow.levels_of(project, store, view.task, chosen, view.cases, "label")
    except UsageError:
        return dict.fromkeys((case.id for case in view.cases), "(all)")
    of: dict[str, Any] = dict(found.of)
    return of if len(found.levels) <= max(1, len(of) // 3) else dict.fromkeys(of, "(all)")
