"""Pictures that Pillow reads, still or moving, with several pages or one; HEIC by an extra package.

How large the frames of a GIF are is read off its blocks (GIF89a specification): a frame may be far larger than
the screen that the file begins with, and decoders make room for it as they come to it.
"""

from __future__ import annotations

import contextlib
import io
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Any

from drovik.errors import PictureError, Problem
from drovik.heavy import Image
from drovik.images.decode.facts import (
    MOST_PIXELS_OF_SMALL,
    PictureFacts,
    SourceFormat,
    extra_package,
    init_pillow,
    require_pixel_limit,
)
from drovik.images.decode.shots import MOST_FRAMES, Shot, changing, chosen_frames, chosen_pages, gray_sample
from drovik.images.metadata import may_be_turned
from drovik.project.preps import MOST_PAGES, Prep

_HEIC = (b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"msf1")
_SIGNATURES = (
    b"\xff\xd8\xff",
    b"\x89PNG\r\n\x1a\n",
    b"GIF87a",
    b"GIF89a",
    b"BM",
    b"II*\0",
    b"MM\0*",
    b"II+\0",
    b"MM\0+",
)
"""How JPEG, PNG, GIF, BMP and TIFF begin."""
_FORMATS = ("JPEG", "PNG", "WEBP", "GIF", "BMP", "TIFF")
_ORIENTATION = 0x0112
"""Exif's tag."""
_DEFAULT_LENGTH = 0.1
"""Seconds for which a frame is shown where the clip does not say."""

_IMAGE, _EXTENSION, _TRAILER = 0x2C, 0x21, 0x3B
"""What a block of a GIF begins with."""


def largest_frame(data: bytes) -> tuple[int, int]:
    """The largest width and height that the screen or a frame reaches; of a broken file, of what there is."""
    width, height = _pair(data, 6)
    for left, top, across, down in _gif_frames(data):
        width, height = max(width, left + across), max(height, top + down)
    return width, height


def _gif_frames(data: bytes) -> Iterator[tuple[int, int, int, int]]:
    """Where each frame of a GIF is on the screen, and how large: left, top, width, height. Nothing is decoded."""
    at = 13 + _colour_table(data, 10)
    while at < len(data) and data[at] != _TRAILER:
        if data[at] == _IMAGE:
            yield (*_pair(data, at + 1), *_pair(data, at + 5))
            at += 11 + _colour_table(data, at + 9)  # one byte more: the size of the codes
        elif data[at] == _EXTENSION:
            at += 2
        else:
            break
        at = _after_blocks(data, at)


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


@dataclass
class OpenPicture:
    """A picture that is open; none of its frames has more than `max_pixels`."""

    facts: PictureFacts
    handle: Any
    path: str
    max_pixels: int

    def pictures(self) -> Iterator[tuple[Shot, Image.Image]]:
        """Each shot's picture, as stored and not yet decoded."""
        for shot in self.facts.shots:
            if self.facts.count > 1:
                self.handle.seek(shot.number - 1)
                # A frame may be larger than the first one said, and is decoded only after this.
                require_pixel_limit(self.handle.size, self.path, self.max_pixels)
            yield shot, self.handle


def _picture(data: bytes, path: str, formats: tuple[str, ...]) -> Image.Image:

    init_pillow()
    try:
        return Image.open(io.BytesIO(data), formats=formats)
    except Exception:
        what = "is not a picture, whatever its name says" if data else "is an empty file"
        remedy = "give a JPEG, PNG, WebP, GIF, BMP, TIFF or HEIC picture, a PDF or a video"
        raise PictureError(Problem(what, remedy, path)) from None


