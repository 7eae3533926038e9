"""Large JPEGs decoded at three or five eighths, where an extra package is installed: Pillow knows halves, quarters
and eighths alone, and decodes a good part of the pixels for nothing where one of those between would do.
"""

from __future__ import annotations

import importlib
import io
from functools import cache
from math import ceil
from typing import Any

from drovik.heavy import Image

_BETWEEN = (3, 5)
"""Eighths at which decoding between Pillow's scales is quicker than at the next of those (benchmarks/pictures.py)."""


@cache
def _decoder() -> Any:
    """The package, or None where it is not installed."""
    try:
        return importlib.import_module("simplejpeg")
    except ImportError:
        return None


def decoded_between(picture: Image.Image, least: tuple[int, int]) -> Image.Image | None:
    """A JPEG's pixels at three or five eighths of its size, where that is the smallest scale that suffices.

    :param picture: open and not yet decoded.
    :param least: the width and height that are needed at least.
    :return: None where another scale is better, or it is no plain RGB; then Pillow decodes it, or says what is wrong.
    """
    width, height = picture.size
    eighths = next(
        (n for n in range(1, 9) if ceil(width * n / 8) >= least[0] and ceil(height * n / 8) >= least[1]), 8
    )
    stream = getattr(picture, "fp", None)
    if eighths not in _BETWEEN or picture.mode != "RGB" or not isinstance(stream, io.BytesIO) or _decoder() is None:
        return None
    size = ceil(width * eighths / 8), ceil(height * eighths / 8)
    try:
        pixels = _decoder().decode_jpeg(
            stream.getbuffer(), "RGB", min_width=size[0], min_height=size[1], min_factor=1
        )
    except (ValueError, TypeError):
        return None
    return Image.fromarray(pixels) if pixels.shape[:2] == (size[1], size[0]) else None
