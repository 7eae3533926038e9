"""Results → figures: score against money and seconds, effects, held-out cases, calibration, precision and recall."""

from __future__ import annotations

from collections.abc import Sequence

from drovik.comparing.effects import Effect, Effects
from drovik.comparing.frontier import PER, Amount, Frontier, FrontierArm, amount_interval, money_of
from drovik.comparing.held_out import SplitScore
from drovik.comparing.ranking import Ranking
from drovik.comparing.verdict import Estimate, with_interval
from drovik.reporting.columns import interval_text
from drovik.reporting.figures.figure import (
    SHAPES,
    Axis,
    Figure,
    Line,
    Mark,
    amount_axis,
    named_axis,
    share_axis,
)
from drovik.scoring.measure import Table
from drovik.text import bounds_text, difference_text, score_text, seconds_text


def scores_figure(ranking: Ranking, task: str) -> Figure | None:
    """Each ranked arm's score with its interval, the best on top; None where none is ranked."""
    if not ranking.arms or ranking.measure is None:
        return None
    found = list(zip(ranking.names, ranking.estimates, strict=True))[::-1]
    what = ranking.measure.what
    return Figure(
        f"{task}-scores",
        f"{task}: {what} by arm, with 95 % intervals",
        share_axis(what, [0.0, 1.0, *(one.low for _, one in found)], ranking.measure.is_coefficient),
        named_axis([name for name, _ in found]),
        tuple(Mark("", one.value, n, x_interval=(one.low, one.high)) for n, (_, one) in enumerate(found)),
        columns=("arm", "score", "95 % interval", "cases"),
        rows=tuple((name, *_scored(one), str(one.cases)) for name, one in found[::-1]),
    )


def _scored(one: Estimate) -> tuple[str, str]:
    return score_text(one.value, one.coefficient), interval_text(one)


def frontier_figure(frontier: Frontier, ranking: Ranking, task: str) -> Figure | None:
    """Score against money; None where the money of fewer than two arms is known."""
    arms = [one for one in frontier.arms if one.money is not None]
    if len(arms) < 2 or ranking.measure is None:
        return None
    money = {one.arm: one.money for one in arms if one.money is not None}
    title = f"{frontier.currency} for {PER} cases"
    return _against(arms, money, f"{task}-money", f"{task}: {ranking.measure.what} against money", title, True)


def seconds_figure(frontier: Frontier, ranking: Ranking, task: str) -> Figure | None:
    """Score against seconds; None where those of fewer than two arms are known."""
    arms = [one for one in frontier.arms if one.seconds is not None]
    if len(arms) < 2 or ranking.measure is None:
        return None
    seconds = {one.arm: one.seconds for one in arms if one.seconds is not None}
    title = f"{task}: {ranking.measure.what} against time"
    return _against(arms, seconds, f"{task}-seconds", title, "median seconds of an answer", False)


def _against(
    arms: Sequence[FrontierArm], amounts: dict[str, Amount], name: str, title: str, axis: str, money: bool
) -> Figure:
    models = list(dict.fromkeys(one.arm.partition("/")[0] for one in arms))
    plain = arms[0].score.coefficient
    scores = [side for one in arms for side in (one.score.low, one.score.high)]
    found = [amounts[one.arm] for one in arms]
    marks = tuple(
        Mark(
            one.arm, amount.value, one.score.value, (amount.low, amount.high), (one.score.low, one.score.high),
            SHAPES[models.index(one.arm.partition("/")[0]) % len(SHAPES)], faint=one.beaten_by is not None,
        )
        for one, amount in zip(arms, found, strict=True)
    )  # fmt: skip
    chosen = sorted((amounts[one.arm].value, one.score.value) for one in arms if one.chosen)
    return Figure(
        name,
        title,
        amount_axis(axis, [side for one in found for side in (one.low or one.value, one.high)]),
        share_axis("", scores, plain),
        marks,
        (Line(tuple(chosen), "to choose from", guide=True),) if money and len(chosen) > 1 else (),
        ("arm", "score", "95 % interval", axis, "95 % interval", ""),
        tuple(
            (
                one.arm, *_scored(one.score), _amount_text(amount, money), amount_interval(amount, money),
                f"worse than {one.beaten_by}" if one.beaten_by else "to choose from" if one.chosen else "",
            )
            for one, amount in zip(arms, found, strict=True)
        ),
    )  # fmt: skip


def _amount_text(amount: Amount, money: bool) -> str:
    return money_of(amount, "").strip() if money else seconds_text(amount.value)


