"""The measure `regions`: outlines and masks of what was found."""

from __future__ import annotations

import base64
import binascii
import io
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

from typing_extensions import override

from drovik.heavy import Image, np, shapely
from drovik.images.layout import Map
from drovik.scoring.measures.coordinates import Axes, Frame, Scale, by_axes, expected_points, numbers, to_source
from drovik.scoring.measures.detection import Detection, LocatedTable, OverlapTable

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Mask = NDArray[np.bool_]

Corners = tuple[tuple[float, float], ...]
SIDE = 512
"""Masks are compared on a grid whose longer side has this many cells; finer says nothing of an outline."""
_MOST_CELLS = 40_000_000
"""Of all grids of a case together: some 40 MB."""


class RegionsTable(OverlapTable):
    """The table of a regions measure in question.toml."""

    place: str = "/region"


class Region(NamedTuple):
    """A region: a polygon's corners in the source, or a mask with the map from the source to its cells."""

    corners: Corners = ()
    mask: Mask | None = None
    from_source: Map = Map()

    def bounds(self) -> tuple[float, float, float, float]:
        """The box round it, in the source."""
        if self.mask is None:
            xs, ys = [x for x, _ in self.corners], [y for _, y in self.corners]
            return min(xs), min(ys), max(xs), max(ys)
        height, width = self.mask.shape
        return inverse(self.from_source).box((0, 0, width, height))


class Regions(Detection):
    """Precision, recall and F1 of regions at an overlap, their mean overlap, and average precision.

    A region is a polygon ([[x, y], …] or [x, y, x, y, …]), runs ({"width", "height", "runs": [off, on, off, …]}, row
    by row) or a mask ({"png": base64}), whose cells are laid over the whole picture.
    """

    kind: ClassVar[str] = "regions"
    table_type: ClassVar[type[RegionsTable]] = RegionsTable

    @override
    @property
    def enough(self) -> float:
        assert isinstance(self._table, RegionsTable)
        return self._table.overlap

    @override
    def place_of(self, raw: Any, frame: Frame, expected: bool) -> Any:
        own = self._table
        if isinstance(raw, dict):
            return _masked(raw, frame, expected)
        return _polygon(raw, frame, *_told(own, expected), expected)

    @override
    def alike(self, wanted: Any, got: Any) -> float:
        """Intersection over union: exact of two polygons, else of cells of a grid over both."""
        return overlap(wanted, got)


def _told(table: LocatedTable, expected: bool) -> tuple[Axes, Scale]:
    return (table.expected_axes, table.expected_scale) if expected else (table.axes, table.scale)


def _polygon(raw: Any, frame: Frame, axes: Axes, scale: Scale, expected: bool) -> Region | None:
    if isinstance(raw, list) and raw and all(isinstance(one, list) and len(one) == 2 for one in raw):
        raw = [number for one in raw for number in one]
    values = numbers(raw)
    if values is None or len(values) < 6 or len(values) % 2 or len(values) > 20_000:
        return None
    points = [by_axes(values[n], values[n + 1], axes) for n in range(0, len(values), 2)]
    made = expected_points(points, frame, scale) if expected else to_source(points, frame, scale)
    return Region(tuple(made))


def _masked(raw: dict[str, Any], frame: Frame, expected: bool) -> Region | None:
    mask = _png(raw["png"]) if isinstance(raw.get("png"), str) else _runs(raw)
    if mask is None or not mask.size:
        return None
    height, width = mask.shape
    if expected or frame.size is None:
        whole = frame.upright or (float(width), float(height))
        return Region((), mask, Map(a=width / whole[0], b=0.0, c=0.0, d=0.0, e=height / whole[1], f=0.0))
    cells = Map(a=width / frame.size[0], b=0.0, c=0.0, d=0.0, e=height / frame.size[1], f=0.0)
    return Region((), mask, inverse(frame.to_upright).then(cells))


def _png(text: str) -> Mask | None:
    """A mask from a PNG in base64: what is brighter than half is in it."""

    try:
        data = base64.b64decode(text.rpartition(",")[2], validate=True)
        with Image.open(io.BytesIO(data), formats=["PNG"]) as picture:
            if picture.width * picture.height > _MOST_CELLS:
                return None
            return np.asarray(picture.convert("L")) > 127
    except (binascii.Error, ValueError, OSError, SyntaxError):
        return None


