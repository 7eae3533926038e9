"""How much a score hangs on each case: what it is with that case left out.

Works for any smooth function of cases: means, ratios of sums, F1, kappa, average precision. What is left out is a
unit: a case, or, where cases have groups, a whole group. Rows are those of statistics that can be added up (see
`drovik.scoring.measure`).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from drovik.heavy import np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from drovik.scoring.measure import Weighing

    Floats = NDArray[np.float64]
    ScoreOf = Callable[[Floats], Floats]

SEED = 1729
"""Always the same, so that the same answers have the same interval each time."""
BLOCKS = 25
"""Of more units than this, blocks of them are left out in turn where a figure is no smooth function of cases: single
units say too little of it (J. Shao, C. F. J. Wu, Ann. Statist. 17, 1989). `benchmarks/coverage.py` shows it."""
_CHUNK = 2_000_000
"""Numbers in one array of sums: some 16 MB."""
_NOTHING = 1e-12
"""Below this, a spread is rounding alone."""


@dataclass(frozen=True, eq=False)
class Spread:
    """A score, and how far it moves if one unit, or a block of units, is left out.

    `moves` has shape (n,): the mean of the n scores that have one left out, less each of them. `sizes` are how many
    cases each has; `units` is how many units there are, which is n but for blocks. Spreads of scores of the same
    units subtract: `second - first` is the difference's.
    """

    value: float
    moves: Floats
    sizes: Floats
    units: int

    def __sub__(self, other: Spread) -> Spread:
        return Spread(self.value - other.value, self.moves - other.moves, self.sizes, self.units)

    @property
    def error(self) -> float:
        """The standard error by the jackknife (J. W. Tukey, Ann. Math. Statist. 29, 1958); 0 for one unit alone."""
        n = len(self.moves)
        found = math.sqrt((n - 1) / n * float(np.square(self.moves).sum()))
        return found if found > _NOTHING else 0.0


def leave_out(rows: Floats, score_of: ScoreOf, sizes: Floats) -> Spread:
    """The spread of a score that is a function of sums of rows.

    Equal rows move it alike, so that each kind of row is left out once.

    :param rows: shape (n, k), one of each unit.
    :param sizes: shape (n,), how many cases each unit has.
    """
    return leave_out_all(rows, lambda totals: {"": score_of(totals)}, sizes)[""]


def leave_out_all(rows: Floats, figures: Callable[[Floats], dict[str, Floats]], sizes: Floats) -> dict[str, Spread]:
    """The spreads of several scores by name: see `leave_out`."""
    return leave_out_kinds(*kinds_of(rows), figures, sizes)


def leave_out_kinds(
    kinds: Floats, places: NDArray[np.int64], figures: Callable[[Floats], dict[str, Floats]], sizes: Floats
) -> dict[str, Spread]:
    """The spreads of several scores by name, where it is known which rows are the same.

    :param kinds: the different rows, shape (kinds, k).
    :param places: which of them each unit has, shape (n,).
    """
    totals = np.bincount(places, minlength=len(kinds)).astype(np.float64) @ kinds
    values = figures(totals)
    step = max(1, _CHUNK // max(kinds.shape[1], 1))
    parts = [figures(totals - kinds[start : start + step]) for start in range(0, len(kinds), step)]
    found = {}
    for name, value in values.items():
        without = np.concatenate([part[name] for part in parts])[places]
        found[name] = Spread(float(value), without.mean() - without, sizes, len(places))
    return found


def kinds_of(rows: Floats) -> tuple[Floats, NDArray[np.int64]]:
    """The different rows, and which of them each row is: quicker than `numpy.unique` along an axis."""
    plain = np.ascontiguousarray(rows + 0.0)  # so that there is one nought, and not -0
    size = plain.itemsize * plain.shape[1]
    data = plain.tobytes()
    known: dict[bytes, int] = {}
    places = [known.setdefault(data[at : at + size], len(known)) for at in range(0, len(data), size)]
    kinds = np.frombuffer(b"".join(known), dtype=np.float64).reshape(len(known), -1)
    return kinds, np.array(places, dtype=np.int64)


def leave_out_weighed(weigh: Weighing, groups: NDArray[np.int64]) -> Spread:
    """The spread of a figure that is no function of sums, such as average precision.

    It is no smooth function of cases either, so that of many units blocks are left out, drawn by chance.

    :param groups: shape (n,), the unit of each case, by number.
    """
    units = int(groups.max()) + 1
    blocks = min(units, BLOCKS)
    if units > blocks:
        groups = (np.random.default_rng(SEED).permutation(units) % blocks)[groups]
    sizes = np.bincount(groups, minlength=blocks).astype(np.float64)
    weights = (groups[None, :] != np.arange(blocks)[:, None]).astype(np.float64)
    step = max(1, _CHUNK // max(len(groups), 1))
    without = np.concatenate([weigh(weights[start : start + step]) for start in range(0, blocks, step)])
    value = float(weigh(np.ones((1, len(groups))))[0])
    return Spread(value, without.mean() - without, sizes, units)
