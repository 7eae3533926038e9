"""`drovik compare`: the verdict between two arms, or the ranking of all of a task's arms."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import add_own_argument, add_project_argument, add_split_argument, open_project, open_store
from drovik.cli.printing import arms_table, explain_arms, heading, print_json, say
from drovik.cli.score import show_judges, show_mixed_models, show_older
from drovik.errors import DONE, Problem, UsageError, known_words
from drovik.reporting.columns import RANKING, VERDICT, ArmEntry
from drovik.reporting.documents import verdict_document

if TYPE_CHECKING:
    from drovik.comparing.verdict import Verdict
    from drovik.evaluation.gathering import TaskView

EXAMPLE = "drovik compare gull/v1 gull/v2 --task sort\n  drovik compare"
_MOST_IDS = 20
"""Ids of changed cases in a line; `--json` has all."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument(
        "arms",
        nargs="*",
        metavar="ARM",
        help="two arms (a model with a prompt version), such as gull/v1 gull/v2; none: rank all",
    )
    add_project_argument(parser)
    add_own_argument(parser)
    parser.add_argument("--task", action="append", metavar="NAME", help="only this task (may be repeated)")
    parser.add_argument("--measure", metavar="NAME", help="decide on this measure (default: the task's decide_on)")
    add_split_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Compare what has been answered; nothing is sent."""

    if len(arguments.arms) not in (0, 2):
        raise UsageError(Problem("compare takes two arms, or none to rank all", "see: drovik compare --help"))
    project = open_project(arguments.project)
    with open_store(project.store_path, create=False) as store:
        views = workflow.gather(project, store, arguments.task, arguments.arms, arguments.split, arguments.trust)
    found: list[tuple[TaskView, list[str], list[Verdict]]] = []
    for view in views:
        names, verdicts = _compared(view, arguments.arms, arguments.measure, len(views) == 1)
        if names:
            found.append((view, names, verdicts))
    if not found and arguments.measure:
        names = sorted({one.name for view in views for one in view.measures})
        raise UsageError(
            Problem(f"no task has a measure '{arguments.measure}'", known_words(arguments.measure, names))
        )
    if not found:
        raise UsageError(Problem("there is nothing to compare yet", "send first: drovik send"))
    if arguments.json:
        tasks = {
            view.task.name: {"ranking": names, "verdicts": [verdict_document(one) for one in verdicts]}
            for view, names, verdicts in found
        }
        print_json({"tasks": tasks})
        return DONE
    for number, (view, names, verdicts) in enumerate(found):
        if arguments.arms:
            show_verdict(verdicts[0])
        else:
            show_ranking(view, names, verdicts)
        if number == 0:
            explain_arms()
    return DONE


def _compared(
    view: TaskView, arms: Sequence[str], measure: str | None, alone: bool
) -> tuple[list[str], list[Verdict]]:

    name = measure or view.task.decide_on
    known = [one.name for one in view.measures]
    if name not in known:
        if alone:
            raise UsageError(Problem(f"'{view.task.name}' has no measure '{name}'", known_words(str(name), known)))
        return [], []
    if not arms:
        ordered, verdicts = workflow.rank(view.scores, name)
        return [one.arm for one in ordered], verdicts
    chosen = [[one for one in view.scores if one.arm == word or one.arm.startswith(f"{word}/")] for word in arms]
    for word, fitting in zip(arms, chosen, strict=True):
        if len(fitting) != 1:
            several = ", ".join(one.arm for one in fitting) or "none of this task"
            raise UsageError(Problem(f"'{word}' means {several}", "name one arm in full, like gull/v2"))
    first, second = chosen[0][0], chosen[1][0]
    return [first.arm, second.arm], [workflow.compare_arms(first, second, name)]


def show_verdict(verdict: Verdict) -> None:
    """The verdict between two arms."""

    heading(f"{verdict.task}: {verdict.first} → {verdict.second}")
    say(workflow.verdict_text(verdict), style="bold")
    sides = (
        ArmEntry(verdict.first, verdict.before, verdict.first_costs),
        ArmEntry(verdict.second, verdict.after, verdict.second_costs),
    )
    arms_table(sides, VERDICT, score=verdict.what)
    changed = [("fixed", verdict.fixed), ("broken", verdict.broken)]
    changed += [(word, ids) for word, ids in (("improved", verdict.improved), ("worsened", verdict.worsened)) if ids]
    for word, ids in changed:
        more = f" and {len(ids) - _MOST_IDS} more" if len(ids) > _MOST_IDS else ""
        say(f"{word} {len(ids)}: {', '.join(ids[:_MOST_IDS])}{more}" if ids else f"{word} 0")


def show_ranking(view: TaskView, names: list[str], verdicts: list[Verdict]) -> None:
    """All arms from best to worst, and the best beside each."""

    by_first = {one.first: one for one in verdicts}
    measure = verdicts[0].measure if verdicts else view.task.decide_on
    heading(f"{view.task.heading}  (ranked on {measure})")
    rows = []
    for place, name in enumerate(names, 1):
        arm = view.score_of(name)
        if (score := arm.measure(str(measure))) is not None:
            entry = ArmEntry(name, workflow.estimate(score), arm.costs, arm.statuses, arm.unsent)
            rows.append(replace(entry, place=place, verdict=by_first.get(name)))
    arms_table(rows, RANKING)
    told = workflow.headline_verdicts([view.score_of(name) for name in names], verdicts)
    for number, verdict in enumerate(told):
        say(workflow.verdict_text(verdict), style=None if number else "bold")
    alike = [
        one.first for one in verdicts if one not in told and one.outcome in ("too close to call", "no difference")
    ]
    if alike:
        say(f"Also no significant difference from {names[0]}: {', '.join(alike)}.")
    for name in names:
        show_mixed_models(view.score_of(name))
    show_judges(view)
    show_older(view)
