"""`drovik compare`: the verdict between two arms, or the ranking of all of a task's arms."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.against import against_of
from drovik.cli.arguments import add_own_argument, add_project_argument, add_split_argument, open_project, open_store
from drovik.cli.arm_words import arm_meant, views_having
from drovik.cli.case_plan import show_plans
from drovik.cli.compare_by import Levels, add_by_arguments, show_margin, show_margins
from drovik.cli.deciding import add_deciding_arguments, deciding_document, show_deciding
from drovik.cli.gates import add_gate_arguments, arms_named, is_gate, run_gates
from drovik.cli.held_out import Looks, show_splits
from drovik.cli.outputs import add_force_argument
from drovik.cli.printing import add_all_argument, arms_table, cut_list, explain_arms, heading, print_json, say
from drovik.cli.score import show_judges, show_mixed_models, show_older
from drovik.errors import DONE, Problem, UsageError, known_words
from drovik.reporting.columns import RANKING, VERDICT, ArmEntry
from drovik.reporting.documents import estimate_document, ranking_document, verdict_document

if TYPE_CHECKING:
    from drovik.comparing.ranking import Ranking
    from drovik.comparing.verdict import Verdict
    from drovik.evaluation.controls import ControlScores
    from drovik.evaluation.gathering import TaskView
    from drovik.scoring.scores import ArmScores

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
    add_by_arguments(parser)
    add_deciding_arguments(parser)
    add_gate_arguments(parser)
    add_force_argument(parser)
    add_split_argument(parser)
    parser.add_argument(
        "--held-out", action="store_true", help="tuned and held-out cases side by side, with the drop between"
    )
    add_all_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Compare what has been answered; nothing is sent."""

    if len(arguments.arms) not in (0, 2) and not is_gate(arguments):
        raise UsageError(Problem("compare takes two arms, or none to rank all", "see: drovik compare --help"))
    if arguments.arms and (arguments.effects or arguments.frontier or arguments.cascades or arguments.against):
        raise UsageError(
            Problem("effects, frontier, cascades and --against are of all arms of a task", "leave the named ones out")
        )
    project = open_project(arguments.project)
    arms = arms_named(arguments) if is_gate(arguments) else arguments.arms
    with open_store(project.store_place, create=False) as store:
        views = workflow.gather(project, store, arguments.task, arms, arguments.split, arguments.trust)
        if not is_gate(arguments):
            views = views_having(views, arguments.arms)
        looks = Looks(store, views, arguments.split)
        if is_gate(arguments):
            code = run_gates(_measured(views, arguments.measure), arguments, looks.document())
            looks.show(arguments.json)
            return code
        if arguments.held_out and not arguments.cascades:
            apart = workflow.gather(project, store, arguments.task, arms, "held_out", arguments.trust)
            looks = Looks(store, apart, "held_out")
            _show_splits(_measured(views, arguments.measure), apart, looks, arguments.json)
            return DONE
        if arguments.plan is not None:
            measured = _measured(views, arguments.measure)
            show_plans(project, store, measured, arguments.arms, arguments.plan, arguments.json)
            return DONE
        levels = Levels(project, store, arguments.by)
        held_out: list[TaskView] = []
        if arguments.held_out:
            held_out = workflow.gather(project, store, arguments.task, arms, "held_out", arguments.trust)
            looks = Looks(store, held_out, "held_out")
        if arguments.arms:
            _compare_two(views, arguments, levels, looks)
        else:
            _rank_all(views, arguments, levels, looks, held_out)
    looks.show(arguments.json)
    return DONE


def _show_splits(
    measured: Sequence[tuple[TaskView, str]], held_out: Sequence[TaskView], looks: Looks, as_json: bool
) -> None:
    theirs = {view.task.name: view.scores for view in held_out}
    found = [
        (view, name, workflow.split_scores(view.scores, theirs.get(view.task.name, ()), name))
        for view, name in measured
    ]
    if as_json:
        tasks = {
            view.task.name: {"measure": name, "arms": [asdict(one) for one in arms]} for view, name, arms in found
        }
        print_json({"tasks": tasks, **looks.document()})
        return
    for view, name, arms in found:
        show_splits(view.task.heading, name, arms)
    looks.show(False)


def _measure_of(view: TaskView, wanted: str | None, alone: bool) -> str | None:
    """The measure that a task is compared on; None if it has none of that name and is not the only task."""
    name = wanted or view.task.decide_on
    known = [one.name for one in view.measures]
    if name in known:
        return name
    if alone:
        raise UsageError(Problem(f"'{view.task.name}' has no measure '{name}'", known_words(str(name), known)))
    return None


def _measured(views: Sequence[TaskView], wanted: str | None) -> list[tuple[TaskView, str]]:
    """The tasks that can be compared, each with its measure.

    :raises UsageError: if there is none.
    """
    found = [(view, name) for view in views if (name := _measure_of(view, wanted, len(views) == 1)) is not None]
    if not found and wanted:
        names = sorted({one.name for view in views for one in view.measures})
        raise UsageError(Problem(f"no task has a measure '{wanted}'", known_words(wanted, names)))
    if not found:
        raise UsageError(Problem("there is nothing to compare yet", "send first: drovik send"))
    return found


