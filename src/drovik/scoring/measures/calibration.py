"""Whether confidence is deserved: what answers say of their own certainty beside how often they are right.

The statistics are counts in a hundred bins of confidence, so that they add up: how many answers there are, their
squared errors, for each bin the answers in it and those of them that are right, and for each wide bin the sum of what
was stated.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from drovik.heavy import np
from drovik.scoring.measure import Table, share

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

BINS = 100
WIDE = 10
"""Bins of the reliability curve, and of the expected calibration error."""
SIZE = 2 + 2 * BINS + WIDE


def confidence_of(value: Any) -> float | None:
    """A confidence from 0 to 1; `85 %`, and a number above 1 up to 100, are per cent; None where it is none."""
    if isinstance(value, bool):
        return None
    if isinstance(value, str):
        try:
            value = float(value.strip().removesuffix("%"))
        except ValueError:
            return None
    if not isinstance(value, int | float) or not 0 <= value <= 100:
        return None
    return float(value) / 100 if value > 1 else float(value)


def put(row: Floats, confidence: float, right: bool) -> None:
    """Add one answer to a row of statistics, shape (SIZE,)."""
    place = min(int(confidence * BINS), BINS - 1)
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
    width, each as heavy as it is full (Naeini, Cooper, Hauskrecht, AAAI 2015).
    """

    _, right, stated = _wide(totals)
    gaps: Floats = np.abs(stated - right).sum(axis=-1)
    return share(gaps, totals[..., 0], 0.0)


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