def _runs(raw: dict[str, Any]) -> Mask | None:
    """A mask from its runs, row by row from the upper left: cells off, cells on, and so on."""

    runs, shape = numbers(raw.get("runs")), numbers([raw.get("height"), raw.get("width")])
    if runs is None or shape is None or any(one < 0 or one != int(one) for one in (*runs, *shape)):
        return None
    height, width = int(shape[0]), int(shape[1])
    if not 0 < height * width <= _MOST_CELLS or sum(runs) > height * width:
        return None
    cells = np.zeros(height * width, dtype=bool)
    start = 0
    for number, run in enumerate(runs):
        cells[start : start + int(run)] = number % 2 == 1
        start += int(run)
    return cells.reshape(height, width)


def inverse(one: Map) -> Map:
    """The map that undoes a map."""
    by = one.a * one.e - one.b * one.d
    a, b, d, e = one.e / by, -one.b / by, -one.d / by, one.a / by
    return Map(a=a, b=b, c=-(a * one.c + b * one.f), d=d, e=e, f=-(d * one.c + e * one.f))


def overlap(one: Region, other: Region) -> float:
    """Intersection over union of two regions: of two polygons by their areas, else in cells of a grid over both."""
    if one.mask is None and other.mask is None:
        return _polygon_overlap(one.corners, other.corners)
    first, second = one.bounds(), other.bounds()
    left, top = min(first[0], second[0]), min(first[1], second[1])
    right, bottom = max(first[2], second[2]), max(first[3], second[3])
    if right <= left or bottom <= top or not _meet(first, second):
        return 0.0
    step = max(right - left, bottom - top) / SIDE
    size = max(1, round((right - left) / step)), max(1, round((bottom - top) / step))
    steps = (right - left) / size[0], (bottom - top) / size[1]
    cells = [_cells(region, (left, top), steps, size) for region in (one, other)]
    every = int((cells[0] | cells[1]).sum())
    return int((cells[0] & cells[1]).sum()) / every if every else 0.0


def _polygon_overlap(one: Corners, other: Corners) -> float:
    """By exact areas, however thin they are; an outline that crosses itself by the even-odd rule."""
    try:
        first, second = (shapely.make_valid(shapely.Polygon(corners)) for corners in (one, other))
        both = shapely.intersection(first, second).area
        every = first.area + second.area - both
    except (ValueError, shapely.errors.ShapelyError):  # coordinates that are no numbers a plane has
        return 0.0
    return float(both / every) if every > 0 else 0.0


def _meet(one: tuple[float, ...], other: tuple[float, ...]) -> bool:
    return one[0] < other[2] and other[0] < one[2] and one[1] < other[3] and other[1] < one[3]


def _cells(region: Region, origin: tuple[float, float], steps: tuple[float, float], size: tuple[int, int]) -> Mask:
    """Which cells of a grid have their middle in a region: for a polygon by the even-odd rule."""

    xs = origin[0] + (np.arange(size[0]) + 0.5) * steps[0]
    ys = origin[1] + (np.arange(size[1]) + 0.5) * steps[1]
    if region.mask is not None:
        by = region.from_source
        columns = np.floor(by.a * xs[None, :] + by.b * ys[:, None] + by.c).astype(int)
        rows = np.floor(by.d * xs[None, :] + by.e * ys[:, None] + by.f).astype(int)
        height, width = region.mask.shape
        inside = (columns >= 0) & (columns < width) & (rows >= 0) & (rows < height)
        within: Mask = inside & region.mask[np.clip(rows, 0, height - 1), np.clip(columns, 0, width - 1)]
        return within
    inside = np.zeros((size[1], size[0]), dtype=bool)
    corners = region.corners
    for (x1, y1), (x2, y2) in zip(corners, (*corners[1:], corners[0]), strict=True):
        if y1 == y2:
            continue
        rows = (y1 <= ys) != (y2 <= ys)
        edge = x1 + (ys[rows] - y1) * (x2 - x1) / (y2 - y1)
        inside[rows] ^= xs[None, :] < edge[:, None]
    return inside
