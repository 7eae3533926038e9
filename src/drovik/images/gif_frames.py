"""How large the frames of a GIF are, read off its blocks (GIF89a specification); none has to be decoded for it.

A frame may be far larger than the screen that the file begins with, and decoders make room for it as they come to it.
"""

from __future__ import annotations

_IMAGE, _EXTENSION, _TRAILER = 0x2C, 0x21, 0x3B


def largest_frame(data: bytes) -> tuple[int, int]:
    """The largest width and height that the screen or a frame reaches; of a broken file, of what there is."""
    width, height = _pair(data, 6)
    at = 13 + _colour_table(data, 10)
    while at < len(data) and data[at] != _TRAILER:
        if data[at] == _IMAGE:
            left, top = _pair(data, at + 1)
            across, down = _pair(data, at + 5)
            width, height = max(width, left + across), max(height, top + down)
            at += 11 + _colour_table(data, at + 9)  # one byte more: the size of the codes
        elif data[at] == _EXTENSION:
            at += 2
        else:
            break
        at = _after_blocks(data, at)
    return width, height


def _pair(data: bytes, at: int) -> tuple[int, int]:
    return int.from_bytes(data[at : at + 2], "little"), int.from_bytes(data[at + 2 : at + 4], "little")


def _colour_table(data: bytes, at: int) -> int:
    """How many bytes of colours follow, by the flags at a place."""
    flags = data[at] if at < len(data) else 0
    return 3 * 2 ** ((flags & 7) + 1) if flags & 0x80 else 0


def _after_blocks(data: bytes, at: int) -> int:
    """Just behind a row of blocks, each of which begins with its length; the last one is empty."""
    while at < len(data) and data[at]:
        at += 1 + data[at]
    return at + 1
