"""`picture_tokens` of a model: the steps by which it counts what a picture comes to in tokens.

First every step of `resize` in order, then `count`. A new rule is one class here and one row in its table; the key
that names it in the table of the file is the field of the same name.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, GetCoreSchemaHandler
from pydantic_core import core_schema
from typing_extensions import override

from drovik.project.preps import Side
from drovik.project.toml_files import Frozen

Size = tuple[int, int]
"""Width and height in pixels."""


class ResizeRule(Frozen):
    """How a service resizes a picture before it counts. The shape stays but for rounding."""

    def resized(self, size: Size) -> Size:
        """The size after the step."""
        raise NotImplementedError


class CountRule(Frozen):
    """How the resized picture is counted."""

    def tokens(self, size: Size) -> int:
        """The tokens of a picture."""
        raise NotImplementedError


class _Bound(ResizeRule):
    """One side at most so long; smaller pictures are enlarged only with `enlarge`."""

    enlarge: bool = False

    def _scaled(self, size: Size, share: float) -> Size:
        if share >= 1 and not self.enlarge:
            return size
        return max(1, round(size[0] * share)), max(1, round(size[1] * share))


class Within(_Bound):
    """Both sides at most so long."""

    within: Side

    @override
    def resized(self, size: Size) -> Size:
        return self._scaled(size, self.within / max(size))


class Longer(_Bound):
    """The longer side at most so long."""

    longer: Side

    @override
    def resized(self, size: Size) -> Size:
        return self._scaled(size, self.longer / max(size))


class Shorter(_Bound):
    """The shorter side at most so long."""

    shorter: Side

    @override
    def resized(self, size: Size) -> Size:
        return self._scaled(size, self.shorter / min(size))


class Multiple(ResizeRule):
    """Both sides to a multiple of this many pixels, rounded `up`, `down` or to the `nearest`."""

    multiple: Annotated[int, Field(ge=2, le=4096)]
    round: Literal["up", "down", "nearest"] = "nearest"

    @override
    def resized(self, size: Size) -> Size:
        ways = {"up": math.ceil, "down": math.floor, "nearest": lambda value: math.floor(value + 0.5)}
        width, height = (max(1, ways[self.round](side / self.multiple)) * self.multiple for side in size)
        return width, height


class Flat(CountRule):
    """This many tokens whatever its size."""

    flat: Annotated[int, Field(ge=0)]

    @override
    def tokens(self, size: Size) -> int:
        return self.flat


class Area(CountRule):
    """A token for this many pixels, at least `least` and at most `most`."""

    area: Annotated[float, Field(gt=0)]
    least: Annotated[int, Field(ge=0)] = 0
    most: Annotated[int, Field(ge=1)] | None = None

    @override
    def tokens(self, size: Size) -> int:
        tokens = max(self.least, math.ceil(size[0] * size[1] / self.area))
        return tokens if self.most is None else min(self.most, tokens)


class _Squares(CountRule):
    """For each square of this many pixels, begun ones too, `each` tokens; `base` more; `cap` squares at most."""

    base: Annotated[int, Field(ge=0)] = 0
    cap: Annotated[int, Field(ge=1)] | None = None

    def _tokens(self, size: Size, side: int, each: int) -> int:
        squares = math.ceil(size[0] / side) * math.ceil(size[1] / side)
        return self.base + each * (squares if self.cap is None else min(squares, self.cap))


class Tile(_Squares):
    """Large squares, each of several tokens."""

    tile: Annotated[int, Field(ge=2, le=8192)]
    each: Annotated[int, Field(ge=1)]

    @override
    def tokens(self, size: Size) -> int:
        return self._tokens(size, self.tile, self.each)


class Patch(_Squares):
    """Small squares, each of one token unless `each` says otherwise."""

    patch: Annotated[int, Field(ge=2, le=8192)]
    each: Annotated[int, Field(ge=1)] = 1

    @override
    def tokens(self, size: Size) -> int:
        return self._tokens(size, self.patch, self.each)


RESIZES: Mapping[str, type[Frozen]] = {"within": Within, "shorter": Shorter, "longer": Longer, "multiple": Multiple}
COUNTS: Mapping[str, type[Frozen]] = {"flat": Flat, "area": Area, "tile": Tile, "patch": Patch}


class _OneOf:
    """The type of a field that holds the rule which the table's own keys name."""

    def __init__(self, rules: Mapping[str, type[Frozen]]) -> None:
        self._rules = rules

    def _pick(self, value: Any) -> str | None:
        if not isinstance(value, dict):
            return next((f"({name})" for name, rule in self._rules.items() if isinstance(value, rule)), None)
        named = [name for name in self._rules if name in value]
        return f"({named[0]})" if len(named) == 1 else None

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        """A union of the rules."""
        return core_schema.tagged_union_schema(
            {f"({name})": handler.generate_schema(rule) for name, rule in self._rules.items()},
            self._pick,
            custom_error_type="one_rule",
            custom_error_message=f"give one of {', '.join(self._rules)}",
        )


class PictureTokens(Frozen):
    """First every step of `resize` in order, then `count`."""

    resize: tuple[Annotated[ResizeRule, _OneOf(RESIZES)], ...] = ()
    count: Annotated[CountRule, _OneOf(COUNTS)]

    def of(self, size: Size) -> int:
        """The tokens of one picture as it is sent."""
        for step in self.resize:
            size = step.resized(size)
        return self.count.tokens(size)
