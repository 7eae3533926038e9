"""Two arms' scores of the same cases → how far they are apart, how sure that is, and whether it can be decided."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

from drovik.comparing.intervals import (
    LEVEL,
    Bounds,
    difference_p,
    normal_quantile,
    score_interval,
    score_test_p,
    tango_interval,
)
from drovik.comparing.jackknife import Spread, kinds_of, leave_out_kinds, leave_out_weighed
from drovik.heavy import np, special
from drovik.scoring.json_pointer import ABSENT
from drovik.scoring.measure import CaseScore, Measure
from drovik.scoring.scores import ScoredCase
from drovik.text import counted

if TYPE_CHECKING:
    from numpy.typing import NDArray

LEAST = 6
"""Of fewer differing cases, or groups, no split is rare enough: 5 of 5 on one side come by chance in 1 of 16."""
SMALL = 30
"""With fewer units than this, a verdict on a graded measure has to survive one case that goes all the other way."""
POWER = 2.8
"""Standard errors that a difference of two has to be apart to be found in four of five trials: 1.96 + 0.84."""
_SAME = 1e-12
"""Below this two scores differ by rounding alone."""
_MOST_NEEDED = 1_000_000
"""More cases than this are as good as never."""


_AT_ONCE = 10_000
"""Cases whose rows are in memory at once."""


@dataclass(frozen=True, eq=False)
class Sample:
    """A measure's scores of some cases of a task, by unit: a case, or a whole group where some group has several."""

    task: str
    measure: Measure
    cases: tuple[ScoredCase, ...]
    spread: Spread
    groups: NDArray[np.int64]
    """The unit of each case, by number."""

    @property
    def grouped(self) -> bool:
        """Whether units are groups of cases."""
        return self.group_count is not None

    @property
    def is_plain(self) -> bool:
        """Whether each unit is one answer, fully correct or wrong: no group of cases, and no mean of repeats."""
        return self.measure.binary and not self.grouped and all(len(one.repeats) < 2 for one in self.cases)

    @property
    def group_count(self) -> int | None:
        """How many groups there are; None where every case stands alone."""
        return group_count(self.groups)


def groups_of(cases: Sequence[ScoredCase]) -> NDArray[np.int64]:
    """The group of each case, by number; a case without one is a group of its own."""
    names = [one.case.group if one.case.group is not None else f"\0{one.case.id}" for one in cases]
    return np.unique(names, return_inverse=True)[1].astype(np.int64)


def group_count(groups: NDArray[np.int64]) -> int | None:
    """How many groups there are; None where every case is one of its own."""
    count = int(groups.max()) + 1
    return count if count < len(groups) else None


def case_score(one: ScoredCase) -> CaseScore:
    """The score of a case that has one."""
    assert one.score is not None, "only scored cases come here"
    return one.score


def sample_of(task: str, measure: Measure, cases: Sequence[ScoredCase]) -> Sample:
    """A measure's scores of cases, each of which has one."""
    groups, scores = groups_of(cases), [case_score(one) for one in cases]
    return Sample(task, measure, tuple(cases), _spread(measure, scores, groups), groups)


def _spread(measure: Measure, scores: Sequence[CaseScore], groups: NDArray[np.int64]) -> Spread:
    if measure.is_weighed:
        return leave_out_weighed(measure.weighed(scores)[measure.what], groups)
    figures = leave_out_kinds(
        *unit_kinds(measure, scores, groups), lambda totals: {"": measure.score_of(totals)}, sizes_of(groups)
    )
    return figures[""]


