"""What preps made of sources, kept: in memory for the other requests of a run, on disk for the next run.

A file is a line of JSON (what each picture is, and the digest of what follows) and then the pictures' bytes. All of
it is made again at will: a file that is damaged or gone is a picture that is prepared again.
"""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import astuple
from pathlib import Path
from typing import Any

from drovik.images.decode.shots import Shot
from drovik.images.layout import Box, Layout
from drovik.images.prepare import Prepared
from drovik.kept_files import KeptFiles
from drovik.project.arms import digest_of_text
from drovik.project.picture_files import source_digest

MOST_IN_MEMORY = 64_000_000
"""Bytes of pictures: what the arms ask about one case comes one after the other."""


class PreparedPictures:
    """Pictures by the digest of their source and what the prep is kept by. May be used by several threads.

    :param folder: where they are kept; None: in memory alone.
    :param most_bytes: of all files there; those that were not used for longest are deleted first.
    """

    def __init__(self, folder: Path | None, most_bytes: int) -> None:
        self._files = KeptFiles(folder, most_bytes, ".pictures")
        self._lock = threading.Lock()
        self._known: OrderedDict[tuple[str, str], tuple[Prepared, ...]] = OrderedDict()
        self._size = 0

    def made(self, source: str, prep: str, make: Callable[[], tuple[Prepared, ...]]) -> tuple[Prepared, ...]:
        """What a prep makes of a source.

        :param source: the digest of the source's file.
        :param prep: what the prep's pictures are kept by.
        :param make: prepares them, where they are not kept.
        :raises DrovikError: as `make` does.
        """
        key = (source, prep)
        with self._lock:
            if (found := self._known.get(key)) is not None:
                self._known.move_to_end(key)
                return found
        name = digest_of_text(f"{source} {prep}")
        kept = _unpacked(self._files.read(name))
        pictures = kept or make()
        if kept:
            self._files.note_use(name)
        if not all(one.as_stored for one in pictures):  # those are the source's own bytes
            if kept is None:
                self._files.write(name, _packed(pictures))
            self._remember(key, pictures)
        return pictures

    def _remember(self, key: tuple[str, str], pictures: tuple[Prepared, ...]) -> None:
        with self._lock:
            if key not in self._known:
                self._known[key] = pictures
                self._size += _size(pictures)
            while self._size > MOST_IN_MEMORY and len(self._known) > 1:
                _, oldest = self._known.popitem(last=False)
                self._size -= _size(oldest)


def _size(pictures: Sequence[Prepared]) -> int:
    return sum(len(one.data) for one in pictures)


def _told(one: Prepared) -> dict[str, Any]:
    """All of a picture but its bytes."""
    return {
        "bytes": len(one.data), "media_type": one.media_type, "size": [one.width, one.height],
        "layout": astuple(one.layout), "shot": one.shot, "part": one.part, "as_stored": one.as_stored,
    }  # fmt: skip


def _packed(pictures: Sequence[Prepared]) -> bytes:
    data = b"".join(one.data for one in pictures)
    head = json.dumps({"digest": source_digest(data), "pictures": [_told(one) for one in pictures]})
    return head.encode() + b"\n" + data


def _unpacked(file: bytes | None) -> tuple[Prepared, ...] | None:
    """What a file holds; None where it is not there, or not as it was written."""
    if file is None:
        return None
    try:
        head, _, data = file.partition(b"\n")
        told = json.loads(head)
        if told["digest"] != source_digest(data):
            return None
        found, at = [], 0
        for one in told["pictures"]:
            found.append(_picture(one, data[at : at + one["bytes"]]))
            at += one["bytes"]
    except (ValueError, KeyError, TypeError):
        return None
    return tuple(found)


def _picture(told: dict[str, Any], data: bytes) -> Prepared:
    stored, orientation, crop, resized, cut, canvas, at, parts = told["layout"]
    layout = Layout(
        tuple(stored), orientation, Box(*crop), tuple(resized), Box(*cut), tuple(canvas), tuple(at),
        tuple(Box(*part) for part in parts),
    )  # fmt: skip
    width, height = told["size"]
    return Prepared(
        data, told["media_type"], width, height, told["as_stored"], layout, Shot(*told["shot"]), told["part"]
    )
