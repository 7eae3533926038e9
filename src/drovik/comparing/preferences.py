"""Which of two answers people prefer: the sign test for two arms, a ranking of several by Bradley and Terry."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from drovik.comparing.intervals import wilson_interval
from drovik.heavy import np, special
from drovik.project.reviews import NO_DIFFERENCE, Judgement
from drovik.text import bounds_text, counted, p_value, percent

if TYPE_CHECKING:
    from numpy.typing import NDArray

DRAWS = 1_000
_SEED = 1729
_STEPS, _CLOSE = 500, 1e-9
_PRIOR = 0.5
"""Half a win either way between any two that met: an arm that always won is not infinitely better."""


@dataclass(frozen=True)
class PairPreference:
    """Of two arms, how often people preferred the first, the second, neither. `share` is that of the first among
    those that preferred one, with its 95 % interval; `p` is of the sign test, two-sided.
    """

    first: str
    second: str
    wins: int
    losses: int
    ties: int
    share: float
    low: float
    high: float
    p: float

    def text(self) -> str:
        """It in a sentence."""
        low, high = bounds_text(self.low, self.high)
        told = f"{self.first} preferred to {self.second} {counted(self.wins, 'time')}, {self.second} {self.losses}, "
        told += f"no difference {self.ties}: {percent(self.share)} ({low} – {high}), sign test p {p_value(self.p)}"
        if self.wins + self.losses < _FEWEST:
            return f"{told}; {counted(self.wins + self.losses, 'preference')} cannot decide it"
        return told


_FEWEST = 6
"""Preferences below which no sign test can come out below 5 %."""


@dataclass(frozen=True)
class Strength:
    """An arm's strength: how often it would be preferred to an average arm, with its 95 % interval."""

    arm: str
    value: float
    low: float
    high: float
    comparisons: int


def pair_preferences(said: Sequence[Judgement]) -> list[PairPreference]:
    """Every two arms that were held beside each other, the most often compared first."""
    counts: dict[tuple[str, str], list[int]] = {}
    for one in said:
        assert one.arms is not None, "preferences alone"
        first, second = sorted(one.arms)
        row = counts.setdefault((first, second), [0, 0, 0])
        row[2 if one.prefer == NO_DIFFERENCE else 0 if one.prefer == first else 1] += 1
    found = []
    for (first, second), (wins, losses, ties) in sorted(counts.items(), key=lambda one: -sum(one[1])):
        decided = wins + losses
        low, high = wilson_interval(wins, decided) if decided else (0.0, 1.0)
        # Two-sided: both tails of a fair coin weigh the same.
        p = min(1.0, 2 * float(special.bdtr(min(wins, losses), decided, 0.5))) if decided else 1.0
        share = wins / decided if decided else 0.5
        found.append(PairPreference(first, second, wins, losses, ties, share, low, high, p))
    return found


def strengths(said: Sequence[Judgement]) -> list[Strength]:
    """The arms by strength, the strongest first; a bootstrap over cases. Empty for fewer than three arms.

    R. A. Bradley and M. E. Terry, Biometrika 39 (1952); fitted by D. R. Hunter's minorization (Ann. Statist. 32,
    2004). No difference counts as half a win for both.
    """
    arms = sorted({arm for one in said for arm in one.arms or ()})
    if len(arms) < 3:
        return []
    place = {arm: number for number, arm in enumerate(arms)}
    by_case: dict[str, NDArray[np.float64]] = {}
    for one in said:
        assert one.arms is not None, "preferences alone"
        first, second = (place[arm] for arm in one.arms)
        table = by_case.setdefault(one.case, np.zeros((len(arms), len(arms))))
        won = 0.5 if one.prefer == NO_DIFFERENCE else float(one.prefer == one.arms[0])
        table[first, second] += won
        table[second, first] += 1 - won
    tables = np.stack(list(by_case.values()))
    whole = _fitted(tables.sum(axis=0))
    chance = np.random.default_rng(_SEED)
    drawn = np.stack(
        [_fitted(tables[chance.integers(0, len(tables), len(tables))].sum(axis=0)) for _ in range(DRAWS)]
    )
    low, high = np.quantile(drawn, [0.025, 0.975], axis=0)
    met = tables.sum(axis=0) + tables.sum(axis=0).T
    found = [
        Strength(
            arm, float(whole[n]), float(min(low[n], whole[n])), float(max(high[n], whole[n])), round(met[n].sum())
        )
        for arm, n in place.items()
    ]
    return sorted(found, key=lambda one: -one.value)


def _fitted(wins: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each arm's chance to be preferred to an average one.

    :param wins: how often the arm of the row was preferred to that of the column, shape (n, n).
    """
    met = (wins + wins.T) > 0
    counted = wins + _PRIOR * met
    pairs, won = counted + counted.T, counted.sum(axis=1)
    strength = np.ones(len(wins))
    for _ in range(_STEPS):
        below = (pairs / (strength[:, None] + strength[None, :])).sum(axis=1)
        new = won / np.where(below > 0, below, 1.0)
        new = np.where(new > 0, new, 1.0)
        new /= np.exp(np.log(new).mean())
        if float(np.abs(new - strength).max()) < _CLOSE:
            break
        strength = new
    result: NDArray[np.float64] = strength / (1 + strength)
    return result


def preferences_document(said: Sequence[Judgement]) -> Mapping[str, object]:
    """Preferences as plain values."""
    from dataclasses import asdict

    return {
        "pairs": [asdict(one) for one in pair_preferences(said)],
        "strengths": [asdict(one) for one in strengths(said)],
    }
