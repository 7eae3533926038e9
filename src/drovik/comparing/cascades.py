"""What it would be worth to ask a cheap arm first, and an expensive one where that is unsure; or to take votes.

All of it comes from answers that are there: nothing is sent. A threshold is chosen on the cases that it is looked for
on, so what it is worth has to be judged on others, which are held out.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, permutations
from typing import Literal

from drovik.comparing.contrast import sample_of
from drovik.comparing.frontier import Amount, money_per_case
from drovik.comparing.ranking import Ranking
from drovik.comparing.verdict import Estimate, estimate_of
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.scoring.agreement import comparable
from drovik.scoring.measure import Measure
from drovik.scoring.scores import ArmScores, ScoredCase

Signal = Literal["confidence", "repeats", "form"]
"""What an arm is unsure by: its own confidence, disagreement of its repeats, an answer that is not valid."""
_MOST_THRESHOLDS = 40
"""Of one cascade; of more, as many are taken evenly."""
PER = 1000
_VOTERS = 3


@dataclass(frozen=True)
class CascadePoint:
    """A cascade with one threshold: the expensive arm is asked where the cheap one is less sure than that."""

    threshold: float
    asked: float
    """The share of the cases that the expensive arm is asked about."""
    score: Estimate
    money: float | None
    """For a thousand cases."""


@dataclass(frozen=True)
class Cascade:
    """A cheap arm before a expensive one, by one signal, over all thresholds, the cheapest first."""

    cheap: str
    expensive: str
    signal: Signal
    currency: str | None
    points: tuple[CascadePoint, ...]

    @property
    def name(self) -> str:
        """The two arms and the signal."""
        return f"{self.cheap}, then {self.expensive} by {self.signal}"


@dataclass(frozen=True)
class Vote:
    """The answer that most of several arms, or of one arm's repeats, give; ties go to the first of them."""

    name: str
    score: Estimate
    money: float | None
    currency: str | None


def cascades_of(ranking: Ranking) -> tuple[Cascade, ...]:
    """Every pair of a cheap arm that scores less and a costlier one that scores more, by each signal that it has."""
    found = []
    if ranking.measure is None:
        return ()
    scored = list(zip(ranking.arms, ranking.estimates, strict=True))
    for (expensive, high), (cheap, low) in permutations(scored, 2):
        less, more = _costs(cheap, ranking), _costs(expensive, ranking)
        if less is not None and more is not None and less.value < more.value and low.value < high.value:
            found += [cascade(ranking, cheap, expensive, signal) for signal in signals_of(cheap, ranking)]
    return tuple(found)


def _costs(arm: ArmScores, ranking: Ranking) -> Amount | None:
    return money_per_case(ranking.cases_of(arm))[1]


def signals_of(arm: ArmScores, ranking: Ranking) -> list[Signal]:
    """By what an arm can be unsure: what varies over its answers."""
    cases = ranking.cases_of(arm)
    found: list[Signal] = []
    order: tuple[Signal, ...] = ("confidence", "repeats", "form")
    for signal in order:
        if signal == "confidence" and not _says_how_sure(cases, ranking.measure):
            continue
        sure = _sureness(signal, ranking.measure)
        if len({sure(one) for one in cases}) > 1:
            found.append(signal)
    return found


def _says_how_sure(cases: Sequence[ScoredCase], measure: Measure | None) -> bool:
    return any(
        one.answer is not None and measure is not None and measure.confidence_in(one.answer.value) is not None
        for one in cases
    )


def _sureness(signal: Signal, measure: Measure | None) -> Callable[[ScoredCase], float]:
    """How sure an arm is of a case's answer, from 0 to 1."""
    if signal == "confidence":
        return lambda one: _confidence(one.answer, measure)
    if signal == "repeats":
        return _agreement
    return lambda one: float(one.answer is not None and one.answer.status is Status.OK)


def _confidence(answer: Answer | None, measure: Measure | None) -> float:
    """The confidence that an answer gives itself; 1 where it gives none, 0 where there is no valid answer."""
    if answer is None or answer.status is not Status.OK or measure is None:
        return 0.0
    found = measure.confidence_in(answer.value)
    return 1.0 if found is None else found


def _agreement(one: ScoredCase) -> float:
    """The share of the further repeats that answer as the first does."""
    said = [comparable(repeat.answer) if repeat.answer else None for repeat in one.repeats]
    return sum(other == said[0] for other in said[1:]) / (len(said) - 1) if len(said) > 1 else 1.0


