"""What preps made of sources, kept: in memory for the other requests of a run, on disk for the next run.

A file is a line of JSON (what each picture is, and the digest of what follows) and then the pictures' bytes. All of
it is made again at will: a file that is damaged or gone is a picture that is prepared again.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import astuple
from pathlib import Path
from typing import Any

from drovik.errors import DrovikError
from drovik.files import write_whole
from drovik.images.decode.shots import Shot
from drovik.images.layout import Box, Layout
from drovik.images.prepare import Prepared
from drovik.project.arms import digest_of_text
from drovik.project.picture_files import source_digest

MOST_IN_MEMORY = 64_000_000
"""Bytes of pictures: what the arms ask about one case comes one after the other."""
LEAST_FREE = 1_000_000_000
"""Bytes of the disk that are never taken: answers that were paid for are to find room there."""
_ROOM = 0.9
"""The share of the bound that is left when old files were deleted."""


class PreparedPictures:
    """Pictures by the digest of their source and what the prep is kept by. May be used by several threads.

    :param folder: where they are kept; None: in memory alone.
    :param most_bytes: of all files there; those that were not used for longest are deleted first.
    """

    def __init__(self, folder: Path | None, most_bytes: int) -> None:
        self._folder = folder if most_bytes > 0 else None
        self._most = most_bytes
        self._lock = threading.Lock()
        self._known: OrderedDict[tuple[str, str], tuple[Prepared, ...]] = OrderedDict()
        self._size = 0
        self._unseen = most_bytes  # bytes written since the folder was looked through: at first, nobody knows

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
        path = self._path(key)
        kept = _read(path) if path is not None else None
        pictures = kept or make()
        if not all(one.as_stored for one in pictures):  # those are the source's own bytes
            if path is not None and kept is None:
                self._write(path, pictures)
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

    def _path(self, key: tuple[str, str]) -> Path | None:
        if self._folder is None:
            return None
        name = digest_of_text(f"{key[0]} {key[1]}")
        return self._folder / name[:2] / f"{name[2:]}.pictures"

    def _write(self, path: Path, pictures: tuple[Prepared, ...]) -> None:
        data = b"".join(one.data for one in pictures)
        head = json.dumps({"digest": source_digest(data), "pictures": [_told(one) for one in pictures]})
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if shutil.disk_usage(path.parent).free < LEAST_FREE + len(data):
                return
            write_whole(path, head.encode() + b"\n" + data)
        except (DrovikError, OSError):  # the disk is full, or may not be written: a cache is not worth a word
            self._folder = None
            return
        with self._lock:
            self._unseen += len(head) + len(data)
            look = self._unseen > self._most * (1 - _ROOM)
            self._unseen = 0 if look else self._unseen
        if look:
            self._keep_within()

    def _keep_within(self) -> None:
        """Delete those that were not used for longest, where all of them are more than may be kept; and what a killed
        program left half written.
        """
        assert self._folder is not None
        files = []
        for path in self._folder.glob("??/*"):
            with contextlib.suppress(OSError):
                state = path.stat()
                files.append((state.st_mtime_ns, state.st_size, path))
        total = sum(size for _, size, _ in files)
        if total <= self._most:
            return
        for _, size, path in sorted(files):
            with contextlib.suppress(OSError):
                path.unlink()
            total -= size
            if total <= self._most * _ROOM:
                return


def _size(pictures: Sequence[Prepared]) -> int:
    return sum(len(one.data) for one in pictures)


def _told(one: Prepared) -> dict[str, Any]:
    """All of a picture but its bytes."""
    return {
        "bytes": len(one.data), "media_type": one.media_type, "size": [one.width, one.height],
        "layout": astuple(one.layout), "shot": one.shot, "part": one.part, "as_stored": one.as_stored,
    }  # fmt: skip


def _read(path: Path) -> tuple[Prepared, ...] | None:
    """What a file holds; None where it is not there, or not as it was written."""
    try:
        head, _, data = path.read_bytes().partition(b"\n")
        told = json.loads(head)
        if told["digest"] != source_digest(data):
            return None
        found, at = [], 0
        for one in told["pictures"]:
            found.append(_picture(one, data[at : at + one["bytes"]]))
            at += one["bytes"]
        os.utime(path)  # used now: others are deleted first
    except (OSError, ValueError, KeyError, TypeError):
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
