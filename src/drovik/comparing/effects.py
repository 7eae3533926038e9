"""The arms as a grid of choices (model, prompt, prep, variant) → what each choice adds, and where choices interact.

Scores are taken as sums of what each choice adds (least squares over the arms that there are, each counting once;
R. A. Fisher, The Design of Experiments, 1935). An effect is so a weighted sum of arms' scores, and its jackknife the
same sum of theirs: nothing is assumed of how arms go together on the same cases.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from drovik.comparing.contrast import LEAST, Sample, case_score, sample_of
from drovik.comparing.intervals import LEVEL, difference_p, score_interval
from drovik.comparing.jackknife import Spread
from drovik.comparing.ranking import Ranking
from drovik.heavy import np
from drovik.text import counted, difference_text, score_text

if TYPE_CHECKING:
    from numpy.typing import NDArray

Choices = Mapping[str, str]
"""What an arm is made of: the level of each factor, by the factor's name."""
_SAME = 1e-9
_WRITTEN = ("model", "variant", "prompt", "prep")
"""The order of factors in the name of a cell."""


@dataclass(frozen=True)
class Effect:
    """What a level of a factor adds to the score on average, beside the first level, or beside the version before; or
    how far it does so more at a level of another factor (`within`) than at that one's first, or the version before.

    `low`, `high` and `p` hold together with those of all other effects. `why` says why it cannot be known.
    """

    factor: str
    level: str
    beside: str
    value: float
    low: float
    high: float
    p: float
    arms: int
    why: str = ""
    within: tuple[str, str, str] | None = None
    """The other factor, its level, and the one that this is beside."""
    parts: tuple[float, float] | None = None
    """What the level adds at the other factor's level, and at the one that this is beside."""

    @property
    def is_known(self) -> bool:
        """Whether it is known to be more, or less, than nothing."""
        return not self.why and not self.low <= 0 <= self.high


@dataclass(frozen=True)
class Effects:
    """All effects of a task's arms. `missing` are the cells of the grid that were not asked, with their score if the
    choices simply add up; None where the arms that there are do not say."""

    effects: tuple[Effect, ...]
    interactions: tuple[Effect, ...]
    missing: tuple[tuple[str, float | None], ...]
    factors: Mapping[str, tuple[str, ...]]
    coefficient: bool = False


@dataclass(frozen=True, eq=False)
class _Grid:
    """The arms with their choices; `design` has a row an arm and a column a level but the first of each factor."""

    choices: Sequence[Choices]
    samples: Sequence[Sample]
    factors: Mapping[str, tuple[str, ...]]
    columns: Sequence[tuple[str, str]]
    design: NDArray[np.float64]

    def beside(self, factor: str, level: str) -> str:
        """What a level is compared with: a prompt version with the one before, any other with the first."""
        levels = self.factors[factor]
        return levels[levels.index(level) - 1] if factor == "prompt" else levels[0]

    def added(self, column: tuple[str, str], inverse: NDArray[np.float64]) -> NDArray[np.float64]:
        """The row of a level, of a matrix with a row a column, less the row of what it is beside."""
        earlier = (column[0], self.beside(*column))
        least: NDArray[np.float64] = inverse[1 + self.columns.index(column)]
        return least - inverse[1 + self.columns.index(earlier)] if earlier in self.columns else least

    def row(self, choices: Choices) -> NDArray[np.float64]:
        """The row of a cell."""
        return np.array([1.0] + [float(choices[factor] == level) for factor, level in self.columns])


def effects_of(ranking: Ranking, choices: Mapping[str, Choices]) -> Effects | None:
    """What choices add to the score, over the ranked arms, on the cases that all of them share.

    :param choices: of each arm, by its name.
    :return: None where no factor has two levels.
    """
    grid = _grid(ranking, choices)
    if grid is None or ranking.measure is None:
        return None
    inverse = np.linalg.pinv(grid.design).astype(np.float64)
    seen, wanted = inverse @ grid.design, np.eye(len(inverse))
    pairs = _interactions(grid)
    many = len(grid.columns) + len(pairs)
    effects = []
    for column in grid.columns:
        tells = np.abs(grid.added(column, seen) - grid.added(column, wanted)).max() < _SAME
        why = "" if tells else "the arms that there are do not tell it from others"
        effects.append(_effect(grid, column, grid.added(column, inverse), many, why))
    together = [_interaction(grid, one, many) for one in pairs]
    return Effects(
        tuple(effects), tuple(together), tuple(_missing(grid, inverse)), grid.factors, ranking.measure.is_coefficient
    )


def _grid(ranking: Ranking, choices: Mapping[str, Choices]) -> _Grid | None:
    if ranking.measure is None:
        return None
    arms = {arm.arm: arm for arm in ranking.arms if arm.arm in choices}
    names = [name for name in choices if name in arms]  # in the order in which they were written
    kept, samples = [choices[name] for name in names], []
    for name in names:
        samples.append(sample_of(arms[name].task, ranking.measure, ranking.cases_of(arms[name])))
    factors = {}
    for factor in kept[0] if kept else ():
        asked = {one[factor] for one in kept}
        written = dict.fromkeys(one[factor] for one in choices.values())
        if len(asked) > 1:
            factors[factor] = tuple(level for level in written if level in asked)
    if not factors:
        return None
    columns = [(factor, level) for factor, levels in factors.items() for level in levels[1:]]
    design = np.array([[1.0] + [float(one[factor] == level) for factor, level in columns] for one in kept])
    return _Grid(kept, samples, factors, columns, design)


