"""Which of what was found goes with which of what was expected, each at most once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from drovik.heavy import np

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats


def best_pairs(worth: Floats) -> dict[int, int]:
    """Of each row its column, so that what the pairs are worth comes to most; nothing that is worth nothing.

    Mostly what is best for each row is in a column of its own, or best for each column in a row of its own: then
    nothing can be worth more. Else it is the linear assignment problem (Crouse, IEEE Trans. Aerosp. Electron. Syst.
    52, 2016), and what solves that is slow to load.

    :param worth: of each row with each column, 0 or more.
    """
    if not worth.any():
        return {}
    by_row = _best_of_each(worth)
    if len(set(by_row.values())) == len(by_row):
        return by_row
    by_column = _best_of_each(worth.T)
    if len(set(by_column.values())) == len(by_column):
        return {row: column for column, row in by_column.items()}
    from scipy.optimize import linear_sum_assignment

    rows, columns = linear_sum_assignment(worth, maximize=True)
    return {int(a): int(b) for a, b in zip(rows, columns, strict=True) if worth[a, b] > 0}


def _best_of_each(worth: Floats) -> dict[int, int]:
    """The first best column of each row that has one."""
    best = np.argmax(worth, axis=1)
    return {row: int(column) for row, column in enumerate(best) if worth[row, column] > 0}
