"""Places in a source picture → shapes to draw: boxes, points, and the outlines of regions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from drovik.heavy import np, shapely
from drovik.scoring.measures.regions import Corners, Region, inverse

if TYPE_CHECKING:
    from drovik.scoring.measures.regions import Mask

Kind = Literal["box", "point", "outline"]
SIDE = 200
"""A mask is drawn by at most this many rows and columns: an outline to look at, not to measure."""
MOST_CORNERS = 400


class Shape(NamedTuple):
    """A shape in pixels of the upright source: two corners of a box, a point, or an outline's corners."""

    kind: Kind
    corners: Corners


def shapes_of(place: Any) -> list[Shape]:
    """The shapes of a place as a measure of places reads it; a mask may have several parts."""
    if isinstance(place, Region):
        if place.mask is None:
            return [Shape("outline", place.corners[:MOST_CORNERS])]
        return [Shape("outline", one) for one in _outlines(place.mask, place)]
    if len(place) == 4 and not isinstance(place[0], tuple):
        return [Shape("box", ((place[0], place[1]), (place[2], place[3])))]
    return [Shape("box" if len(place) == 2 else "point", tuple(place))]


def _outlines(mask: Mask, region: Region) -> list[Corners]:
    """The outlines of a mask's parts, from the runs of its rows."""
    step = max(1, -(-max(mask.shape) // SIDE))
    coarse, back = mask[::step, ::step], inverse(region.from_source)
    runs = []
    for row, cells in enumerate(coarse):
        edges = np.flatnonzero(np.diff(np.concatenate([[False], cells, [False]]).astype(np.int8)))
        runs += [shapely.box(a * step, row * step, b * step, (row + 1) * step) for a, b in edges.reshape(-1, 2)]
    joined = shapely.unary_union(runs).simplify(0.75 * step)  # a staircase is off its slope by 0.71
    parts = [one for one in getattr(joined, "geoms", [joined]) if not one.is_empty]
    return [tuple(back.point(x, y) for x, y in one.exterior.coords)[:MOST_CORNERS] for one in parts]
