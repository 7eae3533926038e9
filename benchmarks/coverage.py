"""How often intervals hold and verdicts are right: a simulation over kinds of measure, numbers of cases, and shapes.

    python benchmarks/coverage.py [TRIALS]

Each trial draws two arms' answers to the same cases from a population whose true scores are known, and asks Drovik for
both intervals, the interval of the difference and the verdict. Seeded; some minutes. `docs/statistics.md` has the table.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import stats

from drovik.comparing.contrast import Sample, adjusted_p, contrast_of, sample_of, simultaneous_level
from drovik.comparing.jackknife import leave_out
from drovik.comparing.ranking import optimism
from drovik.comparing.verdict import Judgement, estimate_of
from drovik.project.cases import Case
from drovik.scoring.measure import CaseScore, Measure, share
from drovik.scoring.measures import confusion
from drovik.scoring.measures.confidence import Detections, average_precision
from drovik.scoring.scores import ScoredCase

Floats = NDArray[np.float64]
Draw = Callable[[np.random.Generator, int, float], tuple[list[CaseScore], ...]]
"""From how many cases, and how much better the second arm is, to both arms' scores of them."""
CASES, GROUPS = (10, 20, 48, 200), (6, 10, 20, 50)
LABELS = np.array([0.4, 0.25, 0.15, 0.1, 0.06, 0.04])
"""How often each label is expected: uneven, as labels are."""
SOURCES = 100_000
"""Cases of the population that the true scores are taken from, four times over."""


class Ratio(Measure):
    """A score that is a ratio of sums: accuracy, a mean over cases, an error rate over a corpus."""

    kind = "ratio"

    def make(self: Any, *_: Any) -> Any: ...
    def expected_of(self, expected: Any) -> Any:
        return expected

    def check_expected(self, expected: Any) -> None: ...
    def per_case(self, *_: Any) -> Any: ...
    def worst(self, expected: Any, why: str) -> CaseScore:
        return CaseScore((0.0, expected), 0.0)

    def best(self, expected: Any) -> CaseScore:
        return CaseScore((expected, expected), 1.0)

    def score_of(self, totals: Floats) -> Floats:
        return share(totals[..., 0], totals[..., 1])


class Matrix(Ratio):
    """A figure of a confusion matrix."""

    def __init__(self, name: str, figure: Callable[[Floats], Floats], bounds: tuple[float, float]) -> None:
        super().__init__(name, name, False)
        self._figure, self._bounds = figure, bounds

    def bounds_of(self, figure: str) -> tuple[float, float]:
        return self._bounds

    def worst(self, expected: Any, why: str) -> CaseScore:
        return _cell(int(expected) % len(LABELS), len(LABELS))

    def best(self, expected: Any) -> CaseScore:
        return _cell(int(expected) % len(LABELS), int(expected) % len(LABELS))

    def score_of(self, totals: Floats) -> Floats:
        return self._figure(totals.reshape(*totals.shape[:-1], len(LABELS), len(LABELS) + 1))


class Found(Ratio):
    """Average precision of finds of one label, at one overlap; statistics are pairs of confidence and right."""

    is_weighed = True

    def weighed(self, scores: Sequence[CaseScore]) -> dict[str, Any]:
        wanted = np.array([one.statistics[0] for one in scores])
        finds = [
            (n, *pair)
            for n, one in enumerate(scores)
            for pair in zip(one.statistics[1::2], one.statistics[2::2], strict=True)
        ]
        table = np.array(finds, dtype=float).reshape(-1, 3)
        right = np.repeat(table[:, 2:] > 0, 10, axis=1)
        found = Detections(table[:, 0].astype(np.int64), np.ones(len(table)), table[:, 1], right, wanted)
        return {self.what: lambda weights: average_precision([found], (0,), weights)}

    def worst(self, expected: Any, why: str) -> CaseScore:
        return CaseScore((expected,), 0.0)

    def best(self, expected: Any) -> CaseScore:
        return CaseScore((expected, *(1.0, 1.0) * int(expected)), 1.0)


def _ratios(right: Floats, size: Floats) -> list[CaseScore]:
    return [CaseScore((float(a), float(b)), float(a / b)) for a, b in zip(right, size, strict=True)]


def _cell(row: int, column: int) -> CaseScore:
    counts = [0.0] * (len(LABELS) * (len(LABELS) + 1))
    counts[row * (len(LABELS) + 1) + column] = 1.0
    return CaseScore(tuple(counts), float(row == column))


