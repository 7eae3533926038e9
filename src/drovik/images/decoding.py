"""A source's bytes → what it is, which of its pictures a prep takes, and those pictures one by one.

Everything that decodes is in here and in `clips`, so that a broken file ends in one line, whichever
package found it broken.
"""

from __future__ import annotations

import contextlib
import io
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from drovik.errors import DrovikError, PictureError, Problem
from drovik.images.gif_frames import largest_frame
from drovik.images.kinds import Kind, extra_package, kind_of
from drovik.images.metadata import may_be_turned
from drovik.images.picture_facts import (
    MOST_PIXELS_OF_SMALL,
    PictureFacts,
    allowed_pixels,
    broken,
    make_ready,
    see_that_it_is_not_too_large,
)
from drovik.images.shots import Shot, chosen_frames, chosen_pages
from drovik.project.preps import MOST_PAGES, PAGE_RESOLUTION, Prep

if TYPE_CHECKING:
    from PIL import Image

_ORIENTATION = 0x0112
_FORMATS = ("JPEG", "PNG", "WEBP", "GIF", "BMP", "TIFF")
MOST_FRAMES = 10_000
"""Of a moving picture or a document, where all are wanted."""
_DEFAULT_LENGTH = 0.1
"""Seconds for which a frame is shown where the clip does not say."""


@dataclass
class Opened:
    """A source that is open: its facts, and its pictures by shot; none of them has more than `max_pixels`."""

    facts: PictureFacts
    kind: Kind
    handle: Any
    path: str
    max_pixels: int

    def pictures(self) -> Iterator[tuple[Shot, Image.Image]]:
        """Each shot's picture, as stored and not yet decoded where that can wait."""
        for shot, size in zip(self.facts.shots, self.facts.sizes, strict=True):
            if self.kind == "pdf":
                yield shot, _page(self.handle, shot.number, size)
            else:
                if self.facts.count > 1:
                    self.handle.seek(shot.number - 1)
                    # A frame may be larger than the first one said, and is decoded only after this.
                    see_that_it_is_not_too_large(self.handle.size, self.path, self.max_pixels)
                yield shot, self.handle


def look_at(data: bytes, path: str, max_pixels: int, prep: Prep | None = None) -> PictureFacts:
    """What a source is, by its content alone; pictures are not decoded for it, but by a rule that needs pixels.

    :raises DrovikError: where it is nothing that can be read, is broken, or has more than `max_pixels` pixels.
    """
    with opened(data, path, max_pixels, prep or Prep()) as source:
        facts: PictureFacts = source.facts
    return facts


@contextlib.contextmanager
def opened(data: bytes, path: str, max_pixels: int, prep: Prep) -> Iterator[Any]:
    """A source, open for its pictures; whatever breaks inside is told as a broken file.

    :raises DrovikError: as `look_at` does.
    """
    kind = kind_of(data)
    max_pixels = allowed_pixels(len(data), max_pixels)
    try:
        if kind == "video":
            from drovik.images.clips import opened_video

            with opened_video(data, path, max_pixels, prep) as clip:
                yield clip
        elif kind == "pdf":
            with contextlib.closing(_document(data, path)) as document:
                yield Opened(_pdf_facts(document, path, max_pixels, prep), kind, document, path, max_pixels)
        else:
            with _picture(data, path, kind) as picture:
                facts = _facts(picture, data, path, max_pixels, prep)
                yield Opened(facts, kind, picture, path, max_pixels)
    except DrovikError as error:
        raise PictureError(one if one.file else one._replace(file=path) for one in error.problems) from None
    except Exception:  # the decoders raise whatever a broken file makes them stumble over
        raise PictureError(broken(path)) from None


