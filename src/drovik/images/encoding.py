"""A drawn picture → bytes: in which format, at which quality, and below how many bytes."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Literal

from drovik.project.preps import Prep

if TYPE_CHECKING:
    from PIL import Image

Format = Literal["JPEG", "PNG", "WEBP"]
QUALITY_WHERE_NONE_IS_SET = 90
BEST_QUALITY = 95
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
    from PIL import Image

    return Image.alpha_composite(Image.new("RGBA", picture.size, "white"), picture).convert("RGB")


def _saved(picture: Image.Image, format_: Format, quality: int) -> bytes:
    from PIL import Image

    out = io.BytesIO()
    if format_ == "JPEG":
        picture.save(out, "JPEG", quality=quality, exif=b"", icc_profile=None, comment=b"")
    elif format_ == "WEBP":
        picture.save(out, "WEBP", quality=quality, exif=b"", icc_profile=None, xmp=b"")
    else:
        clean = Image.frombytes(picture.mode, picture.size, picture.tobytes())  # leaves info, so metadata, behind
        clean.save(out, "PNG")
    return out.getvalue()