def _facts(picture: Image.Image, data: bytes, path: str, max_pixels: int, prep: Prep) -> PictureFacts:
    format_ = "JPEG" if picture.format == "MPO" else str(picture.format)
    if format_ == "WEBP" and max_pixels == MOST_PIXELS_OF_SMALL:
        max_pixels //= 2  # its decoder holds two pictures more
    require_pixel_limit(picture.size, path, max_pixels)
    orientation = 1
    if may_be_turned(data, "image/png" if format_ == "PNG" else None) and format_ != "HEIF":
        orientation = _orientation(picture)
    count = _count(picture, data, format_, prep)
    shots, sizes = [Shot(1)], [picture.size]
    if format_ == "TIFF" and count > 1:
        shots, sizes = chosen_pages(count, prep, path), []
        for shot in shots:
            picture.seek(shot.number - 1)
            require_pixel_limit(picture.size, path, max_pixels)
            sizes.append(picture.size)
        picture.seek(0)
    elif count > 1 and prep.frames is not None:
        if count > MOST_FRAMES:
            raise PictureError(Problem(f"has {count} frames, more than {MOST_FRAMES}", "split it", path))
        if format_ == "GIF":
            require_pixel_limit(largest_frame(data), path, max_pixels)
        shots = _moving_shots(picture, count, prep, path, max_pixels)
        sizes = [picture.size] * len(shots)
    return PictureFacts(format_, tuple(sizes), orientation if 1 <= orientation <= 8 else 1, tuple(shots), count)


def _orientation(picture: Image.Image) -> int:
    """Exif's orientation; upright where the block is broken, for that makes no good picture bad."""
    try:
        return int(picture.getexif().get(_ORIENTATION, 1) or 1)
    except Exception:
        return 1


def _count(picture: Image.Image, data: bytes, format_: str, prep: Prep) -> int:
    """How many pages or frames there are, as far as that has to be known: a file may hold a million empty ones."""
    if format_ not in ("TIFF", "GIF", "WEBP"):
        return 1
    if format_ == "GIF" and prep.frames is None:
        return max(1, sum(1 for _ in islice(_gif_frames(data), MOST_FRAMES)))
    if format_ in ("WEBP", "GIF"):
        return int(getattr(picture, "n_frames", 1))
    most = max(prep.pages) if isinstance(prep.pages, tuple) else MOST_PAGES if prep.pages is None else MOST_FRAMES
    count = 1
    try:
        while count <= most:
            picture.seek(count)
            count += 1
    except EOFError:
        pass
    picture.seek(0)
    return count


def _moving_shots(picture: Image.Image, count: int, prep: Prep, path: str, max_pixels: int) -> list[Shot]:
    """The frames that a prep takes of a moving GIF or WebP."""
    assert prep.frames is not None
    times, now = [], 0.0
    samples = []
    for number in range(count):
        picture.seek(number)
        require_pixel_limit(picture.size, path, max_pixels)
        if prep.frames.on_change is not None:
            samples.append(gray_sample(picture))
        else:
            picture.load()  # WebP tells how long a frame is shown only once it is decoded
        times.append(now)
        now += float(picture.info.get("duration", 0) or 1000 * _DEFAULT_LENGTH) / 1000
    picture.seek(0)
    if prep.frames.on_change is not None:
        return changing(samples, times, prep.frames)
    return chosen_frames(times, now, prep.frames)


@contextlib.contextmanager
def _opened(
    data: bytes, path: str, max_pixels: int, prep: Prep, formats: tuple[str, ...] = _FORMATS
) -> Iterator[OpenPicture]:
    with _picture(data, path, formats) as picture:
        yield OpenPicture(_facts(picture, data, path, max_pixels, prep), picture, path, max_pixels)


@contextlib.contextmanager
def _opened_heic(data: bytes, path: str, max_pixels: int, prep: Prep) -> Iterator[OpenPicture]:
    extra_package("pillow_heif", "heic", "a HEIC picture", path).register_heif_opener()
    with _opened(data, path, max_pixels, prep, ("HEIF",)) as picture:
        yield picture


def _is_picture(data: bytes) -> bool:
    return data.startswith(_SIGNATURES) or (data[:4] == b"RIFF" and data[8:12] == b"WEBP")


def _is_heic(data: bytes) -> bool:
    if data[4:8] != b"ftyp":
        return False
    listed = range(16, min(64, int.from_bytes(data[:4], "big")), 4)
    return bool({data[8:12], *(data[at : at + 4] for at in listed)} & set(_HEIC))


PICTURE = SourceFormat("picture", _is_picture, _opened)
HEIC = SourceFormat("heic", _is_heic, _opened_heic)
