"""How far a judge agrees with people, in words: shown wherever its scores are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from drovik.comparing.intervals import score_interval
from drovik.comparing.jackknife import leave_out
from drovik.heavy import np
from drovik.scoring.measures.confusion import accuracy, kappa
from drovik.scoring.measures.judge import Judge, agreement_rows

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats, Measure


def agreement_with_people(pairs: Sequence[tuple[str, str]]) -> tuple[float, tuple[float, float], float]:
    """Cohen's kappa of a judge's verdicts and people's, its 95 % interval, and the share that are the same.

    :param pairs: the judge's verdict and the people's on the same answer.
    """

    words, places = agreement_rows(pairs)
    size = len(words)
    rows = np.zeros((len(places), size * (size + 1)))
    for number, (people, judge) in enumerate(places):
        rows[number, people * (size + 1) + judge] = 1.0

    def matrix(totals: Floats) -> Floats:
        return totals.reshape(*totals.shape[:-1], size, size + 1)

    spread = leave_out(rows, lambda sums: kappa(matrix(sums)), np.ones(len(rows)))
    interval = score_interval(spread, (-1.0, 1.0))
    return spread.value, interval, float(accuracy(matrix(rows.sum(axis=0))))


def agreement_text(measure: Measure) -> str:
    """How far a judge agrees with people, in words; empty for a measure that is not a judge."""
    if not isinstance(measure, Judge):
        return ""
    pairs = measure.beside_people
    if not pairs:
        return f"{measure.name}: judged by a model, not checked against people"
    value, (low, high), same = agreement_with_people(pairs)
    told = f"kappa {value:.2f} (95 % interval {low:.2f} to {high:.2f})"
    return f"{measure.name}: judged by a model; beside people {told}, {same:.0%} the same, {len(pairs)} reviews"
