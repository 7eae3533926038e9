"""Where everything of a picture comes to lie by a prep, from sizes alone: what is drawn, and the map back.

A layout is made before a pixel is read, so that the size of what will be sent (and what that costs) is known
beforehand, by the same arithmetic that the drawing follows. Coordinates are continuous: a picture of W
pixels reaches from 0 to W, and a pixel's middle lies at a half.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from drovik.errors import PictureError, Problem
from drovik.project.preps import Prep

_TURNED = {0: 1, 90: 6, 180: 3, 270: 8}
"""Degrees clockwise, as the orientation (Exif 2.32, tag 0x0112) whose remedy turns a picture so far."""


class Map(NamedTuple):
    """An affine map of points: x' = a·x + b·y + c, y' = d·x + e·y + f."""

    a: float = 1.0
    b: float = 0.0
    c: float = 0.0
    d: float = 0.0
    e: float = 1.0
    f: float = 0.0

    def point(self, x: float, y: float) -> tuple[float, float]:
        """Where a point goes."""
        return self.a * x + self.b * y + self.c, self.d * x + self.e * y + self.f

    def box(self, box: Sequence[float]) -> tuple[float, float, float, float]:
        """Where a box (left, top, right, bottom) goes; upright again where the map turns it."""
        (x1, y1), (x2, y2) = self.point(box[0], box[1]), self.point(box[2], box[3])
        return min(x1, x2), min(y1, y2), max(x1, x2), max(y1, y2)

    def then(self, after: Map) -> Map:
        """This map, and then another."""
        c, f = after.point(self.c, self.f)
        return Map(
            a=after.a * self.a + after.b * self.d,
            b=after.a * self.b + after.b * self.e,
            c=c,
            d=after.d * self.a + after.e * self.d,
            e=after.d * self.b + after.e * self.e,
            f=f,
        )


class Box(NamedTuple):
    """A box of whole pixels."""

    left: int
    top: int
    right: int
    bottom: int

    @property
    def width(self) -> int:
        """How many pixels across."""
        return self.right - self.left

    @property
    def height(self) -> int:
        """How many pixels down."""
        return self.bottom - self.top


@dataclass(frozen=True)
class Layout:
    """How one picture is drawn, step by step, and what comes out.

    The stored picture of size `stored`, turned by `orientation`, is cropped to `crop`, resized to `resized`, cut to
    `cut`, and laid on a canvas of size `canvas` at `at`; the canvas is cut into `parts`.
    """

    stored: tuple[int, int]
    orientation: int
    crop: Box
    resized: tuple[int, int]
    cut: Box
    canvas: tuple[int, int]
    at: tuple[int, int]
    parts: tuple[Box, ...]

    @property
    def upright(self) -> tuple[int, int]:
        """The size once the picture is turned."""
        return turned_size(self.stored, self.orientation)

    @property
    def is_plain(self) -> bool:
        """Whether the stored pixels are what is sent."""
        whole = Box(0, 0, *self.stored)
        return self.orientation == 1 and self.crop == self.cut == whole and self.parts == (whole,)

    @property
    def kept_share(self) -> float:
        """How much of the upright picture's area is to be seen in what is sent."""
        width, height = self.upright
        cut = self.cut.width * self.cut.height / (self.resized[0] * self.resized[1])
        return cut * self.crop.width * self.crop.height / (width * height)

    def stretch(self) -> float:
        """By how much the shape changes: the ratio of the scales across and down, 1 where it stays.

        A shape that changes only because sizes are whole numbers counts as one that stays.
        """
        across, down = self.resized[0] / self.crop.width, self.resized[1] / self.crop.height
        off_x, off_y = abs(self.crop.width * down - self.resized[0]), abs(self.crop.height * across - self.resized[1])
        return 1.0 if min(off_x, off_y) <= 1 else across / down

    def to_upright(self, part: int) -> Map:
        """From a part's own pixels to those of the upright picture."""
        x, y = self.parts[part].left - self.at[0] + self.cut.left, self.parts[part].top - self.at[1] + self.cut.top
        across, down = self.crop.width / self.resized[0], self.crop.height / self.resized[1]
        return Map(c=x, f=y).then(Map(a=across, e=down, c=self.crop.left, f=self.crop.top))

    def to_stored(self, part: int) -> Map:
        """From a part's own pixels to those of the stored picture."""
        return self.to_upright(part).then(_untwist(self.stored, self.orientation))

    def stored_crop(self) -> tuple[float, float, float, float]:
        """The crop in the stored picture's pixels."""
        return _untwist(self.stored, self.orientation).box(self.crop)


def turned_size(size: tuple[int, int], orientation: int) -> tuple[int, int]:
    """A picture's size after it was turned upright."""
    return (size[1], size[0]) if orientation >= 5 else size


def _untwist(stored: tuple[int, int], orientation: int) -> Map:
    """From the upright picture to the stored one, by Exif's eight orientations."""
    width, height = stored
    return {
        1: Map(),
        2: Map(a=-1, c=width),
        3: Map(a=-1, c=width, e=-1, f=height),
        4: Map(e=-1, f=height),
        5: Map(a=0, b=1, d=1, e=0),
        6: Map(a=0, b=1, d=-1, e=0, f=height),
        7: Map(a=0, b=-1, c=width, d=-1, e=0, f=height),
        8: Map(a=0, b=-1, c=width, d=1, e=0),
    }[orientation]


def orientation_after(own: int, prep: Prep) -> int:
    """The orientation to draw by: the picture's own, then what the prep turns beyond it."""
    own = own if 1 <= own <= 8 else 1
    if prep.orientation == "stored":
        return 1
    if not isinstance(prep.orientation, int) or prep.orientation == 0:
        return own
    turned = _untwist((0, 0), _TURNED[prep.orientation]).then(_untwist((0, 0), own))
    return next(one for one in range(1, 9) if _untwist((0, 0), one)[:2] == turned[:2] and _same(one, turned))


