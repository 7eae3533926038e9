"""Documents in PDF: their pages as pictures (PDFium, an extra)."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from drovik.errors import PictureError, Problem
from drovik.heavy import Image
from drovik.images.decode.facts import PictureFacts, SourceFormat, extra_package, require_pixel_limit
from drovik.images.decode.shots import MOST_FRAMES, Shot, chosen_pages
from drovik.project.preps import PAGE_RESOLUTION, Prep
from drovik.text import counted

_PDF_PICTURE = 3
"""FPDF_PAGEOBJ_IMAGE, in PDFium's public header."""
_PDF_NEEDS_PASSWORD = 4
"""FPDF_ERR_PASSWORD, there."""
_pdf_lock = threading.Lock()
"""PDFium is not made for threads."""


def _document(data: bytes, path: str) -> Any:
    pdfium = extra_package("pypdfium2", "pdf", "a PDF", path)
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
        what = f"has {counted(len(document), 'page')}, more than {MOST_FRAMES}"
        raise PictureError(Problem(what, "split it", path))
    shots = chosen_pages(len(document), prep, path)
    scale = (prep.resolution or PAGE_RESOLUTION) / 72
    sizes = []
    with _pdf_lock:
        for shot in shots:
            page = document[shot.number - 1]
            size = (max(1, round(page.get_width() * scale)), max(1, round(page.get_height() * scale)))
            require_pixel_limit(size, path, max_pixels)
            for inner in page.get_objects(filter=(_PDF_PICTURE,), max_depth=5):
                require_pixel_limit(inner.get_px_size(), path, max_pixels)
            sizes.append(size)
    return PictureFacts("PDF", tuple(sizes), 1, tuple(shots), len(document))


def _page(document: Any, number: int, size: tuple[int, int]) -> Image.Image:
    """A page drawn at a size; the renderer may be off by a pixel, which is corrected."""

    with _pdf_lock:
        page = document[number - 1]
        drawn: Image.Image = page.render(scale=size[0] / page.get_width()).to_pil().convert("RGB")
    return drawn if drawn.size == size else drawn.resize(size, Image.Resampling.LANCZOS)


@dataclass
class OpenDocument:
    """A document that is open."""

    facts: PictureFacts
    document: Any

    def pictures(self) -> Iterator[tuple[Shot, Image.Image]]:
        """Each page, drawn at its size."""
        for shot, size in zip(self.facts.shots, self.facts.sizes, strict=True):
            yield shot, _page(self.document, shot.number, size)


@contextlib.contextmanager
def _opened(data: bytes, path: str, max_pixels: int, prep: Prep) -> Iterator[OpenDocument]:
    with contextlib.closing(_document(data, path)) as document:
        yield OpenDocument(_pdf_facts(document, path, max_pixels, prep), document)


PDF = SourceFormat("pdf", lambda data: b"%PDF-" in data[:1024], _opened)
"""The mark may come late: some writers put a line of their own before it (ISO 32000-1, annex H, note 13)."""
