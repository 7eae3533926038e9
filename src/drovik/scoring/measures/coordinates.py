"""Places in pictures: from the frame of the picture that was sent, in the answer's units, to the source's own.

Expected places are given in pixels of the upright source picture, returned ones in those of the picture that was
sent: cropped, shrunk, padded, one part of a page. The maps back are kept with the answer (docs/pictures.md).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal, NamedTuple

from drovik.images.layout import Map

Scale = Literal["pixels", "fraction", "thousand"]
SCALES: tuple[Scale, ...] = ("pixels", "fraction", "thousand")
Axes = Literal["xy", "yx"]
_PER_SIDE = {"fraction": 1.0, "thousand": 1000.0}


class Frame(NamedTuple):
    """A picture as it was sent: its size, the map to the upright source, and that one's size; all unknown where a
    measure is not told of pictures, so that answers have to be in the units of what is expected.
    """

    size: tuple[float, float] | None = None
    to_upright: Map = Map()
    upright: tuple[float, float] | None = None


def frames_of(pictures: Sequence[Mapping[str, Any]]) -> list[Frame]:
    """The frames of the pictures that an answer is about, in the order in which they were sent."""
    return [
        Frame(
            (float(one["size"][0]), float(one["size"][1])),
            Map(*one["to_upright"]),
            (float(one["upright_size"][0]), float(one["upright_size"][1])),
        )
        for one in pictures
    ]


def to_source(points: Sequence[tuple[float, float]], frame: Frame, scale: Scale) -> list[tuple[float, float]]:
    """Points of the picture that was sent, as points of the upright source, in pixels.

    Where the picture is not known, fractions stay fractions, and thousandths become them.
    """
    if scale == "pixels":
        sized = list(points)
    else:
        width, height = frame.size or (1.0, 1.0)
        per = _PER_SIDE[scale]
        sized = [(x * width / per, y * height / per) for x, y in points]
    return [frame.to_upright.point(x, y) for x, y in sized] if frame.size else sized


def expected_points(points: Sequence[tuple[float, float]], frame: Frame, scale: Scale) -> list[tuple[float, float]]:
    """Expected points, told of the upright source, in its pixels."""
    if scale == "pixels":
        return list(points)
    width, height = frame.upright or (1.0, 1.0)
    per = _PER_SIDE[scale]
    return [(x * width / per, y * height / per) for x, y in points]


def numbers(value: Any, count: int | None = None) -> list[float] | None:
    """A list of numbers, this many of them where that is given; None where it is none."""
    if not isinstance(value, list) or (count is not None and len(value) != count):
        return None
    if not all(isinstance(one, int | float) and not isinstance(one, bool) and abs(one) < 1e9 for one in value):
        return None
    return [float(one) for one in value]


def by_axes(first: float, second: float, axes: Axes) -> tuple[float, float]:
    """Two coordinates as x and y."""
    return (first, second) if axes == "xy" else (second, first)