def _rank_all(
    views: Sequence[TaskView],
    arguments: argparse.Namespace,
    levels: Levels,
    looks: Looks,
    held_out: Sequence[TaskView] = (),
) -> None:
    theirs = {view.task.name: view for view in held_out}

    def unseen(view: TaskView, ranking: Ranking) -> Ranking | None:
        there = theirs.get(view.task.name)
        return workflow.rank(there.scores, ranking.measure.name) if there and ranking.measure else None

    rankings = [(view, workflow.rank(view.scores, name)) for view, name in _measured(views, arguments.measure)]
    if not any(arm.statuses for view, _ in rankings for arm in view.scores):
        raise UsageError(Problem("there is nothing to compare yet", "send first: drovik send"))
    against = against_of(rankings, levels.store, arguments.against)
    if arguments.json:
        tasks = {
            view.task.name: ranking_document(ranking)
            | {"controls": [_control_document(view, one, ranking) for one in view.controls]}
            | levels.ranking_document(view, ranking)
            | deciding_document(view, ranking, arguments, unseen(view, ranking), against.get(view.task.name))
            for view, ranking in rankings
        }
        print_json({"tasks": tasks, **looks.document()})
        return
    for number, (view, ranking) in enumerate(rankings):
        show_ranking(view, ranking, arguments.all)
        show_margins(ranking, arguments.margin)
        levels.show_ranking(view, ranking)
        show_deciding(view, ranking, arguments, unseen(view, ranking), against.get(view.task.name))
        if number == 0:
            explain_arms()


def _compare_two(views: Sequence[TaskView], arguments: argparse.Namespace, levels: Levels, looks: Looks) -> None:
    found = []
    for view, name in _measured(views, arguments.measure):
        first, second = (arm_meant(view, word) for word in arguments.arms)
        found.append((view, first, second, workflow.compare_arms(first, second, name)))
    if arguments.json:
        tasks = {
            view.task.name: {
                "arms": [first.arm, second.arm],
                "verdicts": [verdict_document(verdict, arguments.margin)],
            }
            | _change_document(view, first.arm, second.arm)
            | levels.verdict_document(view, first, second, verdict.measure)
            for view, first, second, verdict in found
        }
        print_json({"tasks": tasks, **looks.document()})
        return
    for number, (view, first, second, verdict) in enumerate(found):
        show_verdict(verdict)
        change = workflow.change_between(view, first.arm, second.arm)
        for line in workflow.change_text(change) if change else ():
            say(line)
        show_margin(verdict, arguments.margin)
        levels.show_verdict(view, first, second, verdict.measure)
        _show_bounds((first, second), verdict.measure)
        if number == 0:
            explain_arms()


def _control_document(view: TaskView, one: ControlScores, ranking: Ranking) -> dict[str, Any]:
    """A control of an arm, for `--json`."""
    name = ranking.measure.name if ranking.measure else str(view.task.decide_on)
    score = one.scores.measure(name)
    return {
        "arm": one.arm, "control": one.control, "asked": one.asked, "moved": one.moved,
        "score": None if score is None or not score.scored else estimate_document(workflow.estimate(score)),
        "in_words": workflow.control_text(one, view.score_of(one.arm), name),
    }  # fmt: skip


def _change_document(view: TaskView, first: str, second: str) -> dict[str, Any]:
    """What changed between two periods of one arm, for `--json`; nothing where they are two arms."""
    change = workflow.change_between(view, first, second)
    return {} if change is None else {"change": asdict(change)}


def _show_bounds(arms: Sequence[ArmScores], measure: str) -> None:
    """Between what a score lies if answers that failed were all wrong, or all right."""
    for arm in arms:
        score = arm.measure(measure)
        if score is not None and score.bounds is not None:
            say(f"{arm.arm}: {workflow.bounds_sentence(score)}")


def show_verdict(verdict: Verdict) -> None:
    """The verdict between two arms."""

    heading(f"{verdict.task}: {verdict.first} → {verdict.second}")
    say(workflow.verdict_line(verdict), style="bold")
    if details := workflow.verdict_details(verdict):
        say(details, style="dim")
    sides = (
        ArmEntry(verdict.first, verdict.before, verdict.first_costs),
        ArmEntry(verdict.second, verdict.after, verdict.second_costs),
    )
    arms_table(sides, VERDICT, score=verdict.what)
    if told := workflow.more_cases_text(verdict):
        say(told)
    changed = [("fixed", verdict.fixed), ("broken", verdict.broken)]
    changed += [(word, ids) for word, ids in (("improved", verdict.improved), ("worsened", verdict.worsened)) if ids]
    for word, ids in changed:
        more = f" and {len(ids) - _MOST_IDS} more" if len(ids) > _MOST_IDS else ""
        say(f"{word} {len(ids)}: {', '.join(ids[:_MOST_IDS])}{more}" if ids else f"{word} 0")


def show_ranking(view: TaskView, ranking: Ranking, everything: bool = False) -> None:
    """The arms from best to worst, and the best beside each; the first few, or all."""

    measure = ranking.measure.name if ranking.measure else view.task.decide_on
    heading(f"{view.task.heading}  (ranked on {measure})")
    rows = []
    ranked = list(zip(ranking.arms, ranking.estimates, strict=True))
    for place, (arm, one) in enumerate(cut_list(ranked, everything, "arms"), 1):
        entry = ArmEntry(arm.arm, one, arm.costs, arm.statuses, arm.unsent)
        rows.append(replace(entry, place=place, verdict=ranking.beside(arm.arm)))
    if rows:
        arms_table(rows, RANKING)
    if told := workflow.ranking_text(ranking):
        say(told, style="bold")
    for verdict in workflow.headline_verdicts(ranking):
        say(workflow.verdict_line(verdict))
    if told := workflow.flattery_text(ranking):
        say(told)
    for name, why in ranking.set_aside:
        say(f"Not ranked: {name}, {why}.", style="yellow")
    for control in view.controls:
        if told := workflow.control_text(control, view.score_of(control.arm), str(measure)):
            say(told)
    for told in workflow.constant_scores(view):
        say(f"{told}.", style="yellow")
    _show_bounds(view.scores, str(measure))
    for arm in view.scores:
        show_mixed_models(arm)
    show_judges(view)
    show_older(view)
