"""The measure `boxes`: rectangles round what was found.

The measure `points`: where things are, each by one point.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, ClassVar, Literal

from pydantic import Field
from typing_extensions import override

from drovik.scoring.json_pointer import value_at_pointer
from drovik.scoring.measures.coordinates import Axes, Frame, Scale, by_axes, expected_points, numbers, to_source
from drovik.scoring.measures.detection import Detection, LocatedTable, OverlapTable

Form = Literal["corners", "size", "center"]
Box = tuple[float, float, float, float]


class BoxesTable(OverlapTable):
    """The table of a boxes measure in question.toml.

    `form`: two corners, a corner with width and height, or the centre with them. An object has them by the names
    left, top, right, bottom, width, height, x, y.
    """

    place: str = "/box"
    form: Form = "corners"
    expected_form: Form = "corners"


class Boxes(Detection):
    """Precision, recall and F1 of boxes at an overlap, their mean overlap, and average precision.

    The overlap is intersection over union (P. Jaccard, 1901).
    """

    kind: ClassVar[str] = "boxes"
    table_type: ClassVar[type[BoxesTable]] = BoxesTable

    @property
    def _own(self) -> BoxesTable:
        assert isinstance(self._table, BoxesTable)
        return self._table

    @override
    @property
    def enough(self) -> float:
        return self._own.overlap

    @override
    def place_of(self, raw: Any, frame: Frame, expected: bool) -> Any:
        own = self._own
        if expected:
            return _read_box(raw, frame, own.expected_form, own.expected_axes, own.expected_scale, True)
        return _read_box(raw, frame, own.form, own.axes, own.scale, False)

    @override
    def alike(self, wanted: Any, got: Any) -> float:
        return overlap(wanted, got)

    @override
    def misreadings(self, raw: Any, frame: Frame) -> Sequence[tuple[str, Any]]:
        form = self._own.form
        return self._other_readings(lambda axes, scale: _read_box(raw, frame, form, axes, scale, False))


def _read_box(raw: Any, frame: Frame, form: Form, axes: Axes, scale: Scale, expected: bool) -> Box | None:
    values = _by_names(raw) if isinstance(raw, dict) else _by_order(numbers(raw, 4), form, axes)
    if values is None:
        return None
    x1, y1, x2, y2 = values
    corners = [(x1, y1), (x2, y2)]
    (a, b), (c, d) = expected_points(corners, frame, scale) if expected else to_source(corners, frame, scale)
    return min(a, c), min(b, d), max(a, c), max(b, d)


def _by_order(values: list[float] | None, form: Form, axes: Axes) -> Box | None:
    if values is None:
        return None
    (x, y), (c, d) = by_axes(values[0], values[1], axes), by_axes(values[2], values[3], axes)
    if form == "corners":
        return x, y, c, d
    if form == "size":
        return x, y, x + c, y + d
    return x - c / 2, y - d / 2, x + c / 2, y + d / 2


_NAMES = (("left", "x", "x1", "xmin"), ("top", "y", "y1", "ymin"), ("right", "x2", "xmax"), ("bottom", "y2", "ymax"))


def _by_names(raw: dict[str, Any]) -> Box | None:
    """A box whose sides are named, in the names that are usual."""
    found = []
    for names in _NAMES:
        value = next((value_at_pointer(raw, f"/{name}") for name in names if name in raw), None)
        found.append(value)
    for side, start, size in ((2, 0, "width"), (3, 1, "height")):
        if found[side] is None and numbers([found[start], raw.get(size)]):
            found[side] = found[start] + raw[size]
    values = numbers(found, 4)
    return None if values is None else (values[0], values[1], values[2], values[3])


def overlap(one: Box, other: Box) -> float:
    """Intersection over union of two boxes (left, top, right, bottom); 0 where both are empty."""
    width = min(one[2], other[2]) - max(one[0], other[0])
    height = min(one[3], other[3]) - max(one[1], other[1])
    both = max(width, 0.0) * max(height, 0.0)
    every = (one[2] - one[0]) * (one[3] - one[1]) + (other[2] - other[0]) * (other[3] - other[1]) - both
    return both / every if every > 0 else 0.0


class PointsTable(LocatedTable):
    """The table of a points measure in question.toml: from how near on a point is right, in the units of what is
    expected (pixels of the upright source, or of its longer side, where that is a fraction).
    """

    place: str = "/point"
    within: float = Field(default=20.0, gt=0)
    score: Literal["f1"] = "f1"


class Points(Detection):
    """Precision, recall and F1 of points: one is found that lies within a distance of where it should, or, where a
    box is expected, inside that. The "overlap" falls from 1 at the very place to 0.5 at the distance.
    """

    kind: ClassVar[str] = "points"
    table_type: ClassVar[type[PointsTable]] = PointsTable

    @property
    def _own(self) -> PointsTable:
        assert isinstance(self._table, PointsTable)
        return self._table

    @override
    @property
    def enough(self) -> float:
        return 0.5

    @override
    def place_of(self, raw: Any, frame: Frame, expected: bool) -> Any:
        """A point, or where a box is expected, its corners."""
        own = self._own
        if expected:
            return _read_point(raw, frame, own.expected_axes, own.expected_scale, True)
        found = _read_point(raw, frame, own.axes, own.scale, False)
        return found if found is not None and len(found) == 1 else None

    @override
    def alike(self, wanted: Any, got: Any) -> float:
        (x, y) = got[0]
        if len(wanted) == 2:
            (x1, y1), (x2, y2) = wanted
            inside = min(x1, x2) <= x <= max(x1, x2) and min(y1, y2) <= y <= max(y1, y2)
            return 1.0 if inside else 0.0
        away = math.dist(wanted[0], (x, y))
        return max(0.0, 1.0 - 0.5 * away / self._own.within)

    @override
    def misreadings(self, raw: Any, frame: Frame) -> Sequence[tuple[str, Any]]:
        # One point says little: without the picture's size, any would be near some corner on another scale.
        sized = frame.size is not None
        return self._other_readings(lambda axes, scale: _read_point(raw, frame, axes, scale, False), sized)


def _read_point(raw: Any, frame: Frame, axes: Axes, scale: Scale, expected: bool) -> list[tuple[float, float]] | None:
    if isinstance(raw, dict):
        raw = [raw.get("x"), raw.get("y")]
        axes = "xy"
    values = numbers(raw)
    if values is None or len(values) not in (2, 4):
        return None
    points = [by_axes(values[n], values[n + 1], axes) for n in range(0, len(values), 2)]
    return expected_points(points, frame, scale) if expected else to_source(points, frame, scale)
