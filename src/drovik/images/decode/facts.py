"""What every kind of source has: its facts, its pictures, the package that reads it, bounds before decoding."""

from __future__ import annotations

import importlib
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from functools import cache
from typing import Any, Protocol

from drovik.errors import PictureError, Problem
from drovik.heavy import Image
from drovik.images.decode.shots import Shot
from drovik.project.preps import Prep
from drovik.project.settings import DEFAULT_MAX_PIXELS

SMALL_BYTES, MOST_PIXELS_OF_SMALL = 1_000_000, 40_000_000
"""A file below that many bytes is not believed to be a larger picture (see `allowed_pixels`)."""


@dataclass(frozen=True)
class PictureFacts:
    """What a source's content says it is, and the shots that a prep takes of it.

    `sizes` are those of the shots as stored, in pixels; `orientation` is Exif's, 1 to 8; `count` is how
    many pages or frames there are in all.
    """

    format: str
    sizes: tuple[tuple[int, int], ...]
    orientation: int
    shots: tuple[Shot, ...]
    count: int = 1

    @property
    def width(self) -> int:
        """The first shot's, as stored."""
        return self.sizes[0][0]

    @property
    def height(self) -> int:
        """The first shot's, as stored."""
        return self.sizes[0][1]


class OpenSource(Protocol):
    """A source that is open: its facts, and its pictures by shot."""

    facts: PictureFacts

    def pictures(self) -> Iterator[tuple[Shot, Image.Image]]:
        """Each shot's picture, as stored and not yet decoded where that can wait."""


@dataclass(frozen=True)
class SourceFormat:
    """One kind of source: how its content begins, and how it is opened.

    `open` takes the content, the path to name in errors, the pixels allowed, and the prep.
    """

    name: str
    recognises: Callable[[bytes], bool]
    open: Callable[[bytes, str, int, Prep], AbstractContextManager[OpenSource]]


def extra_package(module: str, extra: str, name: str, path: str) -> Any:
    """The package that reads a kind of source, which only some users need.

    :raises PictureError: if it is not installed, with the command that installs it.
    """
    try:
        return importlib.import_module(module)
    except ImportError:
        what = f"is {name}, and what reads those is not installed"
        raise PictureError(Problem(what, f'install it: pip install "drovik[{extra}]"', path)) from None


def broken(path: str) -> Problem:
    """The problem with a file that cannot be decoded."""
    what = "is a broken picture: it cannot be decoded, or breaks off"
    return Problem(what, "open it elsewhere and save it again", path)


def require_pixel_limit(size: tuple[int, int], path: str, max_pixels: int) -> None:
    """See that a picture stays within the project's limit.

    :raises DrovikError: where it does not.
    """
    if size[0] * size[1] > max_pixels:
        remedy = "shrink it, or raise max_pixels in drovik.toml"
        what = f"{size[0]} x {size[1]} pixels are more than max_pixels = {max_pixels}"
        raise PictureError(Problem(what, remedy, path))


def allowed_pixels(size: int, max_pixels: int) -> int:
    """How many pixels a file of this many bytes may have.

    A hundred million pixels of one colour fit into some kilobytes, and take half a gigabyte or more once decoded.
    Where the project does not say, a small file is not believed to be that large a picture.
    """
    if max_pixels == DEFAULT_MAX_PIXELS and size < SMALL_BYTES:
        return MOST_PIXELS_OF_SMALL
    return max_pixels


_PLUGINS = ("Bmp", "Gif", "Jpeg", "Mpo", "Png", "Tiff", "WebP")
"""Pillow's plugins for what is taken here: all of them together take longer to load than a picture to read."""
_getting_ready = threading.Lock()


@cache
def _load_plugins() -> None:

    for name in _PLUGINS:
        importlib.import_module(f"PIL.{name}ImagePlugin")
    Image.preinit()
    warnings.filterwarnings("ignore", module="PIL")  # broken metadata is not the user's concern: it is cut out
    Image.MAX_IMAGE_PIXELS = None  # the project's own limit, checked on the header, takes its place


def init_pillow() -> None:
    """Load Pillow's plugins once: two threads that do so at the same time can miss one."""
    with _getting_ready:
        _load_plugins()
