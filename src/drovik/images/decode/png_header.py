"""What a plain PNG says of itself, read off its chunks (PNG specification, third edition, 5.3 and 11).

As with a plain JPEG: whatever is not plain, or looks broken, is for the decoder to say.
"""

from __future__ import annotations

import zlib

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_HEADER, _DATA, _END, _PALETTE, _TEXT, _SEEN_THROUGH = b"IHDR", b"IDAT", b"IEND", b"PLTE", b"tEXt", b"tRNS"
_DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
"""Bits of a sample, by the kind of colour."""
_WITH_PALETTE = 3
_LENGTHS = {b"gAMA": 4, b"cHRM": 32, b"sRGB": 1, b"pHYs": 9, b"tIME": 7}
"""Chunks that say nothing of what the picture is, with the length that each has."""
_SEEN_THROUGH_LENGTHS = {0: range(2, 3), 2: range(6, 7), 3: range(1, 257)}
_MOST_TEXT, _MOST_SIDE = 2_000, 2**31


def png_size(data: bytes) -> tuple[int, int] | None:
    """Width and height of a plain PNG in pixels: one picture that does not say how it lies; None for anything else.

    :param data: the whole file.
    """
    if data[:8] != _SIGNATURE or data[12:16] != _HEADER:
        return None
    size: tuple[int, int] | None = None
    colour, has_palette, has_data = 0, False, False
    at, length = 8, len(data)
    while at + 12 <= length:
        kind, end = data[at + 4 : at + 8], at + 12 + int.from_bytes(data[at : at + 4], "big")
        if end > length:
            return None
        if kind == _DATA and size is not None:
            has_data = True
        elif has_data:  # what comes behind the pixels may say how they lie
            return size if kind == _END and (has_palette or colour != _WITH_PALETTE) else None
        elif zlib.crc32(data[at + 4 : end - 4]) != int.from_bytes(data[end - 4 : end], "big"):
            return None
        elif kind == _HEADER and size is None:
            size, colour = _size(data[at + 8 : end - 4]), data[at + 17]
            if size is None:
                return None
        elif kind == _PALETTE:
            has_palette = True
        elif not _is_plain(kind, data[at + 8 : end - 4], colour):
            return None
        at = end
    return None


def _size(header: bytes) -> tuple[int, int] | None:
    if len(header) != 13 or header[8] not in _DEPTHS.get(header[9], ()) or header[10:12] != b"\0\0" or header[12] > 1:
        return None
    width, height = int.from_bytes(header[:4], "big"), int.from_bytes(header[4:8], "big")
    return (width, height) if 0 < width < _MOST_SIDE and 0 < height < _MOST_SIDE else None


def _is_plain(kind: bytes, said: bytes, colour: int) -> bool:
    """Whether a chunk in front of the pixels says nothing of how they lie, and is not broken."""
    if kind == _TEXT:
        words = said.lower()
        return len(said) <= _MOST_TEXT and b"orientation" not in words and b"raw profile" not in words
    if kind == _SEEN_THROUGH:
        return len(said) in _SEEN_THROUGH_LENGTHS.get(colour, ())
    return len(said) == _LENGTHS.get(kind)
