"""What looks wrong with a picture before anything is asked about it: tiny, huge, blank, blurred, sideways, twice.

All of it is read off a small gray copy, so that a folder is looked through quickly. These are signs, not faults.

A print of a picture, which stays nearly the same when it is saved again, shrunk, or made a little lighter.
"""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Any, NamedTuple

from drovik.heavy import Image, np
from drovik.images.decode.facts import PictureFacts
from drovik.images.decode.formats import open_source
from drovik.images.drawing import draw
from drovik.images.layout import layout_of
from drovik.images.prepare import thumbnail
from drovik.project.preps import Frames, Prep

SIDE = 16
"""A fingerprint is 16 x 16 bits: enough to tell pictures of one scene from each other."""
_COLOURS = 24
"""The colours are compared on 24 x 24 squares: what a crop or a re-encoding changes is smaller."""
NEARLY_THE_SAME = 12
"""Prints of pictures that look the same differ in no more bits than this,"""
SAME_COLOURS = 4.0
"""and in the mean by no more than this of 255 in their colours."""


class PerceptualHash(NamedTuple):
    """256 bits of where a picture gets brighter, and 24 x 24 of its colours."""

    bits: int
    colours: bytes

    def is_nearly(self, other: PerceptualHash) -> bool:
        """Whether the pictures look the same."""
        if (self.bits ^ other.bits).bit_count() > NEARLY_THE_SAME:
            return False
        apart = sum(abs(a - b) for a, b in zip(self.colours, other.colours, strict=True))
        return apart <= SAME_COLOURS * len(self.colours)


def print_of(data: bytes, path: str, max_pixels: int) -> PerceptualHash:
    """The print of a picture: a bit says whether it gets brighter from one of 16 x 16 places to the right.

    Where neighbours are alike a bit says nothing, and is 0: noise on a plain ground makes no difference.

    :raises DrovikError: as `prepare` does.
    """

    small = thumbnail(data, path, max_pixels, 160)
    with Image.open(io.BytesIO(small.data)) as picture:
        colours = picture.convert("RGB").resize((_COLOURS, _COLOURS), Image.Resampling.BOX).tobytes()
        gray = picture.convert("L").resize((SIDE + 1, SIDE), Image.Resampling.BOX)
    cells = np.asarray(gray, dtype=np.int16)
    bits = (cells[:, 1:] - cells[:, :-1] > 2).ravel()
    return PerceptualHash(int("".join("1" if bit else "0" for bit in bits), 2), colours)


TINY_SIDE = 64
"""Pixels; what is on a smaller picture nobody can read."""
HUGE_PIXELS, HUGE_BYTES = 40_000_000, 15_000_000
"""Beyond these a picture takes seconds to prepare, and most services refuse it."""
BLANK_SPREAD = 3.0
"""The standard deviation of gray values (0 to 255) below which hardly anything is to be seen."""
BLURRED = 0.62
"""The blur effect above which a picture looks blurred; sharp photographs lie at 0.2 to 0.45."""
_LOOK_SIDE = 512
"""Blur is measured at this size, so that large pictures compare with small ones."""
_KERNEL = 9
"""Pixels of the mean that a picture is blurred by, as in the paper (see `blur_effect`)."""


@dataclass(frozen=True)
class Inspection:
    """A source and what its first picture looks like: `spread` of gray, `blur` from 0 to 1, a mark of its content."""

    facts: PictureFacts
    bytes: int
    spread: float
    blur: float
    mark: str

    def looks_wrong(self) -> list[str]:
        """What is striking, in a word or two each."""
        width, height = self.facts.width, self.facts.height
        found = []
        if min(width, height) < TINY_SIDE:
            found.append("tiny")
        if width * height > HUGE_PIXELS or self.bytes > HUGE_BYTES:
            found.append("huge")
        if self.spread < BLANK_SPREAD:
            found.append("nearly blank")
        elif self.blur > BLURRED and min(width, height) >= TINY_SIDE:
            found.append("blurred")
        if self.facts.orientation != 1:
            found.append("lies sideways" if self.facts.orientation >= 5 else "lies turned")
        return found


def inspect(data: bytes, path: str, max_pixels: int) -> Inspection:
    """Look at the first picture of a source.

    :raises DrovikError: where it cannot be read.
    """

    first = Prep(fit=_LOOK_SIDE, gray=True, pages=(1,), frames=Frames(at=(0.0,)), orientation="stored")
    with open_source(data, path, max_pixels, Prep(pages="all")) as source:
        facts = source.facts
    with open_source(data, path, max_pixels, first) as source:
        _, picture = next(source.pictures())
        drawn = next(draw(picture, layout_of(picture.size, 1, first), first))
    gray = np.asarray(drawn.convert("L"), dtype=np.float32)
    return Inspection(facts, len(data), float(gray.std()), blur_effect(gray), _mark(drawn, facts))


def blur_effect(gray: np.ndarray[Any, Any]) -> float:
    """How blurred a picture is, from 0 (sharp) to 1.

    The no-reference measure of Crete, Dolmiere, Ladret and Nicolas, "The blur effect: perception and estimation
    with a new no-reference perceptual blur metric" (2007): how little a picture's edges lose when it is
    blurred again by a mean over nine pixels.
    """

    if min(gray.shape) < _KERNEL + 2:
        return 0.0
    blurs = []
    for picture in (gray, gray.T):
        blurred = _mean_along(picture)
        here, after = np.abs(np.diff(picture, axis=0)), np.abs(np.diff(blurred, axis=0))
        edges = float(here[1:-1, 1:-1].sum())
        lost = float(np.maximum(0, here - after)[1:-1, 1:-1].sum())
        blurs.append((edges - lost) / edges if edges > 0 else 1.0)
    return max(blurs)


def _mean_along(picture: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    """Each pixel as the mean of the nine around it down its column; the rows at the ends are repeated."""

    half = _KERNEL // 2
    padded = np.pad(picture, ((half + 1, half), (0, 0)), mode="edge").astype(np.float64)
    sums = padded.cumsum(axis=0)
    means: np.ndarray[Any, Any] = (sums[_KERNEL:] - sums[:-_KERNEL]) / _KERNEL
    return means


def _mark(drawn: Any, facts: PictureFacts) -> str:
    """The same for pictures that show the same: whether each of 16 x 16 gray values is below its right neighbour."""

    small = np.asarray(drawn.convert("L").resize((17, 16)), dtype=np.int16)
    bits = np.packbits(np.diff(small, axis=1) > 0).tobytes().hex()
    return f"{facts.width / facts.height:.2f} {facts.count} {bits}"
