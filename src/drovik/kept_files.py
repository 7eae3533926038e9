"""A folder of files that are made again at will, kept within bounds: a cache on disk.

What a file holds is known by its name; a file that is damaged is for its reader to see.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import threading
import time
from pathlib import Path

from drovik.errors import DrovikError
from drovik.files import write_whole

LEAST_FREE = 1_000_000_000
"""Bytes of the disk that are never taken: answers that were paid for are to find room there."""
_WRITING_SECONDS = 3600
"""A file that is half written for longer than this was left so by a program that was killed."""
_ROOM = 0.9
"""The share of the bound that is left when old files were deleted."""


class KeptFiles:
    """Files by their names. May be used by several threads, and by several programs.

    :param folder: where they are kept; None: nowhere.
    :param most_bytes: of all files there; those that were not used for longest are deleted first. 0: none is kept.
    :param ending: of the files' names, such as ".pictures".
    """

    def __init__(self, folder: Path | None, most_bytes: int, ending: str) -> None:
        self._folder = folder if most_bytes > 0 else None
        self._most, self._ending = most_bytes, ending
        self._lock = threading.Lock()
        self._unseen = most_bytes  # bytes written since the folder was looked through: at first, nobody knows

    def read(self, name: str) -> bytes | None:
        """What is kept under a name, of hexadecimal digits; None where nothing is."""
        path = self._path(name)
        try:
            return None if path is None else path.read_bytes()
        except OSError:
            return None

    def note_use(self, name: str) -> None:
        """Keep that a file was of use now: others are deleted before it."""
        path = self._path(name)
        if path is not None:
            with contextlib.suppress(OSError):
                os.utime(path)

    def write(self, name: str, data: bytes) -> None:
        """Keep something, where the disk has room for it; older files go where there are too many."""
        path = self._path(name)
        if path is None:
            return
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if shutil.disk_usage(path.parent).free < LEAST_FREE + len(data):
                return
            write_whole(path, data)
        except (DrovikError, OSError):  # the disk is full, or may not be written: a cache is not worth a word
            self._folder = None
            return
        with self._lock:
            self._unseen += len(data)
            look = self._unseen > self._most * (1 - _ROOM)
            self._unseen = 0 if look else self._unseen
        if look:
            self._keep_within(path.parent.parent)

    def _path(self, name: str) -> Path | None:
        return None if self._folder is None else self._folder / name[:2] / f"{name[2:]}{self._ending}"

    def _keep_within(self, folder: Path) -> None:
        """Delete those that were not used for longest, where all of them are more than may be kept; and what a killed
        program left half written.
        """
        files = []
        for path in folder.glob("??/*"):
            with contextlib.suppress(OSError):
                state = path.stat()
                if path.name.startswith(".") and time.time() - state.st_mtime < _WRITING_SECONDS:
                    continue
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
