"""Intervals of scores and of differences, and the p values that belong to them; each with its source.

`docs/statistics.md` says why these, and how often they hold.
"""

from __future__ import annotations

import math

from drovik.comparing.jackknife import Spread
from drovik.heavy import np, special

Bounds = tuple[float, float]

LEVEL = 0.95
"""Of intervals, where nothing else is said."""
_STEPS = 60
"""Of halving a stretch of length 2: far below what is printed."""


def normal_quantile(level: float = LEVEL) -> float:
    """How many standard deviations each way hold that share of a normal distribution: 1.96 for 95 %."""
    return float(special.ndtri((1 + level) / 2))


def student_quantile(freedom: float, level: float = LEVEL) -> float:
    """The same of Student's t distribution."""
    return float(special.stdtrit(freedom, (1 + level) / 2))


def wilson_interval(successes: float, cases: float, quantile: float | None = None) -> Bounds:
    """The score interval of a share (E. B. Wilson, JASA 22, 1927, p. 209).

    :param quantile: in standard deviations; None for 95 %.
    """
    if cases <= 0:
        return 0.0, 1.0
    z = normal_quantile() if quantile is None else quantile
    share, z2 = successes / cases, z * z
    middle = (share + z2 / (2 * cases)) / (1 + z2 / cases)
    half = z / (1 + z2 / cases) * math.sqrt(max(share * (1 - share) / cases + z2 / (4 * cases * cases), 0.0))
    return max(0.0, min(middle - half, share)), min(1.0, max(middle + half, share))


def effective_cases(spread: Spread, bounds: Bounds) -> float:
    """How many right-or-wrong cases would spread a share as widely as this score spreads between its bounds.

    share (1 - share) / error^2 (L. Kish, Survey Sampling, 1965). Where the score does not move at all, or is at a
    bound, it is the number of units: what was not seen may be otherwise.
    """
    low, high = bounds
    share, error = (spread.value - low) / (high - low), spread.error / (high - low)
    if error == 0 or not 0 < share < 1:
        return float(spread.units)
    return share * (1 - share) / error**2


def degrees_of_freedom(spread: Spread, bounds: Bounds) -> float:
    """Degrees of freedom of the jackknife's error, at least 1.

    Satterthwaite's (Biometrics Bull. 2, 1946): 2 E(v)^2 / Var(v) of the variance v, which few and extreme moves make
    uncertain (S. R. Lipsitz and others, Biometrics 50, 1994, do the same for the jackknife). That is
    2 n / (kurtosis - 1); from the kurtosis is taken what a share of right-or-wrong cases would have by itself, as far
    as the score is one, for Wilson's interval allows for that. Never more than n - 1, nor, where units have unlike
    sizes, than Kish's effective number of them less 1: a few large groups are few groups.
    """
    n, sizes = len(spread.moves), spread.sizes
    most = max(1.0, min(n, float(sizes.sum() ** 2 / np.square(sizes).sum())) - 1)
    squares = np.square(spread.moves)
    if spread.error == 0:
        return most
    peaked = float(np.square(squares).mean() / squares.mean() ** 2) - 1
    share = (spread.value - bounds[0]) / (bounds[1] - bounds[0])
    if 0 < share < 1:
        peaked -= min(1.0, spread.units / effective_cases(spread, bounds)) * (1 / (share * (1 - share)) - 4)
    elif math.isinf(bounds[1]) and spread.value > bounds[0]:  # the same as the bound goes to infinity
        peaked -= spread.units * spread.error**2 / (spread.value - bounds[0]) ** 2
    return max(1.0, min(2 * n / peaked, most)) if peaked > 0 else most


def score_interval(spread: Spread, bounds: Bounds = (0.0, 1.0), level: float = LEVEL) -> Bounds:
    """The interval of a score between bounds: Wilson's with the effective number of cases.

    The quantile is that of Student's t (E. L. Korn, B. I. Graubard, Surv. Methodol. 24, 1998; C. Franco, R. Little,
    T. Louis, E. Slud, J. Surv. Stat. Methodol. 7, 2019). It always holds the score and is never without width; of one
    unit it is all there is between the bounds.

    :param bounds: the lowest and highest value that the score can have; the upper one may be infinite.
    """
    low, high = bounds
    if spread.units < 2:
        return low, high
    quantile = student_quantile(degrees_of_freedom(spread, bounds), level)
    if math.isinf(high):
        return _rate_interval(spread, low, quantile)
    cases = effective_cases(spread, bounds)
    share = min(1.0, max(0.0, (spread.value - low) / (high - low)))
    below, above = wilson_interval(share * cases, cases, quantile)
    return low + (high - low) * below, low + (high - low) * above


def _rate_interval(spread: Spread, low: float, quantile: float) -> Bounds:
    """The score interval of a rate: Wilson's as its upper bound goes to infinity (G. Rasch's for a Poisson mean)."""
    rate = spread.value - low
    if rate <= 0:
        return low, low + quantile**2 / spread.units
    variance = spread.error**2 or rate / spread.units
    part = variance / rate * quantile**2 / 2
    half = math.sqrt(part * part + quantile**2 * variance)
    return low + max(0.0, rate + part - half), low + rate + part + half


def difference_p(spread: Spread, reach: float) -> float:
    """The two-sided p of a difference of 0: that of the level at which `score_interval` just reaches 0.

    :param reach: the largest difference there can be, either way.
    """
    if spread.units < 2:
        return 1.0
    bounds = (-reach, reach)
    statistic = abs(spread.value) / (2 * reach) / math.sqrt(0.25 / effective_cases(spread, bounds))
    return float(2 * special.stdtr(degrees_of_freedom(spread, bounds), -statistic))


def tango_interval(only_first: int, only_second: int, cases: int, quantile: float | None = None) -> Bounds:
    """The score interval of the difference of two paired shares, the second's less the first's.

    T. Tango, Stat. Med. 17, 1998, p. 891: all differences that the score statistic is at most `quantile` away from.

    :param only_first: cases that only the first has right.
    :param only_second: cases that only the second has right.
    """
    z = normal_quantile() if quantile is None else quantile
    at = (only_second - only_first) / cases

    def edge(far: float, target: float) -> float:
        near = at
        for _ in range(_STEPS):
            middle = (near + far) / 2
            if abs(_tango_statistic(only_second, only_first, cases, middle)) < target:
                near = middle
            else:
                far = middle
        return near

    return edge(-1.0, z), edge(1.0, z)


def _tango_statistic(more: int, fewer: int, cases: int, difference: float) -> float:
    """Tango's score statistic of a difference of `(more - fewer) / cases` against another one, his equation 8."""
    linear = -more - fewer + (2 * cases - more + fewer) * difference
    constant = -fewer * difference * (1 - difference)
    root = math.sqrt(max(linear * linear - 8 * cases * constant, 0.0))
    restricted = (root - linear) / (4 * cases)
    variance = cases * (2 * restricted + difference * (1 - difference))
    apart = more - fewer - cases * difference
    if variance <= 0:
        return 0.0 if apart == 0 else math.copysign(math.inf, apart)
    return apart / math.sqrt(variance)


def score_test_p(only_first: int, only_second: int) -> float:
    """The two-sided p of McNemar's test (Psychometrika 12, 1947), which is Tango's statistic at a difference of 0.

    It is below 0.05 where `tango_interval` leaves out 0, and nowhere else.
    """
    differing = only_first + only_second
    if differing == 0:
        return 1.0
    return float(2 * special.ndtr(-abs(only_second - only_first) / math.sqrt(differing)))