def effects_figure(effects: Effects | None, task: str) -> Figure | None:
    """What each choice adds on average, with its interval; None where none is known."""
    known = [one for one in effects.effects if not one.why] if effects else []
    if effects is None or not known:
        return None
    names = [_choice(one) for one in known]
    sides = [0.0, *(side for one in known for side in (one.low, one.high))]
    axis = share_axis("points that it adds on average", sides, effects.coefficient)
    if not effects.coefficient:
        axis = Axis(
            axis.title, axis.low, axis.high, tuple((at, f"{at * 100:+g}" if at else "0") for at, _ in axis.ticks)
        )
    rows = [
        (
            f"{one.factor} {one.level}", f"{one.factor} {one.beside}",
            difference_text(one.value, effects.coefficient),
            one.why or " to ".join(bounds_text(one.low, one.high, effects.coefficient, signed=True)), str(one.arms),
        )
        for one in effects.effects
    ]  # fmt: skip
    return Figure(
        f"{task}-effects",
        f"{task}: what each choice adds on average",
        axis,
        named_axis(names[::-1]),
        tuple(
            Mark("", one.value, len(known) - 1 - n, (one.low, one.high), faint=not one.is_known)
            for n, one in enumerate(known)
        ),
        (Line(((0.0, -0.5), (0.0, len(known) - 0.5)), guide=True),),
        ("choice", "beside", "adds on average", "interval", "arms"),
        tuple(rows),
    )


def _choice(one: Effect) -> str:
    return f"{one.level} (not {one.beside})"


def held_out_figure(found: Sequence[SplitScore], task: str) -> Figure | None:
    """Each arm's score on tuned and on held-out cases; None where none has both."""
    both = [
        (one.arm, one.tuned, one.held_out, one)
        for one in found
        if one.tuned and one.held_out and one.drop is not None
    ]
    if not both:
        return None
    plain = both[0][1].coefficient
    marks, rows = [], []
    for number, (arm, tuned, held_out, one) in enumerate(both[::-1]):
        marks += [
            Mark("", tuned.value, number + 0.16, (tuned.low, tuned.high), None, "ring", True),
            Mark("", held_out.value, number - 0.16, (held_out.low, held_out.high), faint=not one.is_known),
        ]
        drop, low, high = -(one.drop or 0.0), -(one.high or 0.0), -(one.low or 0.0)
        within = " to ".join(bounds_text(low, high, plain, signed=True))
        rows.append((arm, with_interval(tuned), with_interval(held_out), difference_text(drop, plain), within))
    scores = [side for _, *found, _ in both for one in found for side in (one.low, one.high)]
    return Figure(
        f"{task}-held-out",
        f"{task}: tuned cases (ring) and held-out ones (dot)",
        share_axis("", scores, plain),
        named_axis([arm for arm, *_ in both[::-1]]),
        tuple(marks),
        columns=("arm", "tuned", "held out", "held out beside tuned", "95 % interval"),
        rows=tuple(rows[::-1]),
    )


def calibration_figure(table: Table, name: str, title: str) -> Figure | None:
    """How often answers were right, by how sure they said they were; None where none said so.

    :param table: as `confidence.curve` makes it.
    """
    rows = [(label, values[0], values[1], values[2]) for label, values in table.rows]
    if not rows:
        return None
    marks = tuple(Mark(f"{count:.0f}", stated, right) for _, count, stated, right in rows)
    return Figure(
        name,
        title,
        share_axis("confidence that was stated"),
        share_axis("right"),
        marks,
        (
            Line(((0.0, 0.0), (1.0, 1.0)), "as stated", guide=True),
            Line(tuple((one.x, one.y) for one in marks), "right"),
        ),
        ("stated", *table.columns),
        tuple((label, f"{count:.0f}", score_text(stated), score_text(right)) for label, count, stated, right in rows),
    )


def recall_figure(
    curves: Sequence[tuple[str, Sequence[tuple[float, float]]]], name: str, title: str
) -> Figure | None:
    """Precision against recall of several arms; None where there is no curve."""
    curves = [(arm, points) for arm, points in curves if points]
    if not curves:
        return None
    marks = tuple(Mark(arm, *points[-1], shape=SHAPES[n % len(SHAPES)]) for n, (arm, points) in enumerate(curves))
    return Figure(
        name,
        title,
        share_axis("recall"),
        share_axis("precision"),
        marks,
        tuple(Line(tuple(points), arm) for arm, points in curves),
        ("arm", "finds", "recall of all", "precision of all"),
        tuple(
            (arm, str(len(points)), score_text(points[-1][0]), score_text(points[-1][1])) for arm, points in curves
        ),
    )
