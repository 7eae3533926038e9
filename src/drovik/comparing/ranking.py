"""All arms of a task, on the cases that they share → the best, those that may be as good, those that are worse."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

from drovik.comparing.contrast import Contrast, Sample, adjusted_p, contrast_of, sample_of, simultaneous_level
from drovik.comparing.verdict import (
    MOST_FAILED,
    Estimate,
    Judgement,
    Verdict,
    estimate_of,
    failed_answers,
    verdict_of,
)
from drovik.heavy import np
from drovik.scoring.measure import Measure
from drovik.scoring.scores import ArmScores, MeasureScore, ScoredCase
from drovik.text import counted, score_text

if TYPE_CHECKING:
    from numpy.typing import NDArray

_DRAWS = 20_000
"""The optimism is known to a hundredth of its standard error then."""
_SEED = 1729
"""Always the same, so that the same answers have the same ranking each time."""


@dataclass(frozen=True)
class Ranking:
    """The arms of a task from best to worst.

    `estimates` are of the cases that all ranked arms share. `verdicts` are of the best beside each other arm; their
    intervals hold together at 95 %. `may_be_best` are the arms that no other is better than, the best first; `worse`
    are the others. `set_aside` are the arms that are not ranked, each with the reason. `flattered` is about how much
    of the best's score is owed to its having been chosen as the best.
    """

    measure: Measure | None
    arms: tuple[ArmScores, ...]
    estimates: tuple[Estimate, ...]
    verdicts: tuple[Verdict, ...]
    may_be_best: tuple[str, ...]
    worse: tuple[str, ...]
    set_aside: tuple[tuple[str, str], ...]
    flattered: float = 0.0
    cases: frozenset[str] = frozenset()
    """The ids of the cases that all ranked arms share."""
    known_better: frozenset[tuple[str, str]] = frozenset()
    """Pairs of arms of which the first is known to be better than the second."""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the ranked arms, the best first."""
        return tuple(one.arm for one in self.arms)

    def cases_of(self, arm: ArmScores) -> list[ScoredCase]:
        """An arm's scored cases that all ranked arms share."""
        score = arm.measure(self.measure.name) if self.measure else None
        return [one for one in score.scored if one.case.id in self.cases] if score else []

    def beside(self, arm: str) -> Verdict | None:
        """The verdict of the best beside an arm."""
        return next((one for one in self.verdicts if one.first == arm), None)


def rank(arms: Sequence[ArmScores], measure_name: str) -> Ranking:
    """Rank arms on the cases that all of them share; what is unsent or has failed too often is set aside."""
    scored = [(arm, score) for arm in arms if (score := arm.measure(measure_name))]
    set_aside = _set_aside(arms, scored)
    kept = [(arm, score) for arm, score in scored if arm.arm not in set_aside]
    shared = _shared_cases([score for _, score in kept])
    while not shared and len(kept) > 1:
        arm, _ = kept.pop(min(range(len(kept)), key=lambda n: len(kept[n][1].scored)))
        set_aside[arm.arm] = "it has no case in common with the others"
        shared = _shared_cases([score for _, score in kept])
    aside = tuple(set_aside.items())
    if not kept:
        return Ranking(None, (), (), (), (), (), aside)
    samples = [
        (arm, score, sample_of(arm.task, score.measure, [one for one in score.scored if one.case.id in shared]))
        for arm, score in kept
    ]
    samples.sort(key=lambda one: -one[2].spread.value)
    return _ranked(samples, aside, shared)


def _set_aside(arms: Sequence[ArmScores], scored: Sequence[tuple[ArmScores, MeasureScore]]) -> dict[str, str]:
    """The arms that are not ranked, and why: what was sent to others and not to them, or failed, is missing."""
    found = {arm.arm: _no_score(arm) for arm in arms if arm not in [one for one, _ in scored]}
    sent = {one.case.id for _, score in scored for one in score.cases if one.answers}
    for arm, score in scored:
        why = failed_answers(score)
        unsent = len(sent) - sum(bool(one.answers) for one in score.cases if one.case.id in sent)
        if unsent > MOST_FAILED * len(sent):
            why = f"{unsent} of {counted(len(sent), 'case')} not sent"
        if why:
            found[arm.arm] = why
    return found


def _no_score(arm: ArmScores) -> str:
    return "nothing of it can be scored" if arm.statuses else "not sent"


def _shared_cases(scores: Sequence[MeasureScore]) -> set[str]:
    """The ids of the cases that all arms have a score for."""
    return set.intersection(*({one.case.id for one in score.scored} for score in scores)) if scores else set()


def _ranked(
    samples: Sequence[tuple[ArmScores, MeasureScore, Sample]], aside: tuple[tuple[str, str], ...], shared: set[str]
) -> Ranking:
    level, largest = simultaneous_level([sample for _, _, sample in samples])
    many = len(samples) * (len(samples) - 1) // 2

    def judged(contrast: Contrast) -> Judgement:
        return Judgement(contrast, adjusted_p(contrast.p, largest), level, many)

    known_better: set[tuple[str, str]] = set()
    verdicts: list[Verdict] = []
    for (better, _, high), (other, _, low) in combinations(samples, 2):
        judgement = judged(contrast_of(low, high))
        if judgement.outcome == "better":
            known_better.add((better.arm, other.arm))
        if better is samples[0][0]:
            verdicts.append(verdict_of((other, low), (better, high), judgement))
    names, beaten = [arm.arm for arm, _, _ in samples], {other for _, other in known_better}
    return Ranking(
        measure=samples[0][1].measure,
        arms=tuple(arm for arm, _, _ in samples),
        estimates=tuple(estimate_of(sample) for _, _, sample in samples),
        verdicts=tuple(verdicts),
        may_be_best=tuple(name for name in names if name not in beaten),
        worse=tuple(name for name in names if name in beaten),
        set_aside=aside,
        flattered=optimism([sample.spread.value for _, _, sample in samples], _covariance(samples)),
        cases=frozenset(shared),
        known_better=frozenset(known_better),
    )


