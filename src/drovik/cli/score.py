"""`drovik score`: the scores of each arm, with their uncertainty, and the statuses beside them."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import (
    add_choice_arguments,
    add_cluster_argument,
    add_own_argument,
    add_project_argument,
    add_split_argument,
    open_project,
    open_store,
)
from drovik.cli.causes import show_causes, show_doubts
from drovik.cli.held_out import Looks
from drovik.cli.kept import Printed, printed_again
from drovik.cli.printing import add_all_argument, arms_table, cut_list, explain_arms, heading, print_json, say, table
from drovik.errors import DONE
from drovik.money import money_text
from drovik.reporting.columns import SCORES, ArmEntry
from drovik.reporting.documents import arm_document, causes_document, suspects_document
from drovik.text import counted, percent

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView
    from drovik.project.reading import Project
    from drovik.scoring.json_pointer import Structure
    from drovik.scoring.measure import Table
    from drovik.scoring.scores import ArmScores

EXAMPLE = "drovik score --task sort --details\n  drovik score --causes"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    add_choice_arguments(parser)
    add_own_argument(parser)
    add_split_argument(parser)
    parser.add_argument("--details", action="store_true", help="also confusion matrices, labels, fields, statements")
    parser.add_argument("--causes", action="store_true", help="why answers are wrong, and what to fix first")
    parser.add_argument(
        "--suspects", action="store_true", help="suspect expected outputs: those that the models agree against"
    )
    add_all_argument(parser)
    add_cluster_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


@printed_again(lambda given: given.split == "tune" and not given.trust and not given.cluster)
def run(arguments: argparse.Namespace, printed: Printed) -> int:
    """Score what has been answered; nothing is sent."""

    project = open_project(arguments.project, printed.states)
    with (
        workflow.judges_on(arguments.cluster, project) as judges,
        open_store(project.store_place, create=False) as store,
    ):
        views = workflow.gather(
            project, store, arguments.task, arguments.arm, arguments.split, arguments.trust, judges
        )
        looks = Looks(store, views, arguments.split)
    if arguments.json:
        document: dict[str, Any] = {
            "tasks": {view.task.name: [_arm_document(view, one) for one in view.scores] for view in views}
        }
        if arguments.causes:
            document["causes"] = {view.task.name: causes_document(view) for view in views}
        if arguments.suspects:
            document["suspects"] = suspects_document(project, views)
        print_json({**document, **looks.document()})
        return DONE
    for number, view in enumerate(views):
        show_scores(view, arguments.all)
        if number == 0:
            explain_arms()
        if arguments.details:
            for one in view.scores:
                _show_details(one)
                if (structure := view.structure(one.arm)) is not None:
                    _show_structure(one.arm, structure)
        if arguments.causes:
            show_causes(view, arguments.all)
    if arguments.suspects:
        show_doubts(project, views)
    _say_what_is_missing(project, [view.task.name for view in views])
    looks.show()
    return DONE


def _say_what_is_missing(project: Project, tasks: Sequence[str]) -> None:
    """The cases without an expected output, by task."""
    for line in workflow.missing_expected(project):
        if line.partition(":")[0] in tasks:
            say(f"{line}.", style="yellow")


def _arm_document(view: TaskView, arm: ArmScores) -> dict[str, Any]:

    structure = view.structure(arm.arm)
    return {**arm_document(arm), "structure": asdict(structure) if structure else None}


def show_scores(view: TaskView, everything: bool = False) -> None:
    """The table of a task's arms; the first few, or all."""
    heading(view.task.heading)
    rows = []
    for arm in cut_list(view.scores, everything, "arms"):
        whole = ArmEntry(arm.arm, costs=arm.costs, statuses=arm.statuses, unsent=arm.unsent)
        measured = [(f"{one.measure.name} ({one.measure.what})", workflow.estimate(one)) for one in arm.measures]
        if measured:
            (name, first), *others = measured
            rows.append(replace(whole, measure=name, estimate=first))
            rows += [ArmEntry("", estimate=one, measure=name) for name, one in others]
        else:
            rows.append(whole)
    arms_table(rows, SCORES)
    _show_notes(view)


