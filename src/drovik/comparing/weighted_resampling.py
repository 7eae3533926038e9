"""Intervals and tests of figures that are no function of added-up statistics, such as average precision.

They are functions of how often each case counts (see `drovik.scoring.measure.Weighing`): a resample counts a case as
often as it was drawn, a swap of a pair counts the one arm's case for the other's. It takes longer than sums do, so
that there are fewer resamples.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from drovik.comparing.statistics import SEED, percentile_interval, wilson_interval
from drovik.heavy import np
from drovik.scoring.scores import ScoredCase

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from drovik.scoring.measure import Floats, Weighing

RESAMPLES = 1000
"""Fewer than for sums: each resample goes through all that was found again."""
PERMUTATIONS = 2000
"""Fewer for the same reason; a p value near 0.05 has a standard error of 0.005 then."""
_CHUNK = 4_000_000
"""Weights in one array: some 32 MB."""


def groups_of(cases: Sequence[ScoredCase]) -> NDArray[np.int64]:
    """The group of each case, by number; a case without one is a group of its own."""

    names = [one.case.group if one.case.group is not None else f"\0{one.case.id}" for one in cases]
    return np.unique(names, return_inverse=True)[1].astype(np.int64)


def _in_chunks(weigh: Weighing, weights: Floats) -> Floats:

    step = max(1, _CHUNK // max(weights.shape[1], 1))
    return np.concatenate([weigh(weights[n : n + step]) for n in range(0, len(weights), step)])


def _draws(groups: NDArray[np.int64], resamples: int) -> Floats:
    """How often each case counts in each resample of whole groups, shape (resamples, n)."""

    size = int(groups.max()) + 1
    chance = np.random.default_rng(SEED)
    drawn = chance.multinomial(size, np.full(size, 1 / size), size=resamples)
    weights: Floats = drawn[:, groups].astype(np.float64)
    return weights


def interval(weigh: Weighing, groups: NDArray[np.int64]) -> tuple[tuple[float, float], str]:
    """A 95 % percentile bootstrap interval over cases or groups; Wilson's where every resample is alike."""

    values = _in_chunks(weigh, _draws(groups, RESAMPLES))
    if float(np.ptp(values)) == 0.0:
        size = int(groups.max()) + 1
        return wilson_interval(float(values[0]) * size, size), "Wilson"
    return percentile_interval(values), "bootstrap"


def paired_interval(first: Weighing, second: Weighing, groups: NDArray[np.int64]) -> tuple[float, float]:
    """The 95 % bootstrap interval of the second's figure less the first's; both are of the same cases in order."""
    weights = _draws(groups, RESAMPLES)
    return percentile_interval(_in_chunks(second, weights) - _in_chunks(first, weights))


def permutation_test(both: Weighing, groups: NDArray[np.int64]) -> float:
    """The two-sided p of a paired permutation test, by a sample of swaps of whole groups.

    :param both: the figure of the first arm's cases and the second's behind them, in the same order.
    """

    size = int(groups.max()) + 1
    chance = np.random.default_rng(SEED)
    swaps = chance.integers(0, 2, size=(PERMUTATIONS, size))[:, groups].astype(np.float64)
    swaps[0] = 0.0  # what was observed is one of them
    one = _in_chunks(both, np.hstack([1.0 - swaps, swaps]))
    other = _in_chunks(both, np.hstack([swaps, 1.0 - swaps]))
    apart = np.abs(other - one)
    return float(np.mean(apart >= apart[0] - 1e-12))