def unit_kinds(
    measure: Measure, scores: Sequence[CaseScore], groups: NDArray[np.int64]
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """The different rows of the units of some cases, and which of them each unit has."""
    rows, kinds = measure.kinds(scores)
    if group_count(groups) is None:
        places = np.empty_like(kinds)
        places[groups] = kinds
        return rows, places
    sums = np.zeros((int(groups.max()) + 1, rows.shape[1]))
    for start in range(0, len(kinds), _AT_ONCE):
        np.add.at(sums, groups[start : start + _AT_ONCE], rows[kinds[start : start + _AT_ONCE]])
    return kinds_of(sums)


def sums_of_groups(rows: NDArray[np.float64], groups: NDArray[np.int64]) -> NDArray[np.float64]:
    """Rows of cases as those of their units, shape (units, k)."""
    sums = np.zeros((int(groups.max()) + 1, rows.shape[1]))
    np.add.at(sums, groups, rows)
    return sums


def sizes_of(groups: NDArray[np.int64]) -> NDArray[np.float64]:
    """How many cases each unit has."""
    return np.bincount(groups).astype(np.float64)


@dataclass(frozen=True, eq=False)
class Contrast:
    """The second arm's score less the first's, on the same cases in the same order.

    `changed` is how many cases only the first has right, and only the second; None where cases are not plainly right
    or wrong.
    """

    first: Sample
    second: Sample
    spread: Spread
    changed: tuple[int, int] | None

    @property
    def reach(self) -> float:
        """The largest difference that there can be."""
        low, high = self.first.measure.bounds_of(self.first.measure.what)
        return high - low

    @cached_property
    def p(self) -> float:
        """The two-sided p of a difference of 0."""
        return score_test_p(*self.changed) if self.changed else difference_p(self.spread, self.reach)

    @property
    def test(self) -> str:
        """The name of the test, and of the interval that belongs to it."""
        if self.changed:
            return "McNemar's test with Tango's interval"
        return "paired jackknife t test" + (" on whole groups" if self.first.grouped else "")

    def interval(self, level: float = LEVEL) -> Bounds:
        """The interval of the difference; at 95 % it leaves out 0 where p is below 0.05, and only there."""
        if self.changed:
            return tango_interval(*self.changed, len(self.first.cases), normal_quantile(level))
        return score_interval(self.spread, (-self.reach, self.reach), level)

    @cached_property
    def differing(self) -> int:
        """In how many units the scores differ; of a figure that sorts what was found, also where its order does."""
        if self.changed:
            return sum(self.changed)
        differ = [
            abs(one.value - other.value) > _SAME or (self.first.measure.is_weighed and one != other)
            for one, other in zip(map(case_score, self.first.cases), map(case_score, self.second.cases), strict=True)
        ]
        return int(np.count_nonzero(np.bincount(self.first.groups, differ)))

    def needed(self) -> int | None:
        """About how many cases would decide a difference like this, in four of five trials; None if none would."""
        cases, apart = len(self.first.cases), abs(self.spread.value)
        if apart < _SAME:
            return None
        share = self.differing / self.spread.units
        error = math.sqrt((share - apart**2) / cases) if self.changed else self.spread.error
        unit = cases / self.spread.units
        found = max(cases * (POWER * error / apart) ** 2, LEAST / share * unit, LEAST * unit)
        return math.ceil(found) if found < _MOST_NEEDED else None

    @cached_property
    def undecidable(self) -> str:
        """Why these cases cannot decide, whichever is better; empty where they can."""
        if self.first.group_count is not None and self.spread.units < LEAST:
            return f"{counted(self.spread.units, 'group')} cannot decide, nor could any fewer than {LEAST}"
        if self.differing < LEAST:
            what = "group" if self.first.grouped else "case"
            return f"they differ in {counted(self.differing, what)}, and fewer than {LEAST} cannot decide"
        if not self.changed and self.spread.units < SMALL and self.p < 1 - LEVEL and self._hangs_on_one():
            what = "group" if self.first.grouped else "case"
            units = counted(self.spread.units, what)
            return f"{units} cannot decide: one case going all the other way would undo it"
        return ""

    def _hangs_on_one(self) -> bool:
        """Whether one case that the better arm has all wrong and the other all right would undo the difference.

        Of fewer than 30 cases, none may show what one in twenty does (a runaway answer, say): no spread knows of it.
        """
        ahead, behind = (self.second, self.first) if self.spread.value > 0 else (self.first, self.second)
        losses = [
            case_score(good).value - case_score(bad).value
            for good, bad in zip(ahead.cases, behind.cases, strict=True)
        ]
        at = int(np.argmax(losses))
        measure = ahead.measure
        whole = ahead.cases[at].case.expected.get(ahead.task, ABSENT)
        if whole is ABSENT:
            return False
        expected = measure.expected_of(whole)
        spreads = []
        for sample, instead in ((ahead, measure.worst(expected, "")), (behind, measure.best(expected))):
            scores = [case_score(one) for one in sample.cases]
            scores[at] = instead
            spreads.append(_spread(measure, scores, sample.groups))
        turned = spreads[0] - spreads[1]
        return turned.value <= 0 or difference_p(turned, self.reach) >= 1 - LEVEL


def contrast_of(first: Sample, second: Sample) -> Contrast:
    """What lies between two samples of the same cases."""
    changed = None
    if first.is_plain and second.is_plain:
        right = [[case_score(one).value > 1 - _SAME for one in sample.cases] for sample in (first, second)]
        pairs = list(zip(*right, strict=True))
        changed = pairs.count((True, False)), pairs.count((False, True))
    return Contrast(first, second, second.spread - first.spread, changed)


def simultaneous_level(samples: Sequence[Sample]) -> tuple[float, NDArray[np.float64]]:
    """At what level each of all intervals of two of these arms must be for all to hold together at 95 %.

    The largest of all studentized differences, where all arms are alike, has the distribution of that of a normal
    vector with the covariance of the arms' scores (Y. Hochberg, A. Tamhane, Multiple Comparison Procedures, 1987, ch.
    3; J. Hsu, Multiple Comparisons, 1996): drawn here from the jackknife's covariance. For two arms it is 95 %.

    :return: the level, and the drawn maxima in order, for adjusting p values; empty for two arms.
    """
    if len(samples) < 3:
        return LEVEL, np.zeros(0)
    moves = np.array([one.spread.moves for one in samples])
    covariance = moves @ moves.T
    values, vectors = np.linalg.eigh(covariance)
    draws = np.random.default_rng(_SEED).standard_normal((_DRAWS, len(samples)))
    drawn = draws @ (vectors * np.sqrt(np.maximum(values, 0.0))).T
    largest = np.zeros(_DRAWS)
    for one in range(len(samples)):
        for other in range(one):
            spread = covariance[one, one] + covariance[other, other] - 2 * covariance[one, other]
            if spread > _SAME:
                np.maximum(largest, np.abs(drawn[:, one] - drawn[:, other]) / math.sqrt(spread), out=largest)
    largest.sort()
    critical = float(largest[math.ceil(LEVEL * _DRAWS)])
    return max(LEVEL, float(1 - 2 * special.ndtr(-critical))), largest


def adjusted_p(p: float, largest: NDArray[np.float64]) -> float:
    """A p value as it is among all comparisons of a ranking: how often chance alone goes so far in any of them.

    :param largest: what `simultaneous_level` drew.
    """
    if not len(largest):
        return p
    farther = len(largest) - int(np.searchsorted(largest, -float(special.ndtri(p / 2))))
    return max(p, (farther + 1) / (len(largest) + 1))


_SEED = 1729
"""Always the same, so that the same answers have the same ranking each time."""
_DRAWS = 40_000
"""A p value near 0.05 has a standard error of 0.001 then."""
