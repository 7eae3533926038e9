"""The statistics of comparisons against SciPy, brute force, and published examples."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy import stats

from drovik.comparing.statistics import (
    bootstrap,
    holm,
    mcnemar,
    paired_interval,
    percentile_interval,
    permutation_test,
    score_interval,
    wilson_interval,
)


def ratio(sums: np.ndarray) -> np.ndarray:
    return sums[..., 0] / np.maximum(sums[..., 1], 1e-300)


@pytest.mark.parametrize(("hits", "cases"), [(0, 10), (3, 10), (48, 48), (7, 8), (500, 1000)])
def test_wilson_agrees_with_scipy(hits: int, cases: int) -> None:
    wanted = stats.binomtest(hits, cases).proportion_ci(0.95, method="wilson")
    assert wilson_interval(hits, cases) == pytest.approx((wanted.low, wanted.high))


@pytest.mark.parametrize(("b", "c"), [(0, 0), (0, 5), (3, 10), (10, 3), (40, 41), (200, 290), (900, 1100)])
def test_mcnemar_is_the_exact_binomial_test(b: int, c: int) -> None:
    wanted = stats.binomtest(b, b + c, 0.5).pvalue if b + c else 1.0
    assert mcnemar(b, c) == pytest.approx(wanted, rel=1e-9)


def test_few_pairs_go_through_every_permutation() -> None:
    chance = np.random.default_rng(1)
    first, second = (
        chance.integers(0, 4, (6, 2)).astype(float) + [0, 1],
        chance.integers(0, 4, (6, 2)).astype(float) + [0, 1],
    )
    observed = abs(ratio(second.sum(0)) - ratio(first.sum(0)))
    larger = total = 0
    for swaps in itertools.product([0, 1], repeat=6):
        one = np.where(np.array(swaps)[:, None], second, first)
        other = np.where(np.array(swaps)[:, None], first, second)
        larger += abs(ratio(other.sum(0)) - ratio(one.sum(0))) >= observed - 1e-12
        total += 1
    assert permutation_test(first, second, ratio) == pytest.approx(larger / total)


def test_many_pairs_agree_with_scipy_on_a_mean() -> None:
    chance = np.random.default_rng(2)
    a, b = chance.random(60), chance.random(60) + 0.08

    def mean_difference(x: np.ndarray, y: np.ndarray, axis: int) -> np.ndarray:
        return np.mean(y, axis=axis) - np.mean(x, axis=axis)

    wanted = stats.permutation_test(
        (a, b), mean_difference, permutation_type="samples", n_resamples=20_000, vectorized=True, rng=3
    ).pvalue
    rows = [np.column_stack([values, np.ones(60)]) for values in (a, b)]
    assert permutation_test(*rows, ratio) == pytest.approx(wanted, abs=0.015)
    assert permutation_test(rows[0], rows[0], ratio) == 1.0


def test_the_bootstrap_agrees_with_scipy_and_draws_equal_rows_together_rightly() -> None:
    values = np.repeat([0.0, 0.25, 1.0], [10, 15, 20])
    rows = np.column_stack([values, np.ones(45)])
    ours = percentile_interval(bootstrap(rows, ratio, resamples=20_000))
    wanted = stats.bootstrap((values,), np.mean, method="percentile", n_resamples=20_000, rng=4).confidence_interval
    assert ours == pytest.approx((wanted.low, wanted.high), abs=0.006)


def test_the_bootstrap_recomputes_a_score_that_is_no_mean_of_cases() -> None:
    chance = np.random.default_rng(7)
    rows = chance.integers(0, 9, (30, 2)).astype(float) + [0, 1]
    plain = [ratio(rows[chance.integers(0, 30, 30)].sum(0)) for _ in range(20_000)]
    assert percentile_interval(bootstrap(rows, ratio, 20_000)) == pytest.approx(
        tuple(np.quantile(plain, [0.025, 0.975])), abs=0.01
    )


def test_the_paired_interval_keeps_pairs_together() -> None:
    chance = np.random.default_rng(5)
    a = chance.random(50)
    b = a + 0.1 + chance.normal(0, 0.001, 50)
    rows = [np.column_stack([values, np.ones(50)]) for values in (a, b)]
    low, high = paired_interval(*rows, ratio)
    wanted = stats.bootstrap((b - a,), np.mean, method="percentile", n_resamples=5000, rng=4).confidence_interval
    assert (low, high) == pytest.approx((wanted.low, wanted.high), abs=2e-4)


def test_an_interval_of_all_right_cases_is_not_a_point() -> None:
    rows = np.column_stack([np.ones(20), np.ones(20)])
    (low, high), method = score_interval(rows, ratio, binary=False)
    assert (low, high) == pytest.approx(wilson_interval(20, 20))
    assert method == "Wilson"


def test_holm_follows_the_definition() -> None:
    # 0.01 * 4; max(0.04, 0.02 * 3); max(0.06, 0.03 * 2); max(0.06, 0.5 * 1)
    assert holm([0.02, 0.5, 0.01, 0.03]) == pytest.approx([0.06, 0.5, 0.04, 0.06])
    assert holm([]) == []