def _covariance(samples: Sequence[tuple[ArmScores, MeasureScore, Sample]]) -> NDArray[np.float64]:
    """The jackknife's covariance of the arms' scores."""
    moves = np.array([sample.spread.moves for _, _, sample in samples])
    n = moves.shape[1]
    covariance: NDArray[np.float64] = moves @ moves.T * (n - 1) / n
    return covariance


def optimism(values: Sequence[float], covariance: NDArray[np.float64]) -> float:
    """By how much the highest of several scores is too high in the mean, for having been chosen as the highest.

    Drawn: the scores are drawn towards their mean as far as their differences are no larger than chance makes them
    (W. James, C. Stein, Proc. Fourth Berkeley Symp., 1961); from there new scores are drawn with the jackknife's
    covariance, and what the highest of each draw has above its own true score is taken in the mean.

    :param covariance: shape (k, k), of the k scores.
    """
    k = len(values)
    if k < 2:
        return 0.0
    scores = np.array(values)
    noise = (float(np.trace(covariance)) - float(covariance.sum()) / k) / (k - 1)
    seen = float(scores.var(ddof=1))
    kept = max(0.0, 1.0 - noise / seen) if seen > 0 else 0.0
    centre = scores.mean() + kept * (scores - scores.mean())
    lengths, vectors = np.linalg.eigh(covariance)
    draws = np.random.default_rng(_SEED).standard_normal((_DRAWS, k))
    drawn = draws @ (vectors * np.sqrt(np.maximum(lengths, 0.0))).T
    best = (drawn + centre).argmax(axis=1)
    return max(0.0, float(drawn[np.arange(_DRAWS), best].mean()))


def headline_verdicts(ranking: Ranking) -> list[Verdict]:
    """Of the verdicts of a ranking, those worth a sentence: on the second arm, and on each other model's best."""
    told: dict[str, Verdict] = {}
    models = {name.split("/")[0] for name in ranking.names[:1]}
    for place, name in enumerate(ranking.names[1:]):
        model, verdict = name.split("/")[0], ranking.beside(name)
        if verdict is not None and (place == 0 or model not in models):
            told[name] = verdict
        models.add(model)
    return list(told.values())


def ranking_text(ranking: Ranking) -> str:
    """The ranking in one sentence: the best, what may be as good, what is worse."""
    if len(ranking.arms) < 2 or ranking.measure is None:
        return ""
    first, *others = ranking.may_be_best
    told = [f"The best on {ranking.measure.name}: {first}"]
    if others:
        told.append(f"may be as good: {', '.join(others)}")
    if ranking.worse:
        told.append(f"worse: {', '.join(ranking.worse)}")
    return "; ".join(told) + "."


def next_step(ranking: Ranking) -> str:
    """What to do after a ranking: take the best, add cases, or take the cheapest of those that may be as good."""
    if not ranking.arms:
        return "nothing is ranked: drovik score says why"
    if len(ranking.may_be_best) == 1:
        return f"take {ranking.names[0]}"
    verdicts = [one for name in ranking.may_be_best[1:] if (one := ranking.beside(name)) is not None]
    needed = [one.needed for one in verdicts if one.needed is not None]
    cheapest = _cheapest(ranking)
    more = f"about {float(f'{max(needed):.2g}'):.0f} cases decide" if needed else "more cases"
    return f"{more}; or {cheapest}, the cheapest" if cheapest else more


def _cheapest(ranking: Ranking) -> str:
    """The arm that costs least of those that may be the best; empty where prices are not known in one currency."""
    costs = {}
    for arm in ranking.arms:
        if arm.arm in ranking.may_be_best:
            if len(arm.costs.money) != 1:
                return ""
            ((currency, money),) = arm.costs.money.items()
            costs[arm.arm] = (currency, money)
    if len({currency for currency, _ in costs.values()}) != 1:
        return ""
    return min(costs, key=lambda name: costs[name][1])


def flattery_text(ranking: Ranking) -> str:
    """What the best's score owes to chance, where that is enough to be seen; else empty."""
    if ranking.measure is None or not ranking.arms:
        return ""
    plain = ranking.measure.is_coefficient
    about = f"{ranking.flattered:.2f}" if plain else f"{ranking.flattered * 100:.1f} points"
    if float(about.split(maxsplit=1)[0]) == 0:
        return ""
    score = score_text(ranking.estimates[0].value, plain)
    return (
        f"{ranking.names[0]} was chosen as the best of {len(ranking.arms)} on these cases, which flatters its "
        f"{score} by about {about}; held-out cases tell its score without that: --split held_out."
    )