def _combined(grid: _Grid, weights: NDArray[np.float64]) -> tuple[Spread, int]:
    """A weighted sum of the arms' scores, and in how many units it is not nothing."""
    spreads = [one.spread for one in grid.samples]
    value = float(sum(weight * one.value for weight, one in zip(weights, spreads, strict=True)))
    moves = np.sum([weight * one.moves for weight, one in zip(weights, spreads, strict=True)], axis=0)
    cases = np.array([[case_score(one).value for one in sample.cases] for sample in grid.samples])
    differ = np.abs(weights @ cases) > _SAME
    differing = int(np.count_nonzero(np.bincount(grid.samples[0].groups, differ)))
    return Spread(value, moves, spreads[0].sizes, spreads[0].units), differing


def _bounded(grid: _Grid, weights: NDArray[np.float64], many: int) -> tuple[float, float, float, float, str]:
    """The value, the bounds and the p of a weighted sum, as they are among many, and why they cannot be known."""
    spread, differing = _combined(grid, weights)
    low, high = grid.samples[0].measure.bounds_of(grid.samples[0].measure.what)
    reach = (high - low) * max(1.0, float(np.abs(weights).sum()) / 2)
    p = 1 - (1 - difference_p(spread, reach)) ** many
    below, above = score_interval(spread, (-reach, reach), LEVEL ** (1 / many))
    few = f"the arms differ in {counted(differing, 'case')}, and fewer than {LEAST} cannot decide"
    return spread.value, below, above, p, few if differing < LEAST else ""


def _effect(grid: _Grid, column: tuple[str, str], weights: NDArray[np.float64], many: int, why: str) -> Effect:
    factor, level = column
    value, low, high, p, few = _bounded(grid, weights, many)
    arms = sum(one[factor] == level for one in grid.choices)
    return Effect(factor, level, grid.beside(factor, level), value, low, high, p, arms, why or few)


_Cells = tuple[str, str, str, str, "NDArray[np.float64]", "NDArray[np.float64]"]
"""A factor and its level, another and its level, and the arms' weights there and at what that one is beside."""


def _interactions(grid: _Grid) -> list[_Cells]:
    """Each pair of levels of two factors whose four cells, or several such fours, were all asked."""
    found = []
    for (one, levels), (other, others) in itertools.combinations(grid.factors.items(), 2):
        for level, second in itertools.product(levels[1:], others[1:]):
            there, first, fours = np.zeros(len(grid.choices)), np.zeros(len(grid.choices)), 0
            for rest in {_without(choices, one, other) for choices in grid.choices}:
                pairs = itertools.product((second, grid.beside(other, second)), (level, grid.beside(one, level)))
                cells = [_cell(grid, rest, {one: mine, other: theirs}) for theirs, mine in pairs]
                if None not in cells:
                    fours += 1
                    there[cells[0]] += 1
                    there[cells[1]] -= 1
                    first[cells[2]] += 1
                    first[cells[3]] -= 1
            if fours:
                found.append((one, level, other, second, there / fours, first / fours))
    return found


def _without(choices: Choices, *factors: str) -> tuple[tuple[str, str], ...]:
    return tuple((factor, level) for factor, level in choices.items() if factor not in factors)


def _cell(grid: _Grid, rest: Sequence[tuple[str, str]], levels: Choices) -> int | None:
    """The number of the arm of a cell; None where it was not asked."""
    wanted = {**dict(rest), **levels}
    return next((number for number, one in enumerate(grid.choices) if dict(one) == wanted), None)


def _interaction(grid: _Grid, cells: _Cells, many: int) -> Effect:
    factor, level, other, second, there, first = cells
    value, low, high, p, few = _bounded(grid, there - first, many)
    parts = _combined(grid, there)[0].value, _combined(grid, first)[0].value
    within = (other, second, grid.beside(other, second))
    arms = int(np.count_nonzero(there - first))
    return Effect(factor, level, grid.beside(factor, level), value, low, high, p, arms, few, within, parts)


def _missing(grid: _Grid, inverse: NDArray[np.float64]) -> list[tuple[str, float | None]]:
    """The cells that were not asked, with their scores as far as the additive sum tells them."""
    found: list[tuple[str, float | None]] = []
    values = np.array([one.spread.value for one in grid.samples])
    known = inverse @ grid.design
    low, high = grid.samples[0].measure.bounds_of(grid.samples[0].measure.what)
    asked = {tuple(one[factor] for factor in grid.factors) for one in grid.choices}
    for levels in itertools.product(*grid.factors.values()):
        if levels not in asked:
            cell = dict(zip(grid.factors, levels, strict=True))
            row = grid.row(cell)
            tells = bool(np.abs(row @ known - row).max() < _SAME)
            score = min(high, max(low, float(row @ inverse @ values))) if tells else None
            found.append(("/".join(cell[factor] for factor in _WRITTEN if factor in cell), score))
    return found


def interaction_text(one: Effect, coefficient: bool) -> str:
    """Where a choice does more than elsewhere, in one sentence."""
    assert one.within is not None, "only of two factors"
    assert one.parts is not None, "only of two factors"
    _, second, first = one.within
    there, elsewhere = (difference_text(part, coefficient) for part in one.parts)
    return f"{one.level} beside {one.beside}: {there} with {second}, {elsewhere} with {first}."


def missing_text(effects: Effects) -> str:
    """Which cells of the grid were not asked, and what they would score if the choices simply add up."""
    if not effects.missing:
        return ""
    told = [
        name if score is None else f"{name} (about {score_text(score, effects.coefficient)})"
        for name, score in effects.missing
    ]
    guessed = any(score is not None for _, score in effects.missing)
    brackets = "; in brackets what it would be if choices simply add up" if guessed else ""
    return f"Not asked: {', '.join(told)}{brackets}."
