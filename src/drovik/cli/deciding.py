"""What `drovik compare` says to decide by: what each choice adds, and score against money and time."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.against import against_document, show_against
from drovik.cli.arguments import points
from drovik.cli.cascades import cascades_document, show_cascades
from drovik.cli.printing import say, table
from drovik.reporting.columns import interval_text
from drovik.text import bounds_text, difference_text, score_text, seconds_text

if TYPE_CHECKING:
    from drovik.comparing.against import Against
    from drovik.comparing.effects import Effect, Effects
    from drovik.comparing.frontier import Frontier
    from drovik.comparing.ranking import Ranking
    from drovik.evaluation.gathering import TaskView


def add_deciding_arguments(parser: argparse.ArgumentParser) -> None:
    """`--effects` and `--frontier`."""
    parser.add_argument(
        "--effects", action="store_true", help="what each model, prompt, prep and variant adds on average"
    )
    parser.add_argument(
        "--frontier", action="store_true", help="score against money and seconds: which arms to choose from"
    )
    parser.add_argument(
        "--against", metavar="WHAT", help="score against pictures (their size), money, seconds, or a setting's name"
    )
    parser.add_argument(
        "--plan", type=points, metavar="N", help="how many cases, of which labels, show a difference of N points"
    )
    parser.add_argument(
        "--cascades", action="store_true",
        help="what it is worth to ask a cheap arm first, or to take votes; with --held-out judged on those",
    )  # fmt: skip


def deciding_document(
    view: TaskView,
    ranking: Ranking,
    arguments: argparse.Namespace,
    held_out: Ranking | None = None,
    against: Against | None = None,
) -> dict[str, Any]:
    """What was asked for, for `--json`.

    :param held_out: the same arms on the held-out cases, where these are looked at.
    :param against: the arms against an amount, where that is asked for.
    """
    document: dict[str, Any] = {}
    if arguments.cascades:
        document |= cascades_document(ranking, held_out, arguments.margin)
    if arguments.effects:
        found = workflow.effects_of(ranking, workflow.choices_of(view))
        document["effects"] = None if found is None else asdict(found)
    if against is not None:
        document |= against_document(against)
    if arguments.frontier:
        document["frontier"] = asdict(workflow.frontier_of(ranking))
    return document


def show_deciding(
    view: TaskView,
    ranking: Ranking,
    arguments: argparse.Namespace,
    held_out: Ranking | None = None,
    against: Against | None = None,
) -> None:
    """What was asked for.

    :param held_out: the same arms on the held-out cases, where these are looked at.
    :param against: the arms against an amount, where that is asked for.
    """
    if arguments.effects:
        show_effects(workflow.effects_of(ranking, workflow.choices_of(view)))
    if arguments.frontier and ranking.arms:
        show_frontier(workflow.frontier_of(ranking), ranking)
    if against is not None:
        show_against(against)
    if arguments.cascades:
        show_cascades(ranking, held_out, arguments.margin)


def show_frontier(found: Frontier, ranking: Ranking) -> None:
    """The arms by money, which to choose from, and what a point costs."""
    say()
    rows = [
        (
            one.arm, score_text(one.score.value, one.score.coefficient), interval_text(one.score),
            workflow.money_of(one.money, found.currency), workflow.amount_interval(one.money, True),
            seconds_text(one.seconds.value if one.seconds else None), workflow.amount_interval(one.seconds, False),
            f"worse than {one.beaten_by}" if one.beaten_by else "to choose from" if one.chosen else "",
        )
        for one in found.arms
    ]  # fmt: skip
    table(
        ("arm", "score", "95 % interval", "1000 cases", "95 % interval", "median time", "95 % interval", ""),
        rows, numbers=(1, 3, 5),
    )  # fmt: skip
    for line in workflow.choice_text(found, ranking):
        say(line)


def show_effects(found: Effects | None) -> None:
    """What each choice adds, and where choices interact."""
    say()
    if found is None:
        say("No effects: all arms have the same model, prompt, prep and variant.")
        return
    rows = [_effect_row(one, found.coefficient) for one in found.effects]
    table(("choice", "beside", "adds on average", "95 % interval", "arms", ""), rows, numbers=(2, 4))
    for one in found.interactions:
        if one.is_known:
            say(workflow.interaction_text(one, found.coefficient), style="bold")
    if found.interactions and not any(one.is_known for one in found.interactions):
        say("No choice is known to do more or less with another.")
    if told := workflow.missing_text(found):
        say(told)
    many = len(found.effects) + len(found.interactions)
    say(f"Intervals hold together for {many} effects and interactions.", style="dim")


def _effect_row(one: Effect, coefficient: bool) -> tuple[str, ...]:
    low, high = bounds_text(one.low, one.high, coefficient, signed=True)
    said = one.why or ("" if one.is_known else "may be nothing")
    value = difference_text(one.value, coefficient)
    return f"{one.factor} {one.level}", one.beside, value, f"{low} to {high}", str(one.arms), said
