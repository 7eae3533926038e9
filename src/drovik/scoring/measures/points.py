"""The measure `points`: where things are, each by one point."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, ClassVar, Literal

from pydantic import Field

from drovik.scoring.measures.coordinates import Axes, Frame, Scale, by_axes, expected_points, numbers, to_source
from drovik.scoring.measures.detection import Located, LocatedTable


class PointsTable(LocatedTable):
    """What stands in question.toml for a points measure: from how near on a point is right, in the units of what is
    expected (pixels of the upright source, or of its longer side, where that is a fraction).
    """

    place: str = "/point"
    within: float = Field(default=20.0, gt=0)
    score: Literal["f1"] = "f1"


class Points(Located):
    """Precision, recall and F1 of points: one is found that lies within a distance of where it should, or, where a
    box is expected, inside that. The "overlap" falls from 1 at the very place to 0.5 at the distance.
    """

    kind: ClassVar[str] = "points"
    table_type: ClassVar[type[PointsTable]] = PointsTable

    @property
    def _own(self) -> PointsTable:
        assert isinstance(self._table, PointsTable)
        return self._table

    @property
    def enough(self) -> float:
        """See `Located.enough`."""
        return 0.5

    def place_of(self, raw: Any, frame: Frame, expected: bool) -> Any:
        """See `Located.place_of`: a point, or where a box is expected, its corners."""
        own = self._own
        if expected:
            return _read(raw, frame, own.expected_axes, own.expected_scale, True)
        found = _read(raw, frame, own.axes, own.scale, False)
        return found if found is not None and len(found) == 1 else None

    def alike(self, wanted: Any, got: Any) -> float:
        """See `Located.alike`."""
        (x, y) = got[0]
        if len(wanted) == 2:
            (x1, y1), (x2, y2) = wanted
            inside = min(x1, x2) <= x <= max(x1, x2) and min(y1, y2) <= y <= max(y1, y2)
            return 1.0 if inside else 0.0
        away = math.dist(wanted[0], (x, y))
        return max(0.0, 1.0 - 0.5 * away / self._own.within)

    def misreadings(self, raw: Any, frame: Frame) -> Sequence[tuple[str, Any]]:
        """See `Located.misreadings`."""
        # One point says little: without the picture's size, any would be near some corner on another scale.
        sized = frame.size is not None
        found = self._other_readings(lambda axes, scale: _read(raw, frame, axes, scale, False), sized)
        return [(cause, place) for cause, place in found if place is not None and len(place) == 1]


def _read(raw: Any, frame: Frame, axes: Axes, scale: Scale, expected: bool) -> list[tuple[float, float]] | None:
    if isinstance(raw, dict):
        raw = [raw.get("x"), raw.get("y")]
        axes = "xy"
    values = numbers(raw)
    if values is None or len(values) not in (2, 4):
        return None
    points = [by_axes(values[n], values[n + 1], axes) for n in range(0, len(values), 2)]
    return expected_points(points, frame, scale) if expected else to_source(points, frame, scale)
