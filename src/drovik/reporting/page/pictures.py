"""The pictures of the page: small ones inside it, large ones linked from the project's folder or put in as well."""

from __future__ import annotations

import base64
import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote

from drovik.errors import DrovikError
from drovik.following import followed
from drovik.images.prepare import Prepared, prepare
from drovik.project.preps import Frames, Prep
from drovik.project.reading import Project

SIDES = ((300, 320, 70), (1_500, 240, 60))
"""Up to N pictures: the side of a small one in pixels, and its quality. A hundred fit a file to mail."""
FEWEST = (160, 45)
"""Side and quality where there are more: five thousand come to about 15 MB."""
LARGE, LARGE_QUALITY = 1_400, 78
"""Side and quality of a large picture that is put into the page."""
MOST_LARGE = 60
"""Large pictures that are put in because no browser could show their files."""
STRIP, STRIP_SIDE = 8, 120
"""Frames of a clip, or pages of a document, that are shown, and the longer side of each."""
_SHOWN_BY_BROWSERS = frozenset((".jpg", ".jpeg", ".png", ".webp", ".gif", ".avif", ".bmp"))


@dataclass
class PagePictures:
    """Gathers the pictures that the page shows, and makes them all at once.

    :ivar folder: where the page is put, from which the large pictures are linked.
    :ivar embed: whether large pictures are put into the page.
    """

    project: Project
    folder: Path
    embed: bool = False
    _numbers: dict[tuple[str, int | None], int] = field(default_factory=dict)

    def number(self, path: str, page: int | None = None) -> int:
        """The number by which the page knows a picture; its place in `made`."""
        return self._numbers.setdefault((path, page), len(self._numbers))

    def made(self) -> list[dict[str, Any]]:
        """All pictures that were asked for: their size, the small one, and where the large one is."""
        wanted = list(self._numbers)
        side, quality = next((one[1:] for one in SIDES if len(wanted) <= one[0]), FEWEST)
        few = len(wanted) <= MOST_LARGE

        def one(key: tuple[str, int | None]) -> dict[str, Any]:
            return self._one(*key, side, quality, few)

        # Pillow lets go of the interpreter's lock while it decodes, shrinks and writes.
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            return list(followed("making small pictures", pool.map(one, wanted), len(wanted)))

    def _one(self, path: str, page: int | None, side: int, quality: int, few: bool) -> dict[str, Any]:
        prep = Prep(fit=side, quality=quality, format="webp", pages=(page or 1,), frames=Frames(at=(0.0,)))
        try:
            source = self.project.pictures.read(path)
            small = self._prepared(source, path, prep)[0]
        except DrovikError:
            return {"path": path, "size": [4, 3], "small": ""}
        found: dict[str, Any] = {"path": path, "size": list(small.layout.upright), "small": _address(small)}
        can_be_linked = Path(path).suffix.lower() in _SHOWN_BY_BROWSERS
        if can_be_linked and not self.embed:
            found["link"] = self._link(path)
        elif self.embed or few:
            large = prep.model_copy(update={"fit": LARGE, "quality": LARGE_QUALITY})
            found["large"] = _address(self._prepared(source, path, large)[0])
        if not can_be_linked and page is None:
            found |= self._strip(source, path)
        return found

    def _strip(self, source: bytes, path: str) -> dict[str, Any]:
        """Frames of a clip, or pages of a document, beside each other; nothing where there is but one."""
        prep = Prep(fit=STRIP_SIDE, quality=60, format="webp", frames=Frames(evenly=STRIP))
        try:
            parts = self._prepared(source, path, prep)[:STRIP]
        except DrovikError:
            return {}
        return {"strip": [[_address(one), _caption(one)] for one in parts]} if len(parts) > 1 else {}

    def _prepared(self, source: bytes, path: str, prep: Prep) -> Sequence[Prepared]:
        return prepare(source, prep, path, self.project.settings.max_pixels)

    def _link(self, path: str) -> str:
        target = os.path.relpath(self.project.folder.resolve() / path, self.folder.resolve())
        return quote(target.replace(os.sep, "/"))


def _caption(one: Prepared) -> str:
    return f"page {one.shot.number}" if one.shot.time is None else f"{one.shot.time:.1f} s"


def _address(picture: Prepared) -> str:
    return f"data:{picture.media_type};base64,{base64.b64encode(picture.data).decode()}"
