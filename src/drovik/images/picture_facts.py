"""What a source's content says it is, and the bounds that hold before anything is decoded."""

from __future__ import annotations

import threading
import warnings
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

from drovik.errors import PictureError, Problem
from drovik.images.shots import Shot
from drovik.project.settings import DEFAULT_MAX_PIXELS

if TYPE_CHECKING:
    pass


SMALL_BYTES, MOST_PIXELS_OF_SMALL = 1_000_000, 40_000_000


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


def broken(path: str) -> Problem:
    """The problem with a file that cannot be decoded."""
    what = "is a broken picture: it cannot be decoded, or breaks off"
    return Problem(what, "open it elsewhere and save it again", path)


def see_that_it_is_not_too_large(size: tuple[int, int], path: str, max_pixels: int) -> None:
    """See that a picture stays within the project's limit.

    :raises DrovikError: where it does not.
    """
    if size[0] * size[1] > max_pixels:
        remedy = "shrink it, or raise max_pixels in drovik.toml"
        what = f"{size[0]} x {size[1]} pixels are more than max_pixels = {max_pixels}"
        raise PictureError(Problem(what, remedy, path))


def allowed_pixels(size: int, max_pixels: int) -> int:
    """How many pixels a file of so many bytes may have.

    A hundred million pixels of one colour fit into some kilobytes, and take half a gigabyte or more once decoded.
    Where the project does not say, a small file is not believed to be that large a picture.
    """
    if max_pixels == DEFAULT_MAX_PIXELS and size < SMALL_BYTES:
        return MOST_PIXELS_OF_SMALL
    return max_pixels


_getting_ready = threading.Lock()


@cache
def _load_plugins() -> None:
    from PIL import Image

    Image.init()
    warnings.filterwarnings("ignore", module="PIL")  # broken metadata is not the user's concern: it is cut out
    Image.MAX_IMAGE_PIXELS = None  # the project's own limit, checked on the header, takes its place


def make_ready() -> None:
    """Load Pillow's plugins once: two threads that do so at the same time can miss one."""
    with _getting_ready:
        _load_plugins()
