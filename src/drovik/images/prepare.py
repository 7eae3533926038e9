"""A picture's source bytes → the bytes a model gets, by the rules of a prep.

Where nothing has to be turned, cut or resized, a JPEG or PNG keeps its pixels as they are stored.

A drawn picture → bytes: in which format, at which quality, and below how many bytes.
"""

from __future__ import annotations

import contextlib
import io
from dataclasses import dataclass
from typing import Literal

from drovik.errors import DrovikError, PictureError, Problem
from drovik.heavy import Image
from drovik.images.decode.facts import PictureFacts
from drovik.images.decode.formats import open_source
from drovik.images.decode.shots import Shot
from drovik.images.drawing import draw
from drovik.images.layout import Layout, layout_of
from drovik.images.metadata import BrokenPicture, cut_metadata
from drovik.project.preps import Frames, Prep
from drovik.text import counted

Format = Literal["JPEG", "PNG", "WEBP"]
QUALITY_WHERE_NONE_IS_SET = 90
"""Of JPEG and WebP: below it, small print begins to suffer."""
BEST_QUALITY = 95
"""The best that is tried under `max_bytes`; above it files only grow."""
_LOSSY = ("JPEG", "MPO", "WEBP", "HEIF")


def encoded(picture: Image.Image, source_format: str, prep: Prep) -> tuple[bytes, str]:
    """The picture's bytes and their media type.

    Where `max_bytes` is given it is the best quality that stays below; the smallest there is where none does.

    :param picture: in L, RGB or RGBA.
    :param source_format: what it was stored as, by Pillow's names; frames and pages have none.
    """
    format_ = _format_of(picture, source_format, prep)
    if format_ == "JPEG" and picture.mode == "RGBA":
        picture = _on_white(picture)
    media_type = f"image/{format_.lower()}"
    best = prep.quality or (BEST_QUALITY if prep.max_bytes else QUALITY_WHERE_NONE_IS_SET)
    data = _saved(picture, format_, best)
    if prep.max_bytes is None or len(data) <= prep.max_bytes or format_ == "PNG":
        return data, media_type
    low, high = 1, best
    data = _saved(picture, format_, low)
    while len(data) <= prep.max_bytes and high - low > 1:  # at `low` it fits, at `high` it does not
        middle = (low + high) // 2
        tried = _saved(picture, format_, middle)
        if len(tried) <= prep.max_bytes:
            low, data = middle, tried
        else:
            high = middle
    return data, media_type


def _format_of(picture: Image.Image, source_format: str, prep: Prep) -> Format:
    if prep.format in ("jpeg", "png", "webp"):
        return prep.format.upper()  # type: ignore[return-value]
    if prep.format == "keep" and source_format in ("JPEG", "PNG", "WEBP"):
        return source_format  # type: ignore[return-value]
    if prep.quality is not None or prep.max_bytes is not None:
        return "JPEG"
    lossy = source_format in _LOSSY or source_format in ("None", "")
    return "JPEG" if lossy and picture.mode != "RGBA" else "PNG"


def _on_white(picture: Image.Image) -> Image.Image:

    return Image.alpha_composite(Image.new("RGBA", picture.size, "white"), picture).convert("RGB")


def _saved(picture: Image.Image, format_: Format, quality: int) -> bytes:

    out = io.BytesIO()
    if format_ == "JPEG":
        picture.save(out, "JPEG", quality=quality, exif=b"", icc_profile=None, comment=b"")
    elif format_ == "WEBP":
        picture.save(out, "WEBP", quality=quality, exif=b"", icc_profile=None, xmp=b"")
    else:
        clean = Image.frombytes(picture.mode, picture.size, picture.tobytes())  # leaves info, so metadata, behind
        clean.save(out, "PNG")
    return out.getvalue()


PREPARING_REVISION = 2
"""Raised when the same prep makes other pixels than before; part of what is asked (see identity).

2: documents send all their pages; a JPEG that is shrunk is decoded at the smallest scale that suffices.
"""

_KEPT_TYPES = {"JPEG": "image/jpeg", "PNG": "image/png"}

_ONLY = Shot(1)


@dataclass(frozen=True)
class Prepared:
    """The bytes to send, their media type, their size in pixels, and whether the stored pixels were kept.

    `layout` and `part` say where it comes from in the source's shot, and so hold the map back.
    """

    data: bytes
    media_type: str
    width: int
    height: int
    as_stored: bool
    layout: Layout
    shot: Shot = _ONLY
    part: int = 0


def prepare(data: bytes, prep: Prep, path: str, max_pixels: int) -> tuple[Prepared, ...]:
    """The pictures that a model gets of a source: one, or several of a document, a clip or a split page.

    :param path: the picture's name for messages.
    :raises DrovikError: where it is nothing that can be read, is broken, has more than `max_pixels` pixels, or
        cannot be made as the prep wants it.
    """
    made: list[Prepared] = []
    with open_source(data, path, max_pixels, prep) as source:
        for shot, picture in source.pictures():
            layout = _layout(picture.size, source.facts.orientation, prep, path)
            kept = _as_stored(data, source.facts, layout, prep)
            if kept is not None:
                made.append(kept)
                continue
            for part, drawn in enumerate(draw(picture, layout, prep)):
                made.append(_written(drawn, picture, layout, shot, part, prep, path))
    return tuple(made)


def _layout(size: tuple[int, int], orientation: int, prep: Prep, path: str) -> Layout:
    try:
        return layout_of(size, orientation, prep)
    except DrovikError as error:
        raise PictureError([one._replace(file=path) for one in error.problems]) from None


def _as_stored(data: bytes, facts: PictureFacts, layout: Layout, prep: Prep) -> Prepared | None:
    """The source without its metadata, where nothing asks for other pixels and it is a JPEG or PNG."""
    media_type = _KEPT_TYPES.get(facts.format)
    if media_type is None or not layout.is_plain or prep.redraws():
        return None
    if prep.format not in (None, "keep", media_type.partition("/")[2]):
        return None
    # What is not built by the book, and can be decoded all the same, is written again.
    with contextlib.suppress(BrokenPicture):
        cut = cut_metadata(data, media_type)
        if prep.max_bytes is None or len(cut) <= prep.max_bytes:
            return Prepared(cut, media_type, *layout.stored, as_stored=True, layout=layout)
    return None


def _written(
    drawn: Image.Image, source: Image.Image, layout: Layout, shot: Shot, part: int, prep: Prep, path: str
) -> Prepared:
    data, media_type = encoded(drawn, str(source.format), prep)
    if prep.max_bytes is not None and len(data) > prep.max_bytes:
        what = f"comes to {counted(len(data), 'byte')} at the least, more than max_bytes = {prep.max_bytes}"
        raise PictureError(Problem(what, "make it smaller by fit, or take a jpeg or webp", path))
    return Prepared(
        data=data,
        media_type=media_type,
        width=drawn.width,
        height=drawn.height,
        as_stored=False,
        layout=layout,
        shot=shot,
        part=part,
    )


def thumbnail(data: bytes, path: str, max_pixels: int, side: int) -> Prepared:
    """A small JPEG of a picture, `side` pixels at most, for a page.

    :raises DrovikError: as `prepare` does.
    """
    return prepare(data, Prep(fit=side, quality=72, pages=(1,), frames=Frames(at=(0.0,))), path, max_pixels)[0]
