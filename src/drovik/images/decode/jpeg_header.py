"""What a plain JPEG says of itself before its first scan, read off its bytes (ITU-T T.81, annex B; Exif 2.32, 4.6).

A hundred thousand files are looked at so in a tenth of the time that opening them takes. Whatever is not plain, or
looks broken, is for the decoder to say.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

_APP0, _APP1, _APP2, _APP14 = 0xE0, 0xE1, 0xE2, 0xEE
_COMMENT, _CODES, _RESTARTS, _TABLES, _SCAN = 0xFE, 0xC4, 0xDD, 0xDB, 0xDA
_FRAMES = (0xC0, 0xC1, 0xC2)
"""Baseline, extended and progressive, all of them by Huffman's codes."""
_KNOWN = frozenset((*range(_APP0, 0xED), _APP14, 0xEF, _COMMENT, _CODES, _RESTARTS, _TABLES, _SCAN, *_FRAMES))
"""Markers; what an editor leaves in the one that is not among them is for the decoder."""
_FREE = _KNOWN - {_APP0, _APP1, _APP2, _APP14, _TABLES, _SCAN, *_FRAMES}
"""Those of them that say nothing of what the picture is, whatever is in them."""
_LEAST_BYTES = 12
"""Of an application's segment that is read for what it says."""
_ORDERS: dict[bytes, Literal["big", "little"]] = {b"II*\0": "little", b"MM\0*": "big"}
_ORIENTATION, _SHORT = 0x0112, 3
"""Exif's tag, and the type that its value has."""
_BYTES_OF_TYPE = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8}
_TABLE_BYTES = 65
_MOST_TABLES = 4


class JpegHeader(NamedTuple):
    """Width and height in pixels, as stored; Exif's orientation, 1 where the file says nothing of it."""

    size: tuple[int, int]
    orientation: int


def jpeg_header(data: bytes) -> JpegHeader | None:
    """The header of a plain JPEG: 8 bits, gray or three colours, one picture, no XMP; None for anything else."""
    if data[:3] != b"\xff\xd8\xff":
        return None
    size: tuple[int, int] | None = None
    orientation, at, length = 0, 2, len(data)
    while at + 4 <= length:
        start, end = at + 4, at + 2 + (data[at + 2] << 8 | data[at + 3])
        if not start <= end <= length or data[at] != 0xFF or (kind := data[at + 1]) not in _KNOWN:
            return None
        at = end
        if kind in _FREE:
            continue
        if kind == _SCAN:
            return None if size is None else JpegHeader(size, orientation or 1)
        if kind in _FRAMES:
            if size is not None or (size := _frame_size(data, start, end)) is None:
                return None
        elif kind == _APP1:
            if orientation or not (orientation := _orientation(data[start:end])):
                return None
        elif not _is_plain(kind, data, start, end):
            return None
    return None


def _frame_size(data: bytes, start: int, end: int) -> tuple[int, int] | None:
    """Width and height by a frame's header; None where it is of another kind than ours."""
    if end - start not in (9, 15) or data[start] != 8 or end - start != 6 + 3 * data[start + 5]:
        return None
    height, width = data[start + 1] << 8 | data[start + 2], data[start + 3] << 8 | data[start + 4]
    return (width, height) if width and height else None


def _is_plain(kind: int, data: bytes, start: int, end: int) -> bool:
    """Whether a segment of tables, or of an application, says nothing that changes what the picture is."""
    if kind == _TABLES:
        tables, rest = divmod(end - start, _TABLE_BYTES)
        return not rest and 1 <= tables <= _MOST_TABLES and max(data[start:end:_TABLE_BYTES]) < 16
    return end - start >= _LEAST_BYTES and data[start : start + 3] != b"MPF"


def _orientation(segment: bytes) -> int:
    """The orientation by a segment of Exif, 1 where it does not tell; 0 for any other segment, or a broken one."""
    order = _ORDERS.get(segment[6:10])
    if segment[:6] != b"Exif\0\0" or order is None:
        return 0
    tiff = segment[6:]
    first = _number(tiff, 4, 4, order) + 2
    end = first + 12 * _number(tiff, first - 2, 2, order)
    if first < 10 or end > len(tiff):
        return 0
    entries = range(first, end, 12)
    for at in entries:  # a decoder that comes to a broken one reads none of the others
        size = _BYTES_OF_TYPE.get(_number(tiff, at + 2, 2, order), len(segment)) * _number(tiff, at + 4, 4, order)
        if size > len(tiff) or (size > 4 and _number(tiff, at + 8, 4, order) + size > len(tiff)):
            return 0
    told = [at for at in entries if _number(tiff, at, 2, order) == _ORIENTATION]
    if not told:
        return 1
    found = _number(tiff, told[0] + 8, 2, order)
    is_one = _number(tiff, told[0] + 2, 2, order) == _SHORT and _number(tiff, told[0] + 4, 4, order) == 1
    return found if len(told) == 1 and is_one and 1 <= found <= 8 else 0


def _number(data: bytes, at: int, size: int, order: Literal["big", "little"] = "big") -> int:
    return int.from_bytes(data[at : at + size], order)