def _same(orientation: int, wanted: Map) -> bool:
    one = _untwist((0, 0), orientation)
    return (one.a, one.b, one.d, one.e) == (wanted.a, wanted.b, wanted.d, wanted.e)


def layout_of(stored: tuple[int, int], own_orientation: int, prep: Prep) -> Layout:
    """How a picture is drawn.

    :param stored: its size in pixels as it lies in the file.
    :param own_orientation: 1 to 8, as Exif has it.
    :raises DrovikError: where the crop lies outside of the picture, or is a region's name.
    """
    orientation = orientation_after(own_orientation, prep)
    upright = turned_size(stored, orientation)
    crop = _cropped(upright, prep)
    drawn = _Drawn((crop.width, crop.height))
    for name, step in GEOMETRY.items():
        if getattr(prep, name) is not None:
            drawn = step(drawn, prep)
    cut = drawn.cut or Box(0, 0, *drawn.size)
    canvas = drawn.canvas or (cut.width, cut.height)
    at = ((canvas[0] - cut.width) // 2, (canvas[1] - cut.height) // 2)
    return Layout(
        stored=stored, orientation=orientation, crop=crop, resized=drawn.size, cut=cut, canvas=canvas, at=at,
        parts=_parts(canvas, prep),
    )  # fmt: skip


class _Drawn(NamedTuple):
    """How far the steps have come: the size of the whole, what is cut out of it, the canvas; None is all of it."""

    size: tuple[int, int]
    cut: Box | None = None
    canvas: tuple[int, int] | None = None


def _scale(drawn: _Drawn, prep: Prep) -> _Drawn:
    scale = prep.scale or 1.0
    return drawn._replace(size=scale if isinstance(scale, tuple) else _times(drawn.size, scale))


def _within(size: tuple[int, int], bounds: tuple[int, int]) -> tuple[int, int]:
    return _times(size, min(1.0, bounds[0] / size[0], bounds[1] / size[1]))


def _fit(drawn: _Drawn, prep: Prep) -> _Drawn:
    fit = prep.fit or drawn.size
    return drawn._replace(size=_within(drawn.size, fit if isinstance(fit, tuple) else (fit, fit)))


def _fill(drawn: _Drawn, prep: Prep) -> _Drawn:
    size, cut = _filled(drawn.size, prep.fill or drawn.size)
    return drawn._replace(size=size, cut=cut)


def _pad(drawn: _Drawn, prep: Prep) -> _Drawn:
    if isinstance(prep.pad, tuple):
        return drawn._replace(size=_within(drawn.size, prep.pad), canvas=prep.pad)
    return drawn._replace(canvas=(max(drawn.size), max(drawn.size)))


GEOMETRY: dict[str, Callable[[_Drawn, Prep], _Drawn]] = {"scale": _scale, "fit": _fit, "fill": _fill, "pad": _pad}
"""The steps that change the size after the crop, in their order, by the setting that asks for each."""


def _cropped(upright: tuple[int, int], prep: Prep) -> Box:
    width, height = upright
    if prep.crop is None:
        return Box(0, 0, width, height)
    if isinstance(prep.crop, str):
        raise PictureError(Problem(f"the crop '{prep.crop}' is a region's name, and no case is given"))
    left, top, right, bottom = (float(one) for one in prep.crop)
    if max(prep.crop) <= 1:
        left, top, right, bottom = left * width, top * height, right * width, bottom * height
    # To whole pixels, outwards; a hair's breadth beyond one is rounding.
    box = Box(
        math.floor(left + 1e-6),
        math.floor(top + 1e-6),
        min(width, math.ceil(right - 1e-6)),
        min(height, math.ceil(bottom - 1e-6)),
    )
    if box.width < 1 or box.height < 1:
        where = [round(one) for one in (left, top, right, bottom)]
        what = f"the crop {where} lies outside of {width} x {height} pixels"
        raise PictureError(Problem(what, "a crop is [left, top, right, bottom] of the upright picture"))
    return box


def _times(size: tuple[int, int], share: float) -> tuple[int, int]:
    return max(1, round(size[0] * share)), max(1, round(size[1] * share))


def _filled(size: tuple[int, int], wanted: tuple[int, int]) -> tuple[tuple[int, int], Box]:
    """The size that just covers what is wanted, and its middle."""
    share = max(wanted[0] / size[0], wanted[1] / size[1])
    covering = (max(wanted[0], round(size[0] * share)), max(wanted[1], round(size[1] * share)))
    left, top = (covering[0] - wanted[0]) // 2, (covering[1] - wanted[1]) // 2
    return covering, Box(left, top, left + wanted[0], top + wanted[1])


def _parts(size: tuple[int, int], prep: Prep) -> tuple[Box, ...]:
    if prep.split is None:
        return (Box(0, 0, *size),)
    across = _stretches(size[0], prep.split.across, prep.split.overlap)
    down = _stretches(size[1], prep.split.down, prep.split.overlap)
    return tuple(Box(left, top, right, bottom) for top, bottom in down for left, right in across)


def _stretches(length: int, count: int, overlap: float) -> list[tuple[int, int]]:
    """A length cut into stretches of one size, each with `overlap` of itself in common with the next."""
    count = min(count, length)
    size = length / (count - (count - 1) * overlap)
    step = size * (1 - overlap)
    starts = [round(step * number) for number in range(count)]
    whole = min(length, max(1, math.ceil(size)))
    return [(min(start, length - whole), min(start, length - whole) + whole) for start in starts]
