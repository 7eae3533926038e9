"""What a source is, by the first bytes of its content, and the packages that the rarer kinds need."""

from __future__ import annotations

import importlib
from typing import Any, Literal

from drovik.errors import PictureError, Problem

Kind = Literal["picture", "heic", "pdf", "video"]

_HEIC = (b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"msf1")
_PICTURES = (
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
_EXTRAS: dict[str, tuple[str, str, str]] = {
    "heic": ("pillow_heif", "heic", "a HEIC picture"),
    "pdf": ("pypdfium2", "pdf", "a PDF"),
    "video": ("av", "video", "a video"),
}


def kind_of(data: bytes) -> Kind:
    """What a source is; `picture` is whatever Pillow may know, or nobody."""
    head = data[:16]
    if head.startswith(_PICTURES) or (head[:4] == b"RIFF" and head[8:12] == b"WEBP"):
        return "picture"  # whatever else stands in it: a comment may hold the beginning of a PDF
    if b"%PDF-" in data[:1024]:
        return "pdf"
    if head[4:8] == b"ftyp":
        brands = {head[8:12], *(data[at : at + 4] for at in range(16, min(64, int.from_bytes(head[:4], "big")), 4))}
        return "heic" if brands & set(_HEIC) else "picture" if head[8:12] in (b"avif", b"avis") else "video"
    matroska, avi = head[:4] == b"\x1a\x45\xdf\xa3", head[:4] == b"RIFF" and head[8:12] == b"AVI "
    return "video" if matroska or avi or head[:4] in (b"\x00\x00\x01\xba", b"OggS") else "picture"


def extra_package(kind: Kind, path: str) -> Any:
    """The package that reads a kind.

    :raises DrovikError: where it is not installed, with the command that installs it.
    """
    module, extra, name = _EXTRAS[kind]
    try:
        return importlib.import_module(module)
    except ImportError:
        what = f"is {name}, and what reads those is not installed"
        raise PictureError(Problem(what, f'install it: pip install "drovik[{extra}]"', path)) from None
