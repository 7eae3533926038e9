"""Cutting the metadata out of JPEG and PNG files while their pixels stay as they are stored.

What only describes (position, camera, dates, comments, previews, whatever was appended to the file)
goes; what is needed to show the same colours stays: in JPEG the JFIF and Adobe segments and the
colour profile, in PNG the critical chunks and those for transparency and colour.
"""

from __future__ import annotations

import re

_ADOBE, _JFIF, _PROFILE = 0xEE, 0xE0, 0xE2
"""Markers of JPEG segments (ITU-T T.81; T.871) that say how colours are meant."""
_PROFILE_MARK = b"ICC_PROFILE\x00"
_COMMENT = 0xFE
"""The marker of a comment."""
_START_OF_SCAN, _END = 0xDA, 0xD9
"""The markers of the coded picture and of the end."""
_BARE = frozenset((0x01, *range(0xD0, 0xD8)))
"""Markers that carry no length: TEM and the restart marks."""

_AFTER_SCAN = re.compile(rb"\xff[^\x00\x01\xd0-\xd7\xff]")
"""A marker within entropy-coded bytes, where 0xFF stands for itself if 0x00 follows, and fill bytes are 0xFF."""

_PNG_MARK = b"\x89PNG\r\n\x1a\n"
_KEPT_CHUNKS = frozenset(
    (b"IHDR", b"PLTE", b"IDAT", b"IEND", b"tRNS", b"gAMA", b"cHRM", b"sRGB", b"iCCP", b"cICP", b"sBIT")
)


class BrokenPicture(ValueError):
    """The file breaks off, or is not built as its format says."""


def may_be_turned(data: bytes, media_type: str | None) -> bool:
    """Whether a picture may say that it lies sideways; a cheap look, since asking Pillow decodes a whole PNG."""
    return media_type != "image/png" or b"eXIf" in data or b"Raw profile" in data or b"orientation" in data.lower()


def cut_metadata(data: bytes, media_type: str) -> bytes:
    """The same picture without its metadata; the same bytes where there was none.

    :param media_type: `image/jpeg` or `image/png`.
    :raises BrokenPicture: where the file's structure is broken.
    """
    pieces = _jpeg_pieces(data) if media_type == "image/jpeg" else _png_pieces(data)
    kept = sum(end - start for start, end in pieces)
    return data if kept == len(data) else b"".join(data[start:end] for start, end in pieces)


def _jpeg_pieces(data: bytes) -> list[tuple[int, int]]:
    """The stretches of a JPEG file to keep (ITU-T T.81, annex B)."""
    if data[:2] != b"\xff\xd8":
        raise BrokenPicture("it does not begin as a JPEG does")
    pieces = [(0, 2)]
    at = 2
    while True:
        at, marker = _next_marker(data, at)
        if marker == _END:
            pieces.append((at, at + 2))
            return _joined(pieces)
        if marker in _BARE:
            pieces.append((at, at + 2))
            at += 2
            continue
        length = int.from_bytes(data[at + 2 : at + 4], "big")
        end = at + 2 + length
        if length < 2 or end > len(data):
            raise BrokenPicture("a segment goes beyond the end of the file")
        if _is_kept(data, at, marker):
            pieces.append((at, end))
        at = end
        if marker == _START_OF_SCAN:
            at = _scan_end(data, end)
            pieces.append((end, at))


def _next_marker(data: bytes, at: int) -> tuple[int, int]:
    """Where the next marker stands and which it is; fill bytes before it are passed over."""
    if data[at : at + 1] != b"\xff":
        raise BrokenPicture("a marker is missing")
    while data[at + 1 : at + 2] == b"\xff":
        at += 1
    if at + 1 >= len(data):
        raise BrokenPicture("it breaks off")
    return at, data[at + 1]


def _is_kept(data: bytes, at: int, marker: int) -> bool:
    if marker == _COMMENT:
        return False
    if 0xE0 <= marker <= 0xEF:
        profile = marker == _PROFILE and data[at + 4 : at + 16] == _PROFILE_MARK
        jfif = marker == _JFIF and data[at + 4 : at + 9] == b"JFIF\x00"
        return profile or jfif or marker == _ADOBE
    return True


def _scan_end(data: bytes, at: int) -> int:
    """Where the entropy-coded bytes that begin at `at` end: at the next marker that is not a restart mark."""
    marker = _AFTER_SCAN.search(data, at)
    if marker is None:
        raise BrokenPicture("it breaks off within the picture")
    return marker.start()


def _png_pieces(data: bytes) -> list[tuple[int, int]]:
    """The stretches of a PNG file to keep (PNG, third edition, section 5)."""
    if data[:8] != _PNG_MARK:
        raise BrokenPicture("it does not begin as a PNG does")
    pieces, at = [(0, 8)], 8
    while at + 12 <= len(data):
        end = at + 12 + int.from_bytes(data[at : at + 4], "big")
        kind = data[at + 4 : at + 8]
        if end > len(data):
            break
        if kind in _KEPT_CHUNKS:
            pieces.append((at, end))
        if kind == b"IEND":
            return _joined(pieces)
        at = end
    raise BrokenPicture("it breaks off within the picture")


def _joined(pieces: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Neighbouring stretches made one, so that there are few to copy."""
    joined: list[tuple[int, int]] = []
    for start, end in pieces:
        if joined and joined[-1][1] == start:
            joined[-1] = (joined[-1][0], end)
        else:
            joined.append((start, end))
    return joined
