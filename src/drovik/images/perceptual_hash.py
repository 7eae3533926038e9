"""A print of a picture, which stays nearly the same when it is saved again, shrunk, or made a little lighter."""

from __future__ import annotations

import io
from typing import NamedTuple

from drovik.heavy import Image, np
from drovik.images.prepare import thumbnail

SIDE = 16
_COLOURS = 24
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
