"""`[preps.NAME]`: how a picture is prepared before it is sent.

The steps are always taken in one order, whatever the order they are written in: pages or frames,
orientation, crop, scale, fit, fill, pad, gray, contrast, sharpen, split, and at last format, quality
and max_bytes.
"""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, StringConstraints, model_validator

from drovik.errors import Problem, ProjectError, known_words
from drovik.project.toml_files import Frozen, plain_numbers

SlotWord = Annotated[str, StringConstraints(pattern=r"^[a-z_][a-z0-9_]*$")]
Side = Annotated[int, Field(ge=8, le=20000)]
Size = tuple[Side, Side]
MOST_FRAMES = 32
"""Frames of a clip sent unless `most` says otherwise: each is paid for."""
MOST_PAGES = 20
"""Pages of a document sent without being asked for: each is paid for."""
PAGE_RESOLUTION = 150
"""Dots an inch: print of 8 points is 17 pixels high, which models read."""


def _in_order(box: tuple[Decimal, Decimal, Decimal, Decimal]) -> tuple[Decimal, Decimal, Decimal, Decimal]:
    left, top, right, bottom = box
    if left >= right or top >= bottom:
        raise ValueError("a box is [left, top, right, bottom], and this one holds nothing")
    if max(box) > 1 and any(one != int(one) for one in box):
        raise ValueError("a box is in whole pixels, or in fractions from 0 to 1")
    return box


def _four(box: object) -> object:
    if isinstance(box, list | tuple) and len(box) != 4:
        raise ValueError(f"a box is four numbers, [left, top, right, bottom], and this is {len(box)}")
    return box


Box = Annotated[
    tuple[
        Annotated[Decimal, Field(ge=0)],
        Annotated[Decimal, Field(ge=0)],
        Annotated[Decimal, Field(gt=0)],
        Annotated[Decimal, Field(gt=0)],
    ],
    BeforeValidator(_four),
    AfterValidator(_in_order),
]
"""Left, top, right, bottom of the upright picture: fractions where none is above 1, else pixels."""


_LAYS_OUT = {"orientation", "crop", "scale", "fit", "fill", "pad", "margin", "split"}
"""Steps of which the layout of one picture tells whether they change it: fit = 640 leaves a small one as it is."""
_TAKES_AS_IT_IS = {"pages", "resolution", "frames", "format", "max_bytes", "extra"}
"""Steps that draw nothing on a photograph. What is in neither set changes pixels: so does each step to come."""


class Split(Frozen):
    """A picture cut into `across` times `down` parts; each reaches into the next by `overlap` of its own side."""

    across: int = Field(default=1, ge=1, le=20)
    down: int = Field(default=1, ge=1, le=20)
    overlap: float = Field(default=0.1, ge=0, le=0.5)

    @model_validator(mode="after")
    def _cuts(self) -> Split:
        if self.across * self.down < 2:
            raise ValueError("a split has at least two parts: give across, down or both")
        return self


class Frames(Frozen):
    """Which frames of a clip are taken, at most `most` of them: by one rule.

    `every` takes every nth, `evenly` this many spread over the whole, `per_second` this many a second, `at` those
    shown at times in seconds, `on_change` those that differ from the one taken before by more than this
    share of full brightness.
    """

    every: int | None = Field(default=None, ge=1)
    evenly: int | None = Field(default=None, ge=1, le=1000)
    per_second: float | None = Field(default=None, gt=0, le=1000)
    at: tuple[Annotated[float, Field(ge=0)], ...] | None = Field(default=None, min_length=1)
    on_change: float | None = Field(default=None, gt=0, lt=1)
    most: int = Field(default=MOST_FRAMES, ge=1, le=1000)

    @model_validator(mode="after")
    def _one_rule(self) -> Frames:
        rules = ("every", "evenly", "per_second", "at", "on_change")
        if sum(getattr(self, name) is not None for name in rules) != 1:
            raise ValueError(f"give one rule, not several and not none: {', '.join(rules)}")
        return self


class Prep(Frozen):
    """How a picture is prepared. What is not given is left as it is.

    `orientation` is degrees to turn beyond upright, or `stored` to leave a picture as it lies. `crop` is a box, or
    the name of one of the case's `regions`. `fit` is the longest side, or the size to stay within; `fill` is
    filled and the rest cut off; `pad` is filled up with the colour `margin`; `scale` is a factor, or the
    very size, whatever becomes of the shape. `blank` is a grey picture of the same size in its place.
    """

    pages: Literal["all"] | tuple[Annotated[int, Field(ge=1)], ...] | None = None
    resolution: int | None = Field(default=None, ge=20, le=1200)
    frames: Frames | None = None
    orientation: Literal["upright", "stored", 0, 90, 180, 270] | None = None
    crop: Box | Annotated[str, StringConstraints(min_length=1)] | None = None
    scale: Annotated[float, Field(gt=0, le=8)] | Size | None = None
    fit: Side | Size | None = None
    fill: Size | None = None
    pad: Literal["square"] | Size | None = None
    margin: Annotated[str, StringConstraints(pattern=r"^(white|black|gray|#[0-9a-fA-F]{6})$")] | None = None
    gray: bool = False
    blank: bool = False
    contrast: Literal["auto"] | Annotated[float, Field(gt=0, le=10)] | None = None
    sharpen: Annotated[float, Field(gt=0, le=10)] | None = None
    split: Split | None = None
    format: Literal["jpeg", "png", "webp", "keep"] | None = None
    quality: int | None = Field(default=None, ge=1, le=95)
    max_bytes: int | None = Field(default=None, ge=500)
    extra: dict[SlotWord, Annotated[Any, AfterValidator(plain_numbers)]] = {}

    @model_validator(mode="after")
    def _fits_together(self) -> Prep:
        if self.fill and self.pad:
            raise ValueError("'fill' and 'pad' both say the size in the end; give one of them")
        if self.margin and not self.pad:
            raise ValueError("'margin' is the colour of 'pad', which is not given")
        if self.format == "png" and (self.quality or self.max_bytes):
            raise ValueError('a png has no quality to choose; take format = "jpeg" or "webp"')
        return self

    def canonical(self) -> dict[str, object]:
        """The prep without what it leaves as it is."""
        return self._canonical

    @cached_property
    def _canonical(self) -> dict[str, object]:
        known = self.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
        return plain_numbers({name: _numbers(value) for name, value in known.items()})  # type: ignore[no-any-return]

    def redraws(self) -> bool:
        """Whether it asks for other pixels, however the picture lies and whatever its size is."""
        return bool(set(self.canonical()) - _LAYS_OUT - _TAKES_AS_IT_IS)

    def keeps_pixels(self) -> bool:
        """Whether nothing in it may ask for other pixels."""
        return not set(self.canonical()) - {"extra", "max_bytes", "pages"}

    def for_region(self, regions: Mapping[str, Any], where: str) -> Prep:
        """The prep with the box of a case's region in place of the region's name.

        :param where: the case, for the message.
        :raises DrovikError: if the region does not exist.
        """
        if not isinstance(self.crop, str):
            return self
        if self.crop not in regions:
            what = f"{where} has no region '{self.crop}', to which the prep crops"
            known = known_words(self.crop, regions) if regions else "add it: drovik pictures --crop shows how"
            raise ProjectError(Problem(what, known))
        return self.changed(crop=regions[self.crop])


def _numbers(value: object) -> object:
    """Boxes come out of pydantic as texts, for their decimals; here they are numbers again."""
    if isinstance(value, list) and len(value) == 4 and all(isinstance(one, str) for one in value):
        return [float(one) for one in value]
    return value
