"""Average precision: how well what was found is ordered by its confidence, over all cases together.

It is no function of sums over cases: what all cases found is sorted. A resample counts each case so many times, so
that it is a function of how often each case counts.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from drovik.heavy import np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from drovik.scoring.measure import Floats

POINTS = 101
OVERLAPS = tuple(0.5 + 0.05 * n for n in range(10))


class Detections(NamedTuple):
    """What was found of one label in many cases: for each find its case, its confidence, and whether it is right at
    each of ten overlaps; and for each case how many there are to be found. A find in one of several answers to a case
    counts as its `part` of one.
    """

    case: NDArray[np.int64]
    part: Floats
    confidence: Floats
    right: NDArray[np.bool_]
    wanted: Floats


def average_precision(found: Sequence[Detections], overlaps: Sequence[int], weights: Floats) -> Floats:
    """Mean average precision over labels and overlaps (Lin et al., ECCV 2014): for each, the mean over 101 recalls of
    the highest precision at that recall or above.

    What has the same confidence comes in together, so that the order of cases does not matter.

    :param overlaps: which of the ten overlaps, by number.
    :param weights: how often each case counts, shape (b, n).
    :return: shape (b,). A label that nothing expects counts for nothing; where none is expected, it is 1 if nothing
        was found and 0 if something was.
    """

    total, labels = np.zeros(len(weights)), np.zeros(len(weights))
    idle = np.zeros(len(weights))
    for one in found:
        wanted = weights @ one.wanted
        idle += (weights[:, one.case] * one.part).sum(axis=1)
        order = np.argsort(-one.confidence, kind="stable")
        counted = weights[:, one.case[order]] * one.part[order]
        ends = _ends_of_ties(one.confidence[order])
        here = np.zeros(len(weights))
        for number in overlaps:
            hits = np.cumsum(counted * one.right[order, number], axis=1)[:, ends]
            here += _area(hits, np.cumsum(counted, axis=1)[:, ends], wanted)
        total += np.where(wanted > 0, here / len(overlaps), 0.0)
        labels += wanted > 0
    nothing: Floats = np.where(idle > 0, 0.0, 1.0)
    result: Floats = np.where(labels > 0, total / np.where(labels > 0, labels, 1.0), nothing)
    return result


def _ends_of_ties(confidence: Floats) -> NDArray[np.int64]:
    """The last place of each run of equal confidences."""

    if not len(confidence):
        return np.array([], dtype=np.int64)
    return np.append(np.flatnonzero(np.diff(confidence)), len(confidence) - 1)


def _area(hits: Floats, found: Floats, wanted: Floats) -> Floats:
    """The mean of the interpolated precision over 101 recalls."""

    if not hits.shape[1]:
        return np.zeros(len(hits))
    precision = hits / np.maximum(found, 1e-300)
    best = np.maximum.accumulate(precision[:, ::-1], axis=1)[:, ::-1]
    recall = hits / np.where(wanted > 0, wanted, 1.0)[:, None]
    # How many of the 101 recalls are reached with each find, and so how many with it for the first time.
    reached = np.floor(recall * (POINTS - 1) + 1e-9) + 1.0
    newly = np.diff(reached, axis=1, prepend=0.0)
    area: Floats = (best * newly).sum(axis=1) / POINTS
    return area
