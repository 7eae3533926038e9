"""Cascades and votes as `drovik compare` shows them: a row each, with the threshold that tuned cases choose."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.printing import say, table
from drovik.text import percent, score_text

if TYPE_CHECKING:
    from drovik.comparing.cascades import Cascade, CascadePoint
    from drovik.comparing.ranking import Ranking
    from drovik.comparing.verdict import Estimate

USUAL_MARGIN = 0.01
"""So far below the expensive arm a cascade may score, where no margin was given: one point."""


def _chosen(ranking: Ranking, margin: float | None) -> list[tuple[Cascade, CascadePoint | None]]:
    """Every cascade with its threshold; None where only asking the expensive arm always comes near enough."""
    scores = {arm.arm: one for arm, one in zip(ranking.arms, ranking.estimates, strict=True)}
    return [
        (one, workflow.chosen_point(one, scores[one.expensive], USUAL_MARGIN if margin is None else margin))
        for one in workflow.cascades_of(ranking)
    ]


def _judged(found: Cascade, threshold: float, held_out: Ranking | None) -> tuple[CascadePoint, Estimate] | None:
    """What a threshold is worth on the held-out cases, and the expensive arm alone there."""
    arms = {} if held_out is None else {arm.arm: arm for arm in held_out.arms}
    if held_out is None or found.cheap not in arms or found.expensive not in arms:
        return None
    point = workflow.cascade_point(held_out, arms[found.cheap], arms[found.expensive], found.signal, threshold)
    alone = held_out.estimates[list(held_out.names).index(found.expensive)]
    return point, alone


def cascades_document(ranking: Ranking, held_out: Ranking | None, margin: float | None) -> dict[str, Any]:
    """All thresholds of all cascades, the chosen ones and what they are worth on held-out cases; and the votes."""
    cascades = []
    for one, point in _chosen(ranking, margin):
        judged = _judged(one, point.threshold, held_out) if point else None
        cascades.append(
            asdict(one)
            | {"chosen": asdict(point) if point else None, "held_out": asdict(judged[0]) if judged else None}
            | {"held_out_alone": asdict(judged[1]) if judged else None}
        )
    return {"cascades": cascades, "votes": [asdict(one) for one in workflow.votes_of(ranking)]}


def show_cascades(ranking: Ranking, held_out: Ranking | None, margin: float | None) -> None:
    """A row a cascade that is worth something, and a row a vote."""
    say()
    found = _chosen(ranking, margin)
    rows = [_row(one, point, held_out) for one, point in found if point is not None]
    if rows:
        titles = ("first", "then", "where unsure by", "then asked", "score", "1000 cases", "held out")
        table(titles, rows, numbers=(3, 4, 5))
        if held_out is None:
            say(
                "The thresholds were chosen on these cases, which flatters them: judge them by --cascades --held-out."
            )
    else:
        few = (
            "no arm is unsure by anything that varies"
            if not found
            else "only asking the more expensive arm always does"
        )
        say(f"No cascade comes as near to a more expensive arm as it has to: {few}.")
    votes = [
        (one.name, workflow.with_interval(one.score), "–" if one.money is None else f"{one.money:.4f} {one.currency}")
        for one in workflow.votes_of(ranking)
    ]
    if votes:
        table(("votes of", "score", "1000 cases"), votes, numbers=(2,))


def _row(one: Cascade, point: CascadePoint, held_out: Ranking | None) -> tuple[str, ...]:
    judged = _judged(one, point.threshold, held_out)
    told = ""
    if judged is not None:
        there, alone = judged
        scores = [score_text(side.value, side.coefficient) for side in (there.score, alone)]
        told = f"{scores[0]}, {one.expensive} alone {scores[1]}"
    money = "–" if point.money is None else f"{point.money:.4f} {one.currency}"
    return (
        one.cheap,
        one.expensive,
        one.signal,
        percent(point.asked),
        workflow.with_interval(point.score),
        money,
        told,
    )
