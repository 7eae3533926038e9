"""A picture's source bytes → the bytes a model gets, by the rules of a prep.

Where nothing has to be turned or resized, a JPEG or PNG keeps its pixels as they are stored.
"""

from __future__ import annotations

import contextlib
import io
import threading
import warnings
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

from drovik.images.metadata import BrokenPicture, cut_metadata, may_be_turned
from drovik.problems import DrovikError, Problem
from drovik.project.settings import Prep

if TYPE_CHECKING:
    from PIL import Image

PREPARING_REVISION = 1
"""Raised when the same prep makes other pixels than before; part of what is asked (see identity)."""

QUALITY_WHERE_NONE_IS_SET = 90
_ORIENTATION = 0x0112
_MEDIA_TYPES = {"JPEG": "image/jpeg", "MPO": "image/jpeg", "PNG": "image/png"}
_READ_FORMATS = ("JPEG", "PNG", "WEBP", "GIF", "BMP", "TIFF")


@dataclass(frozen=True)
class Prepared:
    """The bytes to send, their media type, their size in pixels, and whether the stored pixels were kept."""

    data: bytes
    media_type: str
    width: int
    height: int
    as_stored: bool


@dataclass(frozen=True)
class PictureFacts:
    """What a file's content says it is; width and height are those of the pixels as stored."""

    format: str
    width: int
    height: int


def look_at(data: bytes, path: str, max_pixels: int) -> PictureFacts:
    """What a picture is, by its content alone and without decoding it.

    :raises DrovikError: where it is no picture, is broken, or has more than `max_pixels` pixels.
    """
    with _opened(data, path, max_pixels) as picture:
        return PictureFacts(str(picture.format), picture.width, picture.height)


def prepare(data: bytes, prep: Prep, path: str, max_pixels: int) -> Prepared:
    """The bytes that a model gets of a picture.

    :param path: the picture's name for messages.
    :raises DrovikError: where it is no picture, is broken, or has more than `max_pixels` pixels.
    """
    from PIL import Image

    try:
        with _opened(data, path, max_pixels) as picture:
            media_type = _MEDIA_TYPES.get(str(picture.format))
            upright = not may_be_turned(data, media_type) or picture.getexif().get(_ORIENTATION, 1) in (0, 1)
            fits = prep.fit is None or max(picture.size) <= prep.fit
            requality = prep.quality is not None and media_type == "image/jpeg"
            if media_type and upright and fits and not requality and not (prep.quality and media_type == "image/png"):
                # What is not built by the book, and can be decoded all the same, is written anew.
                with contextlib.suppress(BrokenPicture):
                    cut = cut_metadata(data, media_type)
                    return Prepared(cut, media_type, picture.width, picture.height, as_stored=True)
            return _redrawn(picture, prep)
    except DrovikError:
        raise
    except (OSError, ValueError, SyntaxError, EOFError, MemoryError, Image.DecompressionBombError) as error:
        raise DrovikError(_broken(path, error)) from None


_getting_ready = threading.Lock()


@cache
def _load_plugins() -> None:
    from PIL import Image

    Image.init()
    warnings.filterwarnings("ignore", module="PIL")  # broken metadata is not the user's concern: it is cut out
    Image.MAX_IMAGE_PIXELS = None  # the project's own limit, checked on the header, takes its place


def _make_ready() -> None:
    """Load Pillow's plugins once: two threads that do so at the same time can miss one."""
    with _getting_ready:
        _load_plugins()


def _opened(data: bytes, path: str, max_pixels: int) -> Image.Image:
    from PIL import Image, UnidentifiedImageError

    _make_ready()
    try:
        picture = Image.open(io.BytesIO(data), formats=_READ_FORMATS)
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, EOFError, TypeError, IndexError):
        what = "is no picture, whatever its name says" if data else "is an empty file"
        remedy = "give a JPEG, PNG, WebP, GIF, BMP or TIFF file"
        raise DrovikError(Problem(what, remedy, path)) from None
    if picture.width * picture.height > max_pixels:
        size = f"{picture.width} x {picture.height} pixels"
        remedy = "shrink it, or raise max_pixels in drovik.toml"
        raise DrovikError(Problem(f"{size} are more than max_pixels = {max_pixels}", remedy, path))
    return picture


def _broken(path: str, error: BaseException) -> Problem:
    reason = "it breaks off" if "truncated" in str(error) else "it cannot be decoded"
    return Problem(f"is a broken picture: {reason}", "open it elsewhere and save it anew", path)


def _redrawn(picture: Image.Image, prep: Prep) -> Prepared:
    """The picture turned upright, shrunk to fit, its colours as sRGB, and written without metadata."""
    from PIL import Image, ImageOps

    source_format = str(picture.format)
    profile = picture.info.get("icc_profile")
    if prep.fit is not None and source_format == "JPEG":
        picture.draft(None, (prep.fit, prep.fit))  # decodes at a half, quarter or eighth, never below what is asked
    drawn = ImageOps.exif_transpose(picture)
    drawn = _in_srgb(_in_eight_bits(drawn), profile)
    see_through = drawn.mode in ("RGBA", "LA", "PA") or "transparency" in drawn.info
    drawn = drawn.convert("RGBA" if see_through else "L" if drawn.mode in ("L", "1") else "RGB")
    if prep.fit is not None and max(drawn.size) > prep.fit:
        share = prep.fit / max(drawn.size)
        size = (max(1, round(drawn.width * share)), max(1, round(drawn.height * share)))
        drawn = drawn.resize(size, Image.Resampling.LANCZOS)
    lossy = prep.quality is not None or source_format in ("JPEG", "MPO", "WEBP")
    if lossy and see_through and prep.quality is not None:
        drawn = Image.alpha_composite(Image.new("RGBA", drawn.size, "white"), drawn).convert("RGB")
        see_through = False
    out = io.BytesIO()
    if lossy and not see_through:
        drawn.save(
            out,
            "JPEG",
            quality=prep.quality or QUALITY_WHERE_NONE_IS_SET,
            exif=b"",
            icc_profile=None,
            comment=b"",
        )
        return Prepared(out.getvalue(), "image/jpeg", drawn.width, drawn.height, as_stored=False)
    clean = Image.frombytes(drawn.mode, drawn.size, drawn.tobytes())  # leaves info, and so all metadata, behind
    clean.save(out, "PNG")
    return Prepared(out.getvalue(), "image/png", drawn.width, drawn.height, as_stored=False)


def _in_eight_bits(picture: Image.Image) -> Image.Image:
    """A gray picture of 16 bits as one of 8; Pillow itself would cut its values off instead of scaling them."""
    if not picture.mode.startswith("I"):
        return picture
    whole = picture.convert("I")
    return whole.point(lambda value: value * (1 / 257) + 0.5).convert("L")


def _in_srgb(picture: Image.Image, profile: bytes | None) -> Image.Image:
    """The picture's colours as sRGB where it came with a profile of its own; as they are where that fails."""
    if not profile or picture.mode not in ("RGB", "CMYK", "L"):
        return picture
    from PIL import ImageCms

    try:
        own = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        turned = ImageCms.profileToProfile(picture, own, ImageCms.createProfile("sRGB"), outputMode="RGB")
    except (ImageCms.PyCMSError, OSError, ValueError, TypeError):
        return picture
    return turned if turned is not None else picture


def thumbnail(data: bytes, path: str, max_pixels: int, side: int) -> Prepared:
    """A small JPEG of a picture, `side` pixels at most, for a page.

    :raises DrovikError: as `prepare` does.
    """
    return prepare(data, Prep(fit=side, quality=72), path, max_pixels)
