"""Intervals, tests and rankings against SciPy, brute force, and published examples."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import optimize, stats

from drovik.comparing.contrast import adjusted_p
from drovik.comparing.intervals import (
    degrees_of_freedom,
    difference_p,
    effective_cases,
    score_interval,
    score_test_p,
    tango_interval,
    wilson_interval,
)
from drovik.comparing.jackknife import Spread, leave_out, leave_out_weighed
from drovik.comparing.ranking import optimism
from drovik.scoring.measures.confusion import kappa


def ratio(sums: np.ndarray) -> np.ndarray:
    return sums[..., 0] / np.maximum(sums[..., 1], 1e-300)


def spread_of(values: np.ndarray) -> Spread:
    return leave_out(np.column_stack([values, np.ones(len(values))]), ratio, np.ones(len(values)))


@pytest.mark.parametrize(("hits", "cases"), [(0, 10), (3, 10), (48, 48), (7, 8), (500, 1000)])
def test_wilson_agrees_with_scipy(hits: int, cases: int) -> None:
    wanted = stats.binomtest(hits, cases).proportion_ci(0.95, method="wilson")
    assert wilson_interval(hits, cases) == pytest.approx((wanted.low, wanted.high))


def test_tango_agrees_with_a_published_example() -> None:
    """Airway reactivity of 21 children before and after a transplantation, in Fagerland, Lydersen, Laake (2013, 2014)."""
    assert tango_interval(7, 1, 21) == pytest.approx((-0.517, -0.026), abs=5e-4)
    assert score_test_p(7, 1) == pytest.approx(0.034, abs=5e-4)


@pytest.mark.parametrize(("b", "c", "n"), [(0, 6, 20), (3, 10, 48), (10, 3, 13), (1, 1, 30), (40, 60, 1000)])
def test_tango_is_where_the_restricted_likelihood_puts_it(b: int, c: int, n: int) -> None:
    """At each edge the score statistic, its variance at the likeliest shares with that difference, is 1.96."""
    for edge in tango_interval(b, c, n):

        def unlikely(fewer: float, edge: float = edge) -> float:
            shares = np.array([fewer, fewer + edge, 1 - 2 * fewer - edge])
            return -float(np.dot([b, c, n - b - c], np.log(np.maximum(shares, 1e-300))))

        low, high = max(0.0, -edge), (1 - edge) / 2
        fewer = optimize.minimize_scalar(unlikely, bounds=(low, high), method="bounded", options={"xatol": 1e-13}).x
        deviation = math.sqrt(n * (2 * fewer + edge - edge**2))
        assert abs(c - b - n * edge) / deviation == pytest.approx(1.95996, abs=2e-3)


@pytest.mark.parametrize(("b", "c"), [(0, 0), (0, 5), (3, 10), (200, 290)])
def test_the_score_test_is_mcnemars(b: int, c: int) -> None:
    wanted = stats.chi2.sf((b - c) ** 2 / (b + c), 1) if b + c else 1.0
    assert score_test_p(b, c) == pytest.approx(wanted)


def test_of_a_mean_the_jackknife_is_the_usual_standard_error_and_of_a_difference_that_of_pairs() -> None:
    chance = np.random.default_rng(1)
    a, b = chance.random(25), chance.random(25)
    assert spread_of(a).error == pytest.approx(stats.sem(a))
    assert (spread_of(b) - spread_of(a)).error == pytest.approx(stats.sem(b - a))
    assert (spread_of(b) - spread_of(a)).value == pytest.approx((b - a).mean())


def test_a_score_that_is_no_mean_is_recomputed_without_each_case_and_equal_cases_are_left_out_together() -> None:
    chance = np.random.default_rng(2)
    cells = chance.integers(0, 6, 40)
    rows = np.eye(6)[cells]

    def figure(sums: np.ndarray) -> np.ndarray:
        return kappa(sums.reshape(*sums.shape[:-1], 2, 3))

    found = leave_out(rows, figure, np.ones(40))
    plain = np.array([figure(np.delete(rows, n, axis=0).sum(axis=0)) for n in range(40)])
    assert found.moves == pytest.approx(plain.mean() - plain)
    assert found.error == pytest.approx(math.sqrt(39 / 40 * np.square(plain - plain.mean()).sum()))


def test_a_figure_of_weights_is_left_out_by_groups_as_sums_are() -> None:
    chance = np.random.default_rng(3)
    values, groups = chance.random(30), np.repeat(np.arange(10), 3)
    weighed = leave_out_weighed(lambda weights: weights @ values / weights.sum(axis=1), groups)
    rows = np.column_stack([np.bincount(groups, values), np.bincount(groups)]).astype(float)
    summed = leave_out(rows, ratio, np.full(10, 3.0))
    assert weighed.moves == pytest.approx(summed.moves)
    assert (weighed.value, list(weighed.sizes)) == (pytest.approx(summed.value), [3.0] * 10)


def test_of_very_many_cases_blocks_are_left_out_and_the_error_is_the_same() -> None:
    ratios = []
    for seed in range(20):
        values = np.random.default_rng(seed).random(6000)
        found = leave_out_weighed(lambda weights: weights @ values / weights.sum(axis=1), np.arange(6000))  # noqa: B023
        assert (found.units, len(found.moves)) == (6000, 25)
        ratios.append(found.error / stats.sem(values))
    assert np.mean(ratios) == pytest.approx(1, abs=0.1)


def test_the_interval_of_a_share_of_right_or_wrong_cases_is_wilsons_with_one_case_less_and_students_quantile() -> (
    None
):
    values = np.repeat([1.0, 0.0], [33, 15])
    spread = spread_of(values)
    assert effective_cases(spread, (0, 1)) == pytest.approx(47)
    assert degrees_of_freedom(spread, (0, 1)) == 47
    wanted = wilson_interval(33 / 48 * 47, 47, stats.t.ppf(0.975, 47))
    assert score_interval(spread) == pytest.approx(wanted)


def test_degrees_of_freedom_fall_with_few_extreme_cases_and_with_few_large_groups() -> None:
    even = spread_of(np.random.default_rng(5).normal(0.5, 0.1, 40))
    assert degrees_of_freedom(even, (0, 1)) > 30
    runaway = spread_of(np.append(np.random.default_rng(5).normal(0.9, 0.01, 39), 0.0))
    assert degrees_of_freedom(runaway, (0, 1)) < 4
    sizes = np.array([50.0, 1, 1, 1, 1, 1, 1, 1])
    grouped = Spread(0.5, np.random.default_rng(6).normal(0, 0.1, 8), sizes, 8)
    assert degrees_of_freedom(grouped, (0, 1)) == pytest.approx(max(1.0, 57**2 / (2500 + 7) - 1))


def test_degrees_of_freedom_are_satterthwaites_from_the_kurtosis_of_the_moves() -> None:
    """At a share of a half, right-or-wrong cases have a kurtosis of 1, and nothing is taken off."""
    values = np.concatenate([np.full(18, 0.49), np.full(18, 0.51), [0.1, 0.2, 0.8, 0.9]])
    kurtosis = stats.kurtosis(values, fisher=False)
    assert degrees_of_freedom(spread_of(values), (0, 1)) == pytest.approx(2 * 40 / (kurtosis - 1))
    # Between other bounds the same share is 0.25: right-or-wrong cases would have 1 / (p q) - 4 more.
    share = (0.5 + 0.5) / 4
    excess = min(1.0, 40 / effective_cases(spread_of(values), (-0.5, 3.5))) * (1 / (share * (1 - share)) - 4)
    assert degrees_of_freedom(spread_of(values), (-0.5, 3.5)) == pytest.approx(2 * 40 / (kurtosis - 1 - excess))


def test_no_interval_is_without_width_or_without_its_score_or_beyond_what_a_score_can_be() -> None:
    chance = np.random.default_rng(7)
    for size in (1, 2, 3, 10, 60):
        for values in (
            np.ones(size),
            np.zeros(size),
            np.full(size, 0.95),
            chance.random(size),
            chance.random(size) < 0.9,
        ):
            for bounds in ((0.0, 1.0), (-1.0, 1.0), (0.0, math.inf)):
                spread = spread_of(np.asarray(values, dtype=float))
                low, high = score_interval(spread, bounds)
                assert bounds[0] <= low <= spread.value <= high <= bounds[1]
                assert high - low > 0.001


def test_the_interval_of_a_rate_is_that_between_bounds_ever_farther_apart() -> None:
    values = np.random.default_rng(8).gamma(0.5, 1.0, 30)
    spread = spread_of(values)
    low, high = score_interval(spread, (0.0, math.inf))
    far = score_interval(spread, (0.0, 1e9))
    assert (low, high) == pytest.approx(far, rel=1e-3)
    assert 0.0 < low < high < 1.0


def test_interval_and_test_never_contradict_each_other() -> None:
    """Whatever the data and the level: 0 is outside the interval exactly where p is below 1 - level."""
    chance = np.random.default_rng(9)
    outside = 0
    for _ in range(600):
        n = int(chance.integers(2, 60))
        b, c = chance.multinomial(n, [0.1, chance.random() * 0.4, 0.5])[:2]
        for level in (0.95, 0.995):
            z = stats.norm.ppf((1 + level) / 2)
            low, high = tango_interval(int(b), int(c), n, z)
            assert (low > 0 or high < 0) == (score_test_p(int(b), int(c)) < 1 - level)
            spread = spread_of(np.clip(chance.normal(chance.random() * 0.3, 0.2, n), -1, 1))
            low, high = score_interval(spread, (-1.0, 1.0), level)
            assert (low > 0 or high < 0) == (difference_p(spread, 1.0) < 1 - level)
            outside += low > 0
    assert 100 < outside < 1100


def test_an_adjusted_p_counts_how_often_chance_goes_as_far_in_any_comparison() -> None:
    largest = np.sort(np.abs(np.random.default_rng(10).standard_normal((20_000, 5))).max(axis=1))
    for p in (0.04, 0.01, 0.002):
        assert adjusted_p(p, largest) == pytest.approx(1 - (1 - p) ** 5, abs=0.006)
    assert adjusted_p(0.03, np.zeros(0)) == 0.03


def test_the_best_of_equal_arms_is_flattered_by_the_mean_of_the_largest_of_that_many() -> None:
    """Of six independent normal scores the largest is 1.267 deviations above the mean (Teichroew, 1956)."""
    chance = np.random.default_rng(11)
    drawn = chance.normal(0.7, 0.02, (100, 6))
    told = [optimism(list(one), np.eye(6) * 0.02**2) for one in drawn]
    assert np.mean(told) == pytest.approx(1.267 * 0.02, rel=0.15)
    assert optimism([0.9, 0.5, 0.4], np.eye(3) * 1e-4) < 0.001
    assert optimism([0.9], np.eye(1)) == 0.0


def skewed(chance: np.random.Generator, size: int) -> np.ndarray:
    """Three in four fully right, the others anywhere: 0.875 in the mean."""
    return np.where(chance.random(size) < 0.75, 1.0, chance.random(size))


def test_nineteen_in_twenty_intervals_hold_the_true_score_of_few_and_skewed_cases() -> None:
    """The percentile bootstrap held it in four of five of these. 500 trials: three standard errors are 3 points."""
    chance = np.random.default_rng(12)
    for size, least in ((10, 90), (20, 92), (48, 92)):
        held = [
            low <= 0.875 <= high
            for low, high in (score_interval(spread_of(skewed(chance, size))) for _ in range(500))
        ]
        assert least <= np.mean(held) * 100 <= 98.5


def test_one_in_twenty_pairs_of_equal_arms_is_called_different_at_most() -> None:
    chance = np.random.default_rng(13)
    called, found = 0, 0
    for _ in range(500):
        first = skewed(chance, 48)
        second = np.where(chance.random(48) < 0.6, first, skewed(chance, 48))
        called += difference_p(spread_of(second) - spread_of(first), 1.0) < 0.05
        better = np.minimum(1.0, first + np.where(chance.random(48) < 0.5, 0.4, 0.0))
        found += difference_p(spread_of(better) - spread_of(first), 1.0) < 0.05
    assert called <= 0.055 * 500 + 10
    assert found > 250


def test_interval_of_a_share_in_few_uneven_groups_holds_it_nineteen_times_in_twenty() -> None:
    chance = np.random.default_rng(14)
    held = []
    for _ in range(500):
        sizes = 1 + chance.poisson(4 * chance.gamma(2, 0.5, 10))
        right = np.array(
            [chance.binomial(size, level) for size, level in zip(sizes, chance.beta(8, 2, 10), strict=True)]
        )
        spread = leave_out(np.column_stack([right, sizes]).astype(float), ratio, sizes.astype(float))
        low, high = score_interval(spread)
        held.append(low <= 0.8 <= high)
    assert 91 <= np.mean(held) * 100 <= 99
