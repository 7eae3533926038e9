"""The kinds of source, and opening one: its bytes → what it is, which pictures a prep takes, and those one by one.

A broken file ends in one line, whichever package found it broken.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from functools import lru_cache

from drovik.errors import DrovikError, PictureError
from drovik.images.decode.clip import VIDEO
from drovik.images.decode.document import PDF
from drovik.images.decode.facts import OpenSource, PictureFacts, allowed_pixels, broken, require_pixel_limit
from drovik.images.decode.jpeg_header import jpeg_header
from drovik.images.decode.picture import HEIC, PICTURE
from drovik.images.decode.png_header import png_size
from drovik.images.decode.shots import Shot
from drovik.project.preps import Prep

FORMATS = (PICTURE, PDF, HEIC, VIDEO)
"""In the order in which they are tried: a picture's comment may hold the beginning of a PDF. What none of them
recognises is tried as a picture."""


def inspect_source(data: bytes, path: str, max_pixels: int, prep: Prep | None = None) -> PictureFacts:
    """What a source is, by its content alone; pictures are not decoded for it, but by a rule that needs pixels.

    :raises PictureError: if it is nothing that can be read, is broken, or has more than `max_pixels` pixels.
    """
    begun = facts_of_beginning(data, len(data), path, max_pixels)
    if begun is not None:
        return begun
    with open_source(data, path, max_pixels, prep or Prep()) as source:
        facts = source.facts
    return facts


def facts_of_beginning(data: bytes, size: int, path: str, max_pixels: int) -> PictureFacts | None:
    """What a source is, where its first bytes tell already.

    :param size: of the whole, in bytes.
    :raises PictureError: if it has more than `max_pixels` pixels.
    """
    if (header := jpeg_header(data)) is not None:
        facts = _facts_of("JPEG", *header)
    elif len(data) == size and (pixels := png_size(data)) is not None:
        facts = _facts_of("PNG", pixels, 1)
    else:
        return None
    require_pixel_limit(facts.sizes[0], path, allowed_pixels(size, max_pixels))
    return facts


@lru_cache(maxsize=1_000)
def _facts_of(format_: str, size: tuple[int, int], orientation: int) -> PictureFacts:
    return PictureFacts(format_, (size,), orientation, (Shot(1),))


@contextlib.contextmanager
def open_source(data: bytes, path: str, max_pixels: int, prep: Prep) -> Iterator[OpenSource]:
    """A source, open for its pictures; whatever breaks inside is reported as a broken file.

    :raises PictureError: as `inspect_source` does.
    """
    format_ = next((one for one in FORMATS if one.recognises(data)), PICTURE)
    try:
        with format_.open(data, path, allowed_pixels(len(data), max_pixels), prep) as source:
            yield source
    except DrovikError as error:
        raise PictureError(one if one.file else one._replace(file=path) for one in error.problems) from None
    except Exception:  # the decoders raise whatever a broken file makes them stumble over
        raise PictureError(broken(path)) from None
