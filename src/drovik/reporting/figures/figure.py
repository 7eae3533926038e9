"""A figure as plain values: marks with intervals, lines, two axes. One record serves the page and the files."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

MOST_TICKS = 6
SHAPES = ("circle", "square", "triangle", "diamond", "cross", "ring")
"""What tells series apart without colour."""


@dataclass(frozen=True)
class Axis:
    """An axis. `ticks` are places with the text at each; on a `log` axis all places are above 0."""

    title: str
    low: float
    high: float
    ticks: tuple[tuple[float, str], ...]
    log: bool = False

    def share(self, value: float) -> float:
        """Where a value is, from 0 to 1; what lies outside is at the edge."""
        low, high, at = self.low, self.high, min(max(value, self.low), self.high)
        if self.log:
            low, high, at = math.log(low), math.log(high), math.log(at)
        return (at - low) / (high - low) if high > low else 0.5


@dataclass(frozen=True)
class Mark:
    """A point with its name, and its intervals on either axis, where it has some. `faint` ones are not to be used."""

    name: str
    x: float
    y: float
    x_interval: tuple[float, float] | None = None
    y_interval: tuple[float, float] | None = None
    shape: str = "circle"
    faint: bool = False


@dataclass(frozen=True)
class Line:
    """A line through points; a `guide` is one to read the figure by, and no finding."""

    points: tuple[tuple[float, float], ...]
    name: str = ""
    guide: bool = False


@dataclass(frozen=True)
class Figure:
    """A figure. `name` is that of its file; `rows` are what a table of it shows, under `columns`."""

    name: str
    title: str
    x: Axis
    y: Axis
    marks: tuple[Mark, ...] = ()
    lines: tuple[Line, ...] = ()
    columns: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()


def share_axis(title: str, values: Iterable[float] = (0.0, 1.0), coefficient: bool = False) -> Axis:
    """An axis of shares in per cent, or of coefficients, that holds some values with a little room."""
    found = list(values)
    low, high = min(found, default=0.0), max(found, default=1.0)
    step = _step(max(high - low, 0.05))
    low, high = math.floor(round(low / step, 6)) * step, math.ceil(round(high / step, 6)) * step
    places = [low + step * n for n in range(round((high - low) / step) + 1)]
    told = tuple((one, f"{one:g}" if coefficient else f"{one * 100:g} %") for one in (round(p, 9) for p in places))
    return Axis(title, low, high, told)


def amount_axis(title: str, values: Sequence[float]) -> Axis:
    """An axis of amounts from 0, or by powers where the largest is more than ten times the smallest."""
    high, low = max(values, default=1.0), min((one for one in values if one > 0), default=0.0)
    if low and high > 10 * low:
        low, high = low / 1.5, high * 1.5
        powers = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
        places = [base * 10.0**power for power in powers for base in (1, 2, 5)]
        return Axis(title, low, high, tuple((one, f"{one:g}") for one in places if low <= one <= high), log=True)
    step = _step(high or 1.0)
    count = max(1, math.ceil(round((high or 1.0) * 1.02 / step, 6)))
    return Axis(title, 0.0, count * step, tuple((round(n * step, 9), f"{n * step:g}") for n in range(count + 1)))


def named_axis(names: Sequence[str], title: str = "") -> Axis:
    """An axis with a place for each name, from 0."""
    return Axis(title, -0.5, len(names) - 0.5, tuple(enumerate(names)))


def _step(span: float) -> float:
    """A round step that divides a span into a few."""
    power = 10.0 ** math.floor(math.log10(span / MOST_TICKS))
    return next(base * power for base in (1, 2, 2.5, 5, 10) if span / (base * power) <= MOST_TICKS)
