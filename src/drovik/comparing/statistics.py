"""The statistics of comparisons, each with its definition and source.

All of them work on rows of statistics that can be added up (see `drovik.scoring.measure`), and
recompute the measure's own score on every resample. Rows may be those of cases, or, where cases have
groups, the sums of whole groups: what is resampled is then the group.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from drovik.heavy import np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]
    ScoreOf = Callable[[Floats], Floats]

RESAMPLES = 5000
"""The bounds of a 95 % interval then vary by about a hundredth of its width between seeds."""
MOST_ROWS, BLOCKS = 10_000, 1_000
"""Of more rows than the one, most of them different, this many blocks are resampled in their place."""
PERMUTATIONS = 20_000
"""A p value near 0.05 has a standard error of 0.0015 then."""
MOST_EXACT_PAIRS = 14
"""With this many differing pairs or fewer, every permutation is gone through instead of a sample."""
SEED = 1729
"""Always the same, so that the same answers have the same interval each time."""
LEVEL = 0.95
"""Of intervals."""
_Z = 1.959963984540054
"""The 97.5 % point of the standard normal distribution."""
_CHUNK = 2_000_000
"""Numbers in one array of resamples: some 16 MB."""


def wilson_interval(successes: float, cases: int) -> tuple[float, float]:
    """The 95 % score interval of a share (E. B. Wilson, JASA 22, 1927, p. 209)."""
    if cases == 0:
        return 0.0, 1.0
    share, z2 = successes / cases, _Z * _Z
    middle = (share + z2 / (2 * cases)) / (1 + z2 / cases)
    half = _Z / (1 + z2 / cases) * math.sqrt(share * (1 - share) / cases + z2 / (4 * cases * cases))
    return max(0.0, middle - half), min(1.0, middle + half)


def bootstrap(rows: Floats, statistic: ScoreOf, resamples: int = RESAMPLES, seed: int = SEED) -> Floats:
    """A statistic of sums, over resamples of rows drawn with replacement (B. Efron, Ann. Statist. 7, 1979).

    Equal rows are drawn together: how often each kind of row comes up in a resample is multinomial,
    which is the same distribution and takes less time where kinds are few.

    :param rows: shape (n, k).
    :param statistic: from sums of shape (b, k) to values of shape (b,).
    :return: shape (resamples,).
    """

    return np.concatenate([statistic(sums) for sums in _resampled(rows, resamples, seed)])


def _resampled(rows: Floats, resamples: int, seed: int) -> Iterator[Floats]:
    """The sums of resamples of rows, some at a time."""

    kinds, counts = kinds_of(_in_blocks(rows, seed))
    size_of_all = int(counts.sum())
    chance = np.random.default_rng(seed)
    step = max(1, _CHUNK // max(kinds.shape))
    for start in range(0, resamples, step):
        size = min(step, resamples - start)
        draws = chance.multinomial(size_of_all, counts / size_of_all, size=size)
        yield draws.astype(np.float64) @ kinds


def kinds_of(rows: Floats) -> tuple[Floats, NDArray[np.int64]]:
    """The different rows in order, and how often each of them comes: `numpy.unique`, but quicker where few differ."""

    plain = np.ascontiguousarray(rows + 0.0)  # so that there is one nought, and not -0
    size = plain.itemsize * plain.shape[1]
    data = plain.tobytes()
    counts = Counter([data[at : at + size] for at in range(0, len(data), size)])
    kinds = np.frombuffer(b"".join(counts), dtype=np.float64).reshape(len(counts), -1)
    order = np.lexsort(kinds.T[::-1])
    return kinds[order], np.array(list(counts.values()), dtype=np.int64)[order]


def _in_blocks(rows: Floats, seed: int) -> Floats:
    """Many different rows as the sums of a thousand blocks of them, drawn by chance.

    Such sums are as independent and as alike in distribution as the rows are, and a resample of them spreads as
    widely: the interval is the same but for the chance of the draw, and many rows take no longer than a thousand.
    """

    if len(rows) <= MOST_ROWS or len(kinds_of(rows[:BLOCKS])[1]) < BLOCKS // 2:
        return rows
    order = np.random.default_rng(seed).permutation(len(rows))
    whole = len(rows) // BLOCKS * BLOCKS
    sums: Floats = rows[order[:whole]].reshape(BLOCKS, -1, rows.shape[1]).sum(axis=1)
    sums[: len(rows) - whole] += rows[order[whole:]]
    return sums


def bootstrap_all(
    rows: Floats, statistics: Callable[[Floats], dict[str, Floats]], resamples: int = RESAMPLES, seed: int = SEED
) -> dict[str, Floats]:
    """Several statistics of sums by name, over the same resamples: see `bootstrap`."""

    found: dict[str, list[Floats]] = {}
    for sums in _resampled(rows, resamples, seed):
        for name, values in statistics(sums).items():
            found.setdefault(name, []).append(values)
    return {name: np.concatenate(parts) for name, parts in found.items()}


def percentile_interval(values: Floats) -> tuple[float, float]:
    """The 95 % percentile interval of bootstrapped values (Efron and Tibshirani, 1993, chapter 13)."""

    low, high = np.quantile(values, [(1 - LEVEL) / 2, (1 + LEVEL) / 2])
    return float(low), float(high)


def score_interval(rows: Floats, score_of: ScoreOf, binary: bool) -> tuple[tuple[float, float], str]:
    """A 95 % interval of a score, and the name of its method.

    For a share of cases it is Wilson's. Else it is the bootstrap's; but where every resample gives the
    same score, 0 or 1 as a rule, the bootstrap knows nothing of what was not seen, and the interval is
    Wilson's for that share of this many cases, which is on the careful side.

    :param rows: shape (n, k).
    :param binary: whether the score is a share of rows, each of which is fully correct or wrong.
    """
    value = float(score_of(rows.sum(axis=0)))
    if binary:
        return wilson_interval(value * len(rows), len(rows)), "Wilson"
    return bootstrapped_interval(value, bootstrap(rows, score_of), len(rows))


def bootstrapped_interval(value: float, values: Floats, size: int) -> tuple[tuple[float, float], str]:
    """The interval of a score that was bootstrapped, and the name of its method; see `score_interval`.

    :param size: how many rows there are.
    """

    if float(np.ptp(values)) == 0.0:
        return wilson_interval(min(max(value, 0.0), 1.0) * size, size), "Wilson"
    low, high = percentile_interval(values)
    return (low, high), "bootstrap"


def paired_interval(first: Floats, second: Floats, score_of: ScoreOf) -> tuple[float, float]:
    """The 95 % bootstrap interval of the second's score less the first's, the pairs kept together.

    :param first: shape (n, k), row by row of the same cases as `second`.
    """

    size = first.shape[1]

    def difference(sums: Floats) -> Floats:
        return score_of(sums[:, size:]) - score_of(sums[:, :size])

    return percentile_interval(bootstrap(np.hstack([first, second]), difference))


def mcnemar(only_first: int, only_second: int) -> float:
    """The exact two-sided p of McNemar's test (Q. McNemar, Psychometrika 12, 1947), by the binomial.

    :param only_first: cases that only the first has right.
    :param only_second: cases that only the second has right.
    """
    discordant = only_first + only_second
    if discordant == 0:
        return 1.0
    fewer = min(only_first, only_second)
    tail = sum(math.comb(discordant, n) for n in range(fewer + 1))
    # Whole numbers until the last step: 0.5 ** discordant would be 0 for many cases.
    return min(
        1.0,
        float(2 * tail / 2**discordant)
        if discordant < 1000
        else 2 * math.exp(math.log(tail) - discordant * math.log(2)),
    )


def permutation_test(first: Floats, second: Floats, score_of: ScoreOf, seed: int = SEED) -> float:
    """The two-sided p of a paired permutation test (R. A. Fisher, The Design of Experiments, 1935, ch. 3).

    Under the hypothesis that the arms are alike, each pair of rows may as well be the other way round;
    p is the share of such swaps that come to a difference at least as large. Few pairs: all swaps.
    Many: a sample, with the observed one counted in (Phipson and Smyth, 2010).

    :param first: shape (n, k), row by row of the same cases as `second`.
    """

    sums = first.sum(axis=0), second.sum(axis=0)
    observed = abs(float(score_of(sums[1]) - score_of(sums[0])))
    apart = (second - first)[np.any(first != second, axis=1)]
    if len(apart) == 0:
        return 1.0
    if len(apart) <= MOST_EXACT_PAIRS:
        numbers = np.arange(2 ** len(apart))[:, None]
        swaps = (numbers >> np.arange(len(apart)) & 1).astype(np.float64)
        return float(np.mean(_differences(sums, swaps @ apart, score_of) >= observed - 1e-12))
    chance = np.random.default_rng(seed)
    step, larger = max(1, _CHUNK // len(apart)), 0
    for start in range(0, PERMUTATIONS, step):
        swaps = chance.integers(0, 2, size=(min(step, PERMUTATIONS - start), len(apart))).astype(np.float64)
        larger += int(np.count_nonzero(_differences(sums, swaps @ apart, score_of) >= observed - 1e-12))
    return (larger + 1) / (PERMUTATIONS + 1)


def _differences(sums: tuple[Floats, Floats], moved: Floats, score_of: ScoreOf) -> Floats:

    result: Floats = np.abs(score_of(sums[1] - moved) - score_of(sums[0] + moved))
    return result


def holm(values: list[float]) -> list[float]:
    """p values adjusted for being several (S. Holm, Scand. J. Statist. 6, 1979), in the same order."""
    order = sorted(range(len(values)), key=values.__getitem__)
    adjusted, highest = [0.0] * len(values), 0.0
    for rank, index in enumerate(order):
        highest = max(highest, min(1.0, (len(values) - rank) * values[index]))
        adjusted[index] = highest
    return adjusted
