"""One round of a search among prompt versions: which are worth more cases, and which are dropped.

Successive halving (Z. Karnin, T. Koren, O. Somekh, ICML 2013): after each round the better half goes on, on twice the
cases; what its interval says is worse than the first is dropped at once.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from drovik.comparing.contrast import contrast_of, sample_of
from drovik.scoring.scores import ArmScores, ScoredCase


@dataclass(frozen=True)
class SearchRound:
    """The arms of a round, the best first, with their scores on the cases that all of them share; and which go on."""

    cases: int
    scores: tuple[tuple[str, float], ...]
    kept: tuple[str, ...]
    dropped: tuple[str, ...]


def search_round(arms: Sequence[ArmScores], measure: str, always: str, last: bool = False) -> SearchRound:
    """Which arms go on to the next round.

    :param always: the arm that the search started from: it is kept to the end, to be compared with.
    :param last: whether this is the last round: then the best alone goes on, and that one.
    """
    scored = {arm.arm: score for arm in arms if (score := arm.measure(measure)) is not None and score.scored}
    answered = [{one.case.id for one in score.scored} for score in scored.values()]
    shared = set.intersection(*answered) if answered else set()
    if not shared:
        return SearchRound(0, (), tuple(scored), ())
    task = arms[0].task
    samples = {name: sample_of(task, score.measure, _of(score.scored, shared)) for name, score in scored.items()}
    order = sorted(samples, key=lambda name: (-samples[name].spread.value, name != always))
    first = samples[order[0]]
    hopeless = {name for name in order[1:] if contrast_of(first, samples[name]).interval()[1] < 0}
    most = 1 if last else max(1, math.ceil(len(order) / 2))
    kept = [name for name in order if name not in hopeless][:most]
    if always not in kept and always in samples:
        kept.append(always)
    dropped = tuple(name for name in order if name not in kept)
    scores = tuple((name, samples[name].spread.value) for name in order)
    return SearchRound(len(shared), scores, tuple(kept), dropped)


def _of(cases: Sequence[ScoredCase], shared: set[str]) -> list[ScoredCase]:
    return [one for one in cases if one.case.id in shared]
