"""Whether confidence is deserved: what answers say of their own certainty beside how often they are right.

The statistics are counts in a hundred bins of confidence, so that they add up: how many answers there are, their
squared errors, for each bin the answers in it and those of them that are right, and for each wide bin the sum of what
was stated.

Average precision: how well what was found is ordered by its confidence, over all cases together.

It is not a function of sums over cases: what all cases found is sorted. Leaving out counts a case 0 times, so
that it is a function of how often each case counts.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from drovik.heavy import np, special
from drovik.scoring.measure import Table, share

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from drovik.scoring.measure import Floats


BINS = 100
"""Of the calibration curve: fine enough for any threshold in whole per cent."""
WIDE = 10
"""Bins of the reliability curve, and of the expected calibration error; a bin holds its lower edge."""
SIZE = 2 + 2 * BINS + WIDE


def confidence_of(value: Any) -> float | None:
    """A confidence from 0 to 1; `85 %`, and a number above 1 up to 100, are per cent; None where it is none."""
    per_cent = False
    if isinstance(value, str):
        plain = value.strip()
        per_cent = plain.endswith("%")
        try:
            value = float(plain.removesuffix("%"))
        except ValueError:
            return None
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= 100:
        return None
    return float(value) / 100 if per_cent or value > 1 else float(value)


def put(row: Floats, confidence: float, right: bool) -> None:
    """Add one answer to a row of statistics, shape (SIZE,)."""
    # 0.29 is not to fall short of 29 hundredths because 0.29 * 100 comes to 28.999999999999996.
    place = min(int(round(confidence * BINS, 9)), BINS - 1)
    row[0] += 1
    row[1] += (confidence - right) ** 2
    row[2 + place] += 1
    row[2 + BINS + place] += right
    row[2 + 2 * BINS + place * WIDE // BINS] += confidence


def brier(totals: Floats) -> Floats:
    """The mean squared difference of confidence and outcome (G. W. Brier, Mon. Weather Rev. 78, 1950)."""
    return share(totals[..., 1], totals[..., 0], 0.0)


def calibration_error(totals: Floats) -> Floats:
    """Expected calibration error: the mean gap between confidence and share of right answers, over ten bins of equal
    width, each as heavy as it is full (Naeini, Cooper, Hauskrecht, AAAI 2015), with its bias taken off (Kumar, Liang,
    Ma, NeurIPS 2019, section 5).

    Chance alone makes gaps, and the plain figure too large where answers are few. What chance would add to the gaps
    as they are is that of a share drawn again from a normal distribution around each bin's; it is taken off once. The
    result may fall below 0, which the true value cannot; it is left so for its interval to hold.
    """

    count, right, stated = _wide(totals)
    some = np.maximum(count, 1e-300)
    hits = right / some
    gaps, error = np.abs(stated / some - hits), np.sqrt(np.maximum(hits * (1 - hits), 0.0) / some)
    spread = np.where(error > 0, error, 1.0)
    ratio = gaps / spread
    drawn = spread * np.sqrt(2 / np.pi) * np.exp(-(ratio**2) / 2) + gaps * (1 - 2 * special.ndtr(-ratio))
    drawn = np.where(error > 0, drawn, gaps)
    return share((count * (2 * gaps - drawn)).sum(axis=-1), totals[..., 0], 0.0)


def _wide(totals: Floats) -> tuple[Floats, ...]:
    """Answers, right ones, and sums of confidence in each of the ten bins."""
    narrow = (totals[..., 2 + n * BINS : 2 + (n + 1) * BINS] for n in range(2))
    wide = [one.reshape(*one.shape[:-1], WIDE, BINS // WIDE).sum(axis=-1) for one in narrow]
    return (*wide, totals[..., 2 + 2 * BINS :])


def curve(totals: Floats) -> Table:
    """The reliability curve: by stated confidence, how many answers there are and how many of them are right."""
    count, right, stated = _wide(totals)
    rows = tuple(
        (
            f"{n / WIDE:.1f} to {(n + 1) / WIDE:.1f}",
            (float(count[n]), float(stated[n] / count[n]), float(right[n] / count[n])),
        )
        for n in range(WIDE)
        if count[n]
    )
    return Table("confidence that was stated, and how often it was right", ("answers", "stated", "right"), rows)


def threshold(totals: Floats, precision: float) -> tuple[float, float, float] | None:
    """The least confidence from which on answers are right often enough: keep those, look at the others.

    :param precision: the wanted share of right answers among those that are kept.
    :return: the confidence in hundredths, the share of answers kept, their precision; None where none is enough.
    """

    count = np.cumsum(totals[2 : 2 + BINS][::-1])[::-1]
    right = np.cumsum(totals[2 + BINS : 2 + 2 * BINS][::-1])[::-1]
    enough = [n for n in range(BINS) if count[n] and right[n] / count[n] >= precision - 1e-12]
    if not enough:
        return None
    return enough[0] / BINS, float(count[enough[0]] / totals[0]), float(right[enough[0]] / count[enough[0]])


POINTS = 101
"""Recalls at which precision is read, 0.00 to 1.00."""
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
