"""Scores against money and seconds → which arms nobody should use, which to choose from, what a point costs.

To choose from are the corners of the upper convex hull of score over money: whoever pays a fixed price for a point
takes one of them, whatever it is. Left out is what scores below half of the best, and of more than three the cheaper.
"""

from __future__ import annotations

import itertools
import math
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from drovik.comparing.contrast import contrast_of, sample_of
from drovik.comparing.intervals import LEVEL, student_quantile
from drovik.comparing.ranking import Ranking
from drovik.comparing.verdict import Estimate
from drovik.heavy import special
from drovik.scoring.scores import ScoredCase
from drovik.text import score_text, seconds_text

PER = 1000
"""Money is given for this many cases."""
MOST_CHOSEN = 3
Point = tuple[float, float]
"""Money and score."""


@dataclass(frozen=True)
class Amount:
    """What something comes to, with its 95 % interval."""

    value: float
    low: float
    high: float


@dataclass(frozen=True)
class FrontierArm:
    """An arm with its score, and what a thousand cases cost and a case takes, on the cases that all arms share.

    `money` is None where prices are not known or are in several currencies. `seconds` are the median. `beaten_by` is
    an arm that is known to be better and costs no more: nobody should use this one. `chosen` says that it is one of
    the two or three to choose from.
    """

    arm: str
    score: Estimate
    money: Amount | None
    seconds: Amount | None
    beaten_by: str | None = None
    chosen: bool = False


@dataclass(frozen=True)
class PriceOfPoint:
    """From one arm to the next better that is worth choosing: what a point more costs for a thousand cases.

    `low` is the price if the gain is as large as its interval allows; `high` if as small, and None where it may be
    nothing.
    """

    first: str
    second: str
    points: float
    price: float
    low: float
    high: float | None


@dataclass(frozen=True)
class Frontier:
    """The arms by money, the cheapest first; those without known money last."""

    currency: str | None
    arms: tuple[FrontierArm, ...]
    prices: tuple[PriceOfPoint, ...]

    def named(self, name: str) -> FrontierArm:
        """The arm of that name."""
        return next(one for one in self.arms if one.arm == name)


def frontier_of(ranking: Ranking) -> Frontier:
    """The ranked arms by score, money and seconds."""
    cases = {arm.arm: ranking.cases_of(arm) for arm in ranking.arms}
    currency = _currency(cases)
    money = {name: _money(mine, currency) for name, mine in cases.items()}
    scores = {arm.arm: one for arm, one in zip(ranking.arms, ranking.estimates, strict=True)}
    chosen = _to_choose_from(scores, money)
    found = [
        FrontierArm(
            name, score, money[name], _seconds(cases[name]),
            beaten_by=_beaten_by(name, ranking, scores, money), chosen=name in chosen,
        )
        for name, score in scores.items()
    ]  # fmt: skip
    found.sort(key=lambda one: (one.money is None, one.money.value if one.money else 0.0, -one.score.value))
    return Frontier(currency, tuple(found), _prices(chosen, ranking, scores, money))


def _currency(cases: Mapping[str, Sequence[ScoredCase]]) -> str | None:
    """The one currency that all arms are paid in; None where there are several, or none."""
    found = {
        answer.spent.currency for mine in cases.values() for one in mine for answer in one.answers if answer.spent
    }
    return found.pop() if len(found) == 1 else None


def money_per_case(cases: Sequence[ScoredCase]) -> tuple[str | None, Amount | None]:
    """The currency that cases are paid in, and what one costs; None where that is not known of all."""
    currency = _currency({"": cases})
    return currency, _mean_money(cases, currency, 1)


def _money(cases: Sequence[ScoredCase], currency: str | None) -> Amount | None:
    return _mean_money(cases, currency, PER)


def _mean_money(cases: Sequence[ScoredCase], currency: str | None, many: int) -> Amount | None:
    """The mean of what a case costs, times `many`, with the interval by Student's t."""
    if currency is None or any(answer.spent is None for one in cases for answer in one.answers):
        return None
    each = [float(sum((answer.spent.amount for answer in one.answers if answer.spent), Decimal(0))) for one in cases]
    if not each:
        return None
    mean = statistics.fmean(each)
    if len(each) < 2:
        return Amount(mean * many, mean * many, mean * many)
    half = student_quantile(len(each) - 1) * statistics.stdev(each) / math.sqrt(len(each))
    return Amount(mean * many, max(0.0, mean - half) * many, (mean + half) * many)


def _seconds(cases: Sequence[ScoredCase]) -> Amount | None:
    """The median of the answers' seconds, between two of them (W. R. Thompson, Ann. Math. Statist. 7, 1936)."""
    each = sorted(answer.seconds for one in cases for answer in one.answers if answer.seconds is not None)
    if not each:
        return None
    out = int(special.bdtrik((1 - LEVEL) / 2, len(each), 0.5)) if len(each) > 5 else 0
    return Amount(statistics.median(each), each[out], each[len(each) - 1 - out])