def cascade(ranking: Ranking, cheap: ArmScores, expensive: ArmScores, signal: Signal) -> Cascade:
    """A cascade of two arms over all thresholds: from never asking the expensive one to always."""
    first, second = ranking.cases_of(cheap), {one.case.id: one for one in ranking.cases_of(expensive)}
    sure = _sureness(signal, ranking.measure)
    known = sorted({sure(one) for one in first})
    if len(known) > _MOST_THRESHOLDS:
        known = [known[round(n * (len(known) - 1) / (_MOST_THRESHOLDS - 1))] for n in range(_MOST_THRESHOLDS)]
    thresholds = [*known, known[-1] + 1] if known else []
    points = [_point(ranking, first, second, sure, threshold) for threshold in thresholds]
    currency, _ = money_per_case([*first, *second.values()])
    return Cascade(cheap.arm, expensive.arm, signal, currency, tuple(points))


def cascade_point(
    ranking: Ranking, cheap: ArmScores, expensive: ArmScores, signal: Signal, threshold: float
) -> CascadePoint:
    """A cascade of two arms with one threshold."""
    first, second = ranking.cases_of(cheap), {one.case.id: one for one in ranking.cases_of(expensive)}
    return _point(ranking, first, second, _sureness(signal, ranking.measure), threshold)


def _point(
    ranking: Ranking,
    first: Sequence[ScoredCase],
    second: Mapping[str, ScoredCase],
    sure: Callable[[ScoredCase], float],
    threshold: float,
) -> CascadePoint:
    assert ranking.measure is not None, "there are arms"
    asked = [sure(one) < threshold for one in first]
    taken = [second[one.case.id] if more else one for one, more in zip(first, asked, strict=True)]
    money = _mean_money(first, [second[one.case.id] for one, more in zip(first, asked, strict=True) if more])
    score = estimate_of(sample_of(ranking.arms[0].task, ranking.measure, taken))
    return CascadePoint(threshold, sum(asked) / len(asked), score, money)


def _mean_money(first: Sequence[ScoredCase], also: Sequence[ScoredCase]) -> float | None:
    """What a thousand cases cost, where some were asked of a second arm too."""
    _, once = money_per_case(first)
    _, more = money_per_case(also) if also else (None, Amount(0.0, 0.0, 0.0))
    if once is None or more is None:
        return None
    return (once.value + more.value * len(also) / len(first)) * PER


def chosen_point(found: Cascade, expensive: Estimate, margin: float) -> CascadePoint | None:
    """The cheapest threshold whose score is no more than a margin below that of the expensive arm alone.

    :return: None if that comes to asking the expensive one always.
    """
    enough = [one for one in found.points if one.score.value >= expensive.value - margin and one.money is not None]
    best = min(enough, key=lambda one: (one.money or 0.0, -one.score.value), default=None)
    return best if best is not None and best.asked < 1 else None


def votes_of(ranking: Ranking) -> tuple[Vote, ...]:
    """Votes of the repeats of each arm that has three, and of every three of the arms that may be the best."""
    if ranking.measure is None:
        return ()
    cases = {arm.arm: ranking.cases_of(arm) for arm in ranking.arms}
    found = []
    for name, mine in cases.items():
        if mine and min(len(one.repeats) for one in mine) >= _VOTERS:
            voters = [list(one.repeats) for one in mine]
            found.append(_vote(ranking, f"{name}, its repeats", voters, money_per_case(mine)))
    for names in combinations(ranking.may_be_best[:5], _VOTERS):
        by_case = [{one.case.id: one for one in cases[name]} for name in names]
        voters = [[mine[one.case.id] for mine in by_case] for one in cases[names[0]]]
        each = [money_per_case(cases[name]) for name in names]
        currencies = {currency for currency, _ in each}
        known = len(currencies) == 1 and all(amount is not None for _, amount in each)
        total = Amount(sum(amount.value for _, amount in each if amount), 0.0, 0.0) if known else None
        found.append(_vote(ranking, " + ".join(names), voters, (currencies.pop() if known else None, total)))
    return tuple(found)


def _vote(
    ranking: Ranking, name: str, voters: Sequence[Sequence[ScoredCase]], money: tuple[str | None, Amount | None]
) -> Vote:
    assert ranking.measure is not None, "there are arms"
    taken = [_elected(one) for one in voters]
    score = estimate_of(sample_of(ranking.arms[0].task, ranking.measure, taken))
    currency, each = money
    return Vote(name, score, each.value * PER if each else None, currency)


def _elected(voters: Sequence[ScoredCase]) -> ScoredCase:
    """The voter whose answer most give, the first of them where several do; only valid answers count."""
    valid = [one.answer if one.score and one.answer and one.answer.status is Status.OK else None for one in voters]
    said = [None if one is None else comparable(one) for one in valid]
    counts = Counter(one for one in said if one is not None)
    if not counts:
        return next((one for one in voters if one.score is not None), voters[0])
    most = max(counts.values())
    return next(one for one, what in zip(voters, said, strict=True) if what is not None and counts[what] == most)
