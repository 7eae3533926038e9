"""What tells, without reading them, that the files of folders are the same as before: one digest for all of them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from blake3 import blake3


class FilesState(NamedTuple):
    """The digest of names, sizes, times and numbers of all files; when the latest of them was changed, in seconds."""

    digest: str
    changed: float


class TooMany(Exception):
    """There are more files than are worth a look."""


def files_state(
    folders: Iterable[str], leaving_out: frozenset[str] = frozenset(), most: int | None = None
) -> FilesState:
    """The state of all files beneath folders; links are followed.

    The time is that of the last change of a file's entry (ctime), which nobody can set back.

    :param leaving_out: names of folders that do not count.
    :param most: files that are looked at.
    :raises TooMany: where there are more.
    """
    digest = blake3()
    latest = many = 0
    seen: set[str] = set()
    for folder in folders:
        for name, entries in _walk(folder, leaving_out, seen):
            many += len(entries)
            if most is not None and many > most:
                raise TooMany
            digest.update(f"{name}\0{len(entries)}\0".encode("utf-8", "surrogatepass"))
            for entry in entries:
                digest.update(entry[0].encode("utf-8", "surrogatepass"))
                latest = max(latest, entry[1])
    return FilesState(digest.hexdigest(), latest / 1e9)


def _walk(folder: str, leaving_out: frozenset[str], seen: set[str]) -> Iterator[tuple[str, list[tuple[str, int]]]]:
    """Each folder with what its files are, as text, and when they were changed; no folder twice."""
    left = [folder]
    while left:
        here = left.pop()
        real = os.path.realpath(here)
        if real in seen:
            continue
        seen.add(real)
        entries = []
        try:
            found = sorted(os.scandir(here), key=lambda one: one.name)
        except OSError as error:
            yield here, [(f"unread {error.errno}", 0)]
            continue
        for one in found:
            try:
                if one.is_dir():
                    if one.name not in leaving_out:
                        left.append(one.path)
                    continue
                looks = one.stat()
            except OSError as error:
                entries.append((f"{one.name}\0unread {error.errno}\0", 0))
                continue
            told = f"{one.name}\0{looks.st_size} {looks.st_mtime_ns} {looks.st_ctime_ns} {looks.st_ino}\0"
            entries.append((told, looks.st_ctime_ns))
        yield here, entries