def _beaten_by(
    name: str, ranking: Ranking, scores: Mapping[str, Estimate], money: Mapping[str, Amount | None]
) -> str | None:
    """The best of the arms that are known to be better and cost no more, or are better and known to cost less."""
    mine = money[name]
    if mine is None:
        return None
    for other in ranking.names:
        theirs = money[other]
        if (
            other != name
            and theirs is not None
            and theirs.value <= mine.value
            and (other, name) in ranking.known_better
        ):
            return other
    return None


def _to_choose_from(scores: Mapping[str, Estimate], money: Mapping[str, Amount | None]) -> list[str]:
    """The corners of the hull that are worth it, the cheapest first."""
    priced = sorted((amount.value, -scores[name].value, name) for name, amount in money.items() if amount is not None)
    at = {name: (price, -minus) for price, minus, name in priced}
    hull: list[str] = []
    for _, _, name in priced:
        if hull and at[name][1] <= at[hull[-1]][1]:
            continue
        while len(hull) > 1 and _turns_up(at[hull[-2]], at[hull[-1]], at[name]):
            hull.pop()
        hull.append(name)
    enough = max((score for _, score in at.values()), default=0.0) / 2
    return [name for name in hull if scores[name].high >= enough][-MOST_CHOSEN:]


def _turns_up(first: Point, middle: Point, last: Point) -> bool:
    """Whether the middle one lies on or below the line between the others: a point costs less beyond it."""
    return (last[1] - middle[1]) * (middle[0] - first[0]) >= (middle[1] - first[1]) * (last[0] - middle[0])


def _prices(
    chosen: Sequence[str], ranking: Ranking, scores: Mapping[str, Estimate], money: Mapping[str, Amount | None]
) -> tuple[PriceOfPoint, ...]:
    found = []
    for first, second in itertools.pairwise(chosen):
        before, after = money[first], money[second]
        gained = (scores[second].value - scores[first].value) * 100
        if before is None or after is None or ranking.measure is None:
            continue
        costlier = after.value - before.value
        low, high = _gain(ranking, first, second)
        found.append(
            PriceOfPoint(
                first, second, gained, costlier / gained, costlier / (high * 100) if high > 0 else math.inf,
                costlier / (low * 100) if low > 0 else None,
            )
        )  # fmt: skip
    return tuple(found)


def _gain(ranking: Ranking, first: str, second: str) -> tuple[float, float]:
    """The interval of what the second arm scores above the first."""
    assert ranking.measure is not None, "there are arms"
    measure, arms = ranking.measure, {arm.arm: arm for arm in ranking.arms}
    one, other = (sample_of(arms[name].task, measure, ranking.cases_of(arms[name])) for name in (first, second))
    return contrast_of(one, other).interval()


def choice_text(frontier: Frontier, ranking: Ranking) -> list[str]:
    """Which arms to choose from, which nobody should use, and what a point costs: a line each."""
    if frontier.currency is None:
        return [
            "What arms cost is not known in one currency, so that none can be chosen by it: add prices to the models."
        ]
    lines = []
    plain = ranking.measure is not None and ranking.measure.is_coefficient
    told = [
        f"{one.arm} ({score_text(one.score.value, plain)} for {money_of(one.money, frontier.currency)})"
        for one in frontier.arms
        if one.chosen
    ]
    lines.append(f"To choose from, with the price of {PER} cases: {', '.join(told)}.")
    beaten = [f"{one.arm} ({one.beaten_by} is better and costs no more)" for one in frontier.arms if one.beaten_by]
    if beaten:
        lines.append(f"Nobody should use: {', '.join(beaten)}.")
    for one in frontier.prices:
        least = f"{one.low:.4g}"
        most = "no bound, for the gain may be nothing" if one.high is None else f"{one.high:.4g}"
        what = "0.01" if plain else "point"
        lines.append(
            f"From {one.first} to {one.second} each {what} more costs {one.price:.4g} {frontier.currency} for {PER} "
            f"cases (at least {least}, at most {most})."
        )
    return lines


def money_of(amount: Amount | None, currency: str | None) -> str:
    """Money for a thousand cases."""
    return "–" if amount is None else f"{amount.value:.4f} {currency}"


def amount_interval(amount: Amount | None, money: bool) -> str:
    """The bounds of an amount."""
    if amount is None:
        return ""
    if money:
        return f"{amount.low:.4f} – {amount.high:.4f}"
    return f"{seconds_text(amount.low).removesuffix(' s')} – {seconds_text(amount.high).removesuffix(' s')}"
