"""`picture_tokens` of a model: the steps by which it counts what a picture comes to in tokens."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from drovik.project.preps import Side
from drovik.project.toml_files import Frozen

_RESIZES = ("within", "shorter", "longer", "multiple")
_COUNTS = ("flat", "area", "tile", "patch")


class Resize(Frozen):
    """One step: how the service itself resizes a picture before it counts. The shape stays but for rounding.

    `within`: both sides at most so long; `shorter`, `longer`: that side at most so long; `multiple`: both sides
    to a multiple of so many pixels, by `round`. Smaller pictures are enlarged only with `enlarge`.
    """

    within: Side | None = None
    shorter: Side | None = None
    longer: Side | None = None
    multiple: Annotated[int, Field(ge=2, le=4096)] | None = None
    round: Annotated[str, Field(pattern="^(up|down|nearest)$")] = "nearest"
    enlarge: bool = False

    @model_validator(mode="after")
    def _one_rule(self) -> Resize:
        if sum(getattr(self, name) is not None for name in _RESIZES) != 1:
            raise ValueError(f"give one of {', '.join(_RESIZES)} in a step")
        return self


class Count(Frozen):
    """How the resized picture is counted: by one of four rules.

    `flat`: so many tokens whatever its size. `area`: a token for so many pixels, at least `least` and at most
    `most`. `tile` and `patch`: for each square of so many pixels, begun ones too, `each` tokens, with `base`
    beside them, and at most `cap` squares. A tile has `each` to say; a patch is one token unless it does.
    """

    flat: int | None = Field(default=None, ge=0)
    area: float | None = Field(default=None, gt=0)
    least: int = Field(default=0, ge=0)
    most: int | None = Field(default=None, ge=1)
    tile: int | None = Field(default=None, ge=2, le=8192)
    patch: int | None = Field(default=None, ge=2, le=8192)
    base: int = Field(default=0, ge=0)
    each: int | None = Field(default=None, ge=1)
    cap: int | None = Field(default=None, ge=1)

    @model_validator(mode="after")
    def _one_rule(self) -> Count:
        if sum(getattr(self, name) is not None for name in _COUNTS) != 1:
            raise ValueError(f"give one of {', '.join(_COUNTS)}")
        if self.tile is not None and self.each is None:
            raise ValueError("a tile counts 'each' tokens, which is not given")
        return self


class PictureTokens(Frozen):
    """First every step of `resize` in order, then `count`."""

    resize: tuple[Resize, ...] = ()
    count: Count
