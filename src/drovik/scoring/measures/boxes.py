"""The measure `boxes`: rectangles round what was found."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar, Literal

from drovik.scoring.json_pointer import at
from drovik.scoring.measures.coordinates import Axes, Frame, Scale, by_axes, expected_points, numbers, to_source
from drovik.scoring.measures.detection import Located, OverlapTable

Form = Literal["corners", "size", "center"]
Box = tuple[float, float, float, float]


class BoxesTable(OverlapTable):
    """What stands in question.toml for a boxes measure.

    `form`: two corners, a corner with width and height, or the centre with them. An object has them by the names
    left, top, right, bottom, width, height, x, y.
    """

    place: str = "/box"
    form: Form = "corners"
    expected_form: Form = "corners"


class Boxes(Located):
    """Precision, recall and F1 of boxes at an overlap, their mean overlap, and average precision.

    The overlap is intersection over union (P. Jaccard, 1901).
    """

    kind: ClassVar[str] = "boxes"
    table_type: ClassVar[type[BoxesTable]] = BoxesTable

    @property
    def _own(self) -> BoxesTable:
        assert isinstance(self._table, BoxesTable)
        return self._table

    @property
    def enough(self) -> float:
        """See `Located.enough`."""
        return self._own.overlap

    def place_of(self, raw: Any, frame: Frame, expected: bool) -> Any:
        """See `Located.place_of`."""
        own = self._own
        if expected:
            return _read(raw, frame, own.expected_form, own.expected_axes, own.expected_scale, True)
        return _read(raw, frame, own.form, own.axes, own.scale, False)

    def alike(self, wanted: Any, got: Any) -> float:
        """See `Located.alike`."""
        return overlap(wanted, got)

    def misreadings(self, raw: Any, frame: Frame) -> Sequence[tuple[str, Any]]:
        """See `Located.misreadings`."""
        form = self._own.form
        return self._other_readings(lambda axes, scale: _read(raw, frame, form, axes, scale, False))


def _read(raw: Any, frame: Frame, form: Form, axes: Axes, scale: Scale, expected: bool) -> Box | None:
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
        value = next((at(raw, f"/{name}") for name in names if name in raw), None)
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