def _picture(data: bytes, path: str, kind: Kind) -> Image.Image:
    from PIL import Image

    make_ready()
    formats: tuple[str, ...] = _FORMATS
    if kind == "heic":
        extra_package(kind, path).register_heif_opener()
        formats = ("HEIF",)
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
    see_that_it_is_not_too_large(picture.size, path, max_pixels)
    orientation = 1
    if may_be_turned(data, "image/png" if format_ == "PNG" else None) and format_ != "HEIF":
        orientation = _orientation(picture)
    count = _count(picture, format_, prep)
    shots, sizes = [Shot(1)], [picture.size]
    if format_ == "TIFF" and count > 1:
        shots, sizes = chosen_pages(count, prep, path), []
        for shot in shots:
            picture.seek(shot.number - 1)
            see_that_it_is_not_too_large(picture.size, path, max_pixels)
            sizes.append(picture.size)
        picture.seek(0)
    elif count > 1 and prep.frames is not None:
        if count > MOST_FRAMES:
            raise PictureError(Problem(f"has {count} frames, more than {MOST_FRAMES}", "split it", path))
        if format_ == "GIF":
            see_that_it_is_not_too_large(largest_frame(data), path, max_pixels)
        shots = _moving_shots(picture, count, prep, path, max_pixels)
        sizes = [picture.size] * len(shots)
    else:
        count = 1
    return PictureFacts(format_, tuple(sizes), orientation if 1 <= orientation <= 8 else 1, tuple(shots), count)


def _orientation(picture: Image.Image) -> int:
    """Exif's orientation; upright where the block is broken, for that makes no good picture bad."""
    try:
        return int(picture.getexif().get(_ORIENTATION, 1) or 1)
    except Exception:
        return 1


def _count(picture: Image.Image, format_: str, prep: Prep) -> int:
    """How many pages or frames there are, as far as that has to be known: a file may hold a million empty ones."""
    if format_ not in ("TIFF", "GIF", "WEBP") or (format_ != "TIFF" and prep.frames is None):
        return 1
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
    from drovik.images.shots import changing, sample_of

    assert prep.frames is not None
    times, now = [], 0.0
    samples = []
    for number in range(count):
        picture.seek(number)
        see_that_it_is_not_too_large(picture.size, path, max_pixels)
        if prep.frames.on_change is not None:
            samples.append(sample_of(picture))
        else:
            picture.load()  # WebP tells how long a frame is shown only once it is decoded
        times.append(now)
        now += float(picture.info.get("duration", 0) or 1000 * _DEFAULT_LENGTH) / 1000
    picture.seek(0)
    if prep.frames.on_change is not None:
        return changing(samples, times, prep.frames)
    return chosen_frames(times, now, prep.frames)


_PDF_PICTURE = 3
"""FPDF_PAGEOBJ_IMAGE, in PDFium's public header."""
_PDF_NEEDS_PASSWORD = 4
"""FPDF_ERR_PASSWORD, there."""
_pdf_lock = threading.Lock()
"""PDFium is not made for threads."""


def _document(data: bytes, path: str) -> Any:
    pdfium = extra_package("pdf", path)
    with _pdf_lock:
        try:
            document = pdfium.PdfDocument(data)
            if len(document) == 0:
                raise PictureError(Problem("is a PDF without a page", "open it elsewhere and save it again", path))
        except pdfium.PdfiumError as error:
            if error.err_code == _PDF_NEEDS_PASSWORD:
                what, remedy = "is a PDF with a password", "save it without one"
            else:
                what, remedy = "is a broken PDF", "open it elsewhere and save it again"
            raise PictureError(Problem(what, remedy, path)) from None
    return document


def _pdf_facts(document: Any, path: str, max_pixels: int, prep: Prep) -> PictureFacts:
    if len(document) > MOST_FRAMES:
        what = f"has {len(document)} pages, more than {MOST_FRAMES}"
        raise PictureError(Problem(what, "split it", path))
    shots = chosen_pages(len(document), prep, path)
    scale = (prep.resolution or PAGE_RESOLUTION) / 72
    sizes = []
    with _pdf_lock:
        for shot in shots:
            page = document[shot.number - 1]
            size = (max(1, round(page.get_width() * scale)), max(1, round(page.get_height() * scale)))
            see_that_it_is_not_too_large(size, path, max_pixels)
            for inner in page.get_objects(filter=(_PDF_PICTURE,), max_depth=5):
                see_that_it_is_not_too_large(inner.get_px_size(), path, max_pixels)
            sizes.append(size)
    return PictureFacts("PDF", tuple(sizes), 1, tuple(shots), len(document))


def _page(document: Any, number: int, size: tuple[int, int]) -> Image.Image:
    """A page drawn at a size; the renderer may be off by a pixel, which is mended."""
    from PIL import Image

    with _pdf_lock:
        page = document[number - 1]
        drawn: Image.Image = page.render(scale=size[0] / page.get_width()).to_pil().convert("RGB")
    return drawn if drawn.size == size else drawn.resize(size, Image.Resampling.LANCZOS)