def accuracy(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
    """Right or wrong, two arms that are right about much the same cases."""
    hard, ones = rng.random(n), np.ones(n)
    draws = [np.where(rng.random(n) < 0.6, hard, rng.random(n)) for _ in range(2)]
    return tuple(
        _ratios((one < 0.8 + more).astype(float), ones) for one, more in zip(draws, (0, better), strict=True)
    )


def even(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
    """Scores between 0 and 1 that vary as much one way as the other."""
    base, ones = rng.beta(4, 2, n) * 0.7 + 0.1, np.ones(n)
    moved = base + rng.normal(0, 0.04, n), base + rng.normal(better, 0.06, n)
    return tuple(_ratios(np.clip(one, 0, 1), ones) for one in moved)


def skewed(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
    """Three in four fully right, the others anywhere."""

    def one(share_right: float) -> Floats:
        return np.where(rng.random(n) < share_right, 1.0, rng.random(n))

    first = one(0.75)
    second = np.where(rng.random(n) < 0.6, first, one(0.75)) if not better else one(0.75 + 2 * better)
    return _ratios(first, np.ones(n)), _ratios(second, np.ones(n))


def text(runaways: float) -> Draw:
    """Characters right over a corpus, with a share of answers that have none right."""

    def draw(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
        size, hard = rng.integers(10, 120, n).astype(float), rng.gamma(0.6, 0.06, n)
        found = []
        for rate in (hard, hard * (1 - 4 * better) * rng.gamma(4, 0.25, n)):
            edits = np.minimum(rng.poisson(rate * size), size)
            found.append(_ratios(size - np.where(rng.random(n) < runaways, size, edits), size))
        return tuple(found)

    return draw


def constant(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
    """Always 0.95 against 1 with one in twenty at 0."""
    return _ratios(np.full(n, 0.95 - better), np.ones(n)), _ratios((rng.random(n) >= 0.05).astype(float), np.ones(n))


def labels(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
    """Six labels that are not equally frequent, and answers off the list."""
    expected, hard = rng.choice(len(LABELS), n, p=LABELS), rng.random(n)
    found = []
    for right in (0.8, 0.8 + better):
        answered = np.where(
            np.where(rng.random(n) < 0.6, hard, rng.random(n)) > right, rng.integers(0, 7, n), expected
        )
        found.append([_cell(int(a), int(b)) for a, b in zip(expected, answered, strict=True)])
    return tuple(found)


def finds(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
    """One to three things a picture, found with some confidence, and some that are not there."""
    wanted = rng.integers(1, 4, n)
    arms = []
    for right in (0.75, 0.75 + better):
        scores = []
        for many in wanted:
            hits = int((rng.random(many) < right).sum())
            wrong = int(rng.poisson(0.3))
            told = [x for sure in rng.beta(5, 2, hits) for x in (float(sure), 1.0)]
            told += [x for sure in rng.beta(3, 3, wrong) for x in (float(sure), 0.0)]
            scores.append(CaseScore((float(many), *told), hits / (many + wrong)))
        arms.append(scores)
    return tuple(arms)


def grouped(binary: bool) -> Draw:
    """Groups of 1 to some 20 cases that have much in common; n is the number of groups."""

    def draw(rng: np.random.Generator, n: int, better: float) -> tuple[list[CaseScore], ...]:
        sizes = 1 + rng.poisson(4 * rng.gamma(2, 0.5, n))
        level = rng.beta(4, 1, n)
        arms = []
        for more in (0.0, better):
            mean = np.repeat(np.clip(level + rng.normal(0, 0.1, n) + more, 0, 1), sizes)
            values = rng.random(len(mean)) < mean if binary else np.clip(mean + rng.normal(0, 0.1, len(mean)), 0, 1)
            arms.append(_ratios(values.astype(float), np.ones(len(mean))))
        draw.groups = np.repeat(np.arange(n), sizes)  # type: ignore[attr-defined]
        return tuple(arms)

    return draw


SHAPES: dict[str, tuple[Measure, Draw, float]] = {
    "accuracy": (Ratio("a", "accuracy", True), accuracy, 0.12),
    "mean, even": (Ratio("m", "mean", False), even, 0.05),
    "mean, skewed": (Ratio("m", "mean", False), skewed, 0.08),
    "mean, constant against rare 0": (Ratio("m", "mean", False), constant, 0.0),
    "characters": (Ratio("c", "characters", False), text(0.0), 0.1),
    "characters, 2 % runaway": (Ratio("c", "characters", False), text(0.02), 0.1),
    "macro F1": (Matrix("macro F1", confusion.macro_f1, (0.0, 1.0)), labels, 0.12),
    "kappa": (Matrix("kappa", confusion.kappa, (-1.0, 1.0)), labels, 0.12),
    "average precision": (Found("ap", "ap", False), finds, 0.15),
    "accuracy in groups": (Ratio("a", "accuracy", True), grouped(True), -0.15),
    "mean in groups": (Ratio("m", "mean", False), grouped(False), -0.1),
}
"""By name: the measure, how arms are drawn, and a difference that is worth finding."""


def samples(measure: Measure, arms: Sequence[list[CaseScore]], groups: Floats | None) -> list[Sample]:
    """Scores of arms as Drovik takes them up."""
    found = []
    for scores in arms:
        cases = []
        for n, score in enumerate(scores):
            group = None if groups is None else f"g{groups[n]}"
            size = (
                np.argmax(score.statistics) // 7
                if isinstance(measure, Matrix)
                else score.statistics[-1 if isinstance(measure, Found) is False else 0]
            )
            case = Case(f"c{n:05d}", (), {}, {"": float(size)}, group, "tune", frozenset(), "")
            cases.append(ScoredCase(case, None, score))
        found.append(sample_of("", measure, cases))
    return found


def truth(measure: Measure, draw: Draw, better: float) -> tuple[float, float]:
    """The true scores of two arms."""
    rng = np.random.default_rng(99)
    many = SOURCES // (25 if measure.is_weighed else 10)
    arms = [draw(rng, many, better) for _ in range(4)]
    if measure.is_weighed:
        return tuple(measure.combine([s for one in arms for s in one[side]]) for side in (0, 1))  # type: ignore[return-value]
    sums = [sum(measure.rows(one[side]).sum(axis=0) for one in arms) for side in (0, 1)]
    return float(measure.score_of(sums[0])), float(measure.score_of(sums[1]))


def trial_row(name: str, n: int, trials: int) -> tuple[str, list[float]]:
    """A line of the table, and its coverages."""
    measure, draw, gain = SHAPES[name]
    rng = np.random.default_rng([n, len(name)])
    counts = dict.fromkeys(("single", "paired", "called", "few", "against", "found"), 0)
    gains = (0.0, gain) if gain else (0.0,)
    for better in gains:
        first, second = truth(measure, draw, better)
        for _ in range(trials):
            arms = draw(rng, n, better)
            one, other = samples(measure, arms, getattr(draw, "groups", None))
            judgement = Judgement(contrast := contrast_of(one, other), contrast.p)
            low, high = contrast.interval()
            called, outside = judgement.outcome in ("better", "worse"), low > 0 or high < 0
            counts["single"] += (e := estimate_of(one)).low <= first <= e.high
            counts["paired"] += low <= second - first <= high
            counts["against"] += (called and not outside) or (outside != (contrast.p < 0.05))
            counts["few"] += judgement.outcome == "too few cases" and not better
            counts["found" if better else "called"] += called
    both = len(gains) * trials
    single, paired = counts["single"] / both, counts["paired"] / both
    shares = [single, paired, counts["called"] / trials, counts["few"] / trials, counts["found"] / trials]
    cells = " ".join(f"{value * 100:9.1f}" for value in shares)
    return f"{name:30} {n:4} {cells} {counts['against']:9}", [single, paired, counts["called"] / trials]


def rankings(most: int) -> None:
    """Of rankings of equal arms, how many call any of them different; and how much the first is flattered."""
    print(f"\n{'equal arms':30} {'n':>4} {'called':>9} {'told':>9} {'true':>9}   (flattery, in points)")
    for name, measure, draw in (
        ("accuracy", Ratio("a", "accuracy", True), accuracy),
        ("mean, skewed", Ratio("m", "mean", False), skewed),
    ):
        for many, trials in ((2, most), (6, most), (20, most // 4)):  # of 20 arms a ranking takes long
            for n in (48, 200):
                rng, called, told, real = np.random.default_rng([many, n]), 0, 0.0, 0.0
                true = truth(measure, draw, 0.0)[0]
                for _ in range(trials):
                    arms = [one for _ in range(-(-many // 2)) for one in draw(rng, n, 0.0)][:many]
                    found = sorted(samples(measure, arms, None), key=lambda one: -one.spread.value)
                    level, largest = simultaneous_level(found)
                    outcomes = []
                    for better, worse in [(a, b) for k, a in enumerate(found) for b in found[k + 1 :]]:
                        if worse.spread.value == better.spread.value:
                            continue
                        contrast = contrast_of(worse, better)
                        p = adjusted_p(contrast.p, largest)
                        if p < 0.05:
                            outcomes.append(Judgement(contrast, p, level, 2).outcome)
                    called += "better" in outcomes
                    moves = np.array([one.spread.moves for one in found])
                    told += optimism([one.spread.value for one in found], moves @ moves.T * (n - 1) / n)
                    real += found[0].spread.value - true
                print(
                    f"{many:2} {name:27} {n:4} {called / trials * 100:9.1f} {told / trials * 100:9.2f} {real / trials * 100:9.2f}"
                )


def others(trials: int) -> None:
    """What the usual bootstraps would have come to, on the same samples: why they are not used."""
    print(
        f"\n{'coverage of a single interval':30} {'n':>4} {'used here':>9} {'percentile':>10} {'BCa':>9} {'boot-t':>9}"
    )
    for name in ("mean, even", "mean, skewed", "characters", "macro F1", "kappa"):
        measure, draw, _ = SHAPES[name]
        true = truth(measure, draw, 0.0)[0]
        for n in (10, 20, 48):
            rng, hits = np.random.default_rng(n), np.zeros(4)
            for _ in range(trials):
                scores = draw(rng, n, 0.0)[0]
                sample = samples(measure, [scores], None)[0]
                one = estimate_of(sample)
                bounds = [(one.low, one.high), *bootstraps(measure, measure.rows(scores), rng)]
                hits += [low <= true <= high for low, high in bounds]
            print(f"{name:30} {n:4} " + " ".join(f"{hit / trials * 100:9.1f}" for hit in hits))


def bootstraps(
    measure: Measure, rows: Floats, rng: np.random.Generator, resamples: int = 600
) -> list[tuple[float, float]]:
    """The percentile interval, BCa with the expansion for small samples (Hesterberg 2015), and the bootstrap-t."""
    n, spread = len(rows), leave_out(rows, measure.score_of, np.ones(len(rows)))
    draws = rng.multinomial(n, np.full(n, 1 / n), size=resamples).astype(float)
    sums = draws @ rows
    values, value, error = measure.score_of(sums), spread.value, spread.error
    tail = stats.norm.cdf(-np.sqrt(n / (n - 1)) * stats.t.ppf(0.975, n - 1))
    shift = stats.norm.ppf(np.clip(((values < value).mean() + (values <= value).mean()) / 2, 0.001, 0.999))
    cubes = float((spread.moves**3).sum() / (6 * (spread.moves**2).sum() ** 1.5)) if error else 0.0
    ends = [shift + stats.norm.ppf(one) for one in (tail, 1 - tail)]
    bca = np.quantile(values, np.clip([stats.norm.cdf(shift + end / (1 - cubes * end)) for end in ends], 0, 1))
    step = 1e-3
    slopes = np.stack(
        [(measure.score_of(sums + step * row) - measure.score_of(sums - step * row)) / (2 * step) for row in rows], 1
    )
    means = (draws * slopes).sum(axis=1, keepdims=True) / n
    errors = np.sqrt((draws * (slopes - means) ** 2).sum(axis=1) * n / (n - 1))
    kept = errors > max(error * 0.05, 1e-12)
    ratios = (values[kept] - value) / errors[kept] if kept.sum() > 50 else np.array([-2.0, 2.0])
    low, high = np.quantile(ratios, [0.025, 0.975])
    return [tuple(np.quantile(values, [0.025, 0.975])), tuple(bca), (value - high * error, value - low * error)]


def main(trials: int) -> None:
    print(f"{trials} trials a line for arms that are alike, and {trials} for arms that are not; shares in per cent")
    print(
        f"{'measure and shape':30} {'n':>4} {'single':>9} {'paired':>9} {'level':>9} {'too few':>9} {'power':>9} {'contrary':>9}"
    )
    covered: list[float] = []
    worst_level = 0.0
    for name in SHAPES:
        for n in GROUPS if "groups" in name else CASES:
            line, (single, paired, level) = trial_row(name, n, trials if "precision" not in name else trials // 4)
            print(line, flush=True)
            worst_level = max(worst_level, level)
            if "runaway" not in name and "rare" not in name:
                covered += [single, paired] if n >= 20 else []
    print(
        f"mean coverage from 20 cases or groups on, without runaways: {np.mean(covered) * 100:.1f}; worst {min(covered) * 100:.1f}"
    )
    print(f"highest level: {worst_level * 100:.1f}")
    rankings(max(trials, 20))
    others(max(trials // 2, 20))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2000)