def _show_notes(view: TaskView) -> None:

    for arm in view.scores:
        for score in arm.measures:
            as_read = workflow.estimate_as_read(score)
            if as_read is not None:
                said = workflow.with_interval(as_read)
                say(f"{arm.arm}: {score.measure.name} would be {said} if answers off the schema were scored as read.")
            if score.bounds is not None:
                say(f"{arm.arm}: {workflow.bounds_sentence(score)}")
        _show_repeats(arm)
        show_mixed_models(arm)
        if view.task.measures and not arm.measures and arm.statuses:
            say(f"{arm.arm}: none of its answers can be scored.")
    if not view.task.measures and view.task.judges is None:
        say(workflow.unmeasured_text(view.task, view.cases), style="yellow")
    for told in workflow.constant_scores(view):
        say(f"{told}.", style="yellow")
    show_judges(view)
    show_not_run(view)
    show_older(view)


def show_judges(view: TaskView) -> None:
    """Say how far each judge agrees with people."""

    for measure in view.measures:
        if told := workflow.agreement_text(measure):
            say(f"{told}.", style="yellow")


def show_not_run(view: TaskView) -> None:
    """Say which own measures were left out, and which answers the others could not score."""
    if view.not_run:
        names = ", ".join(view.not_run)
        say(
            f"Not run, for it is Python code of this project: {names}. To run it: drovik score --trust",
            style="yellow",
        )
    for measure in view.measures:
        why = next((one for arm in view.scores if (one := arm.not_scored.get(measure.name))), "")
        if why and all(arm.measure(measure.name) is None for arm in view.scores):
            say(f"{measure.name} could score nothing: {why}", style="yellow")
    for arm in view.scores:
        for score in arm.measures:
            if score.unscored:
                say(f"{arm.arm}: {score.measure.name} could not score {len(score.unscored)}: {score.unscored[0]}")


def show_mixed_models(arm: ArmScores) -> None:
    """Mark an arm whose answers came from several reported models."""
    if len(arm.costs.reported_models) > 1:
        say(
            f"{arm.arm}: the service reported several models: {', '.join(arm.costs.reported_models)}.", style="yellow"
        )


def _show_repeats(arm: ArmScores) -> None:
    """What repeats agree on, and what repair turns came to and cost beside the first."""

    if arm.agreement is not None:
        same = percent(arm.agreement)
        by_measure = [
            f"{one.measure.name} {percent(one.agreement)}" for one in arm.measures if one.agreement is not None
        ]
        looked_at = f" (of what each measure looks at: {', '.join(by_measure)})" if by_measure else ""
        say(f"{arm.arm}: asked {arm.repeats} times each; {same} of the pairs of repeats answer the same{looked_at}.")
    if arm.second is not None:
        one = arm.second
        told = [f"{score.measure.name} {workflow.with_interval(workflow.estimate(score))}" for score in one.measures]
        cost = f"{money_text(one.costs.money)} beside {money_text(arm.costs.money)}"
        say(f"{arm.arm}: {one.asked} repair turns, {one.in_form} valid; with them {', '.join(told)}, for {cost}.")


def show_older(view: TaskView) -> None:
    """Say which arms asked before something of them was edited."""
    if view.older:
        older = ", ".join(f"{name} ({counted(count, 'case')})" for name, count in view.older)
        say(f"Results of earlier versions (edited since): {older}.")


def _show_details(arm: ArmScores) -> None:

    for score in arm.measures:
        heading(f"{arm.arm}: {score.measure.name}, {counted(len(score.scored), 'case')}")
        say(
            ", ".join(
                f"{name} {workflow.with_interval(one)}" for name, one in workflow.estimate_figures(score).items()
            )
        )
        for table_ in score.tables:
            show_table(table_)


def _show_structure(arm: str, structure: Structure) -> None:
    """Which members of JSON answers come and go."""

    heading(f"{arm}: structure of {counted(structure.answers, 'answer')}, {percent(structure.same)} of them alike")
    rows = [
        [
            one.place or "(all)",
            f"{one.answers} of {structure.answers}",
            ", ".join(f"{kind} {n}" for kind, n in one.kinds),
        ]
        for one in structure.changing
    ]
    if rows:
        table(("member", "is there in", "as"), rows, numbers=())


def show_table(one: Table) -> None:
    """A measure's own table."""
    say(one.title, style="dim")

    def cell(value: float) -> str:
        return f"{value * 100:.1f} %" if one.shares else f"{value:g}" if value else "·"

    rows = [[name, *(cell(value) for value in values)] for name, values in one.rows]
    table(("", *one.columns), rows, numbers=range(1, len(one.columns) + 1))
