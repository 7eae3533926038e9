"""What tells, without reading them, that the files of folders are the same as before: one digest for all of them."""

from __future__ import annotations

import os
import stat
import struct
from collections.abc import Iterable, Iterator
from operator import attrgetter
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from drovik.project.cases import PICTURE_ENDINGS
from drovik.project.picture_files import KnownStates, kept_time
from drovik.project.reading import STORE_FOLDER
from drovik.project.settings import FILE_NAME, ProjectFile

FOR_PEOPLE = (".html", ".log")
"""Endings of files that are written for people and read by nothing: a report is no change of the project."""
NOT_INPUT = frozenset({STORE_FOLDER, ".git", "__pycache__"})
"""Folders that no command reads its input from; the store counts its own changes."""


class FilesState(NamedTuple):
    """The digest of names, sizes, times and numbers of all files; when the latest of them was changed, in seconds."""

    digest: str
    changed: float


class TooMany(Exception):
    """There are more files than are worth a look."""


def files_state(
    folders: Iterable[str], most: int | None = None, states: KnownStates | None = None, project: str | None = None
) -> FilesState:
    """The state of all files beneath folders, or of single files; links are followed, `NOT_INPUT` does not count.

    The time is that of the last change of a file's entry (ctime), which nobody can set back.

    :param most: files that are looked at.
    :param states: where what each file looks like is left, for who would look at it next.
    :param project: the folder of a project, where what is written `FOR_PEOPLE` does not count.
    :raises TooMany: where there are more.
    """
    digest = blake3()
    latest = many = 0
    seen: set[str] = set()
    for folder in folders:
        for one in _walk(folder, seen, states, project):
            many += len(one.names)
            if most is not None and many > most:
                raise TooMany
            told = "\0".join([one.path, str(len(one.names)), *one.names])
            digest.update(told.encode("utf-8", "surrogatepass"))
            digest.update(b"".join(one.looks))
            latest = max(latest, one.changed)
    return FilesState(digest.hexdigest(), latest / 1e9)


def state_of_input(folder: Path, settings: ProjectFile | None) -> FilesState:
    """The state of what a project sends: its settings, its cases, pictures, and all that lies in its folders.

    Other files of the project's folder itself do not count: somebody may keep there what is printed meanwhile.

    :param settings: None where they cannot be read just now.
    """
    try:
        own = [one.path for one in os.scandir(folder) if _is_input(one)]
    except OSError:
        own = []
    paths = [folder / FILE_NAME]
    if settings is not None:
        paths += [folder / settings.cases, *settings.pictures.folders(folder)]
    return files_state([*map(str, paths), *sorted(own)])


def _is_input(one: os.DirEntry[str]) -> bool:
    return one.name not in NOT_INPUT if one.is_dir() else Path(one.name).suffix.lower() in PICTURE_ENDINGS


class _Folder:
    """A folder, or a file by itself: the names in it, what each looks like, and when the latest was changed."""

    __slots__ = ("changed", "looks", "names", "path")

    def __init__(self, path: str) -> None:
        self.path, self.changed = path, 0
        self.names: list[str] = []
        self.looks: list[bytes] = []

    def add(self, found: Iterable[os.DirEntry[str] | Path], states: KnownStates | None) -> None:
        """Take in files. There may be a hundred thousand of them: all of it is done in one loop."""
        latest, names, looks, pack, is_regular = self.changed, self.names, self.looks, _LOOKS.pack, stat.S_ISREG
        for one in found:
            names.append(one.name)
            try:
                now = one.stat()
            except OSError as error:
                looks.append(b"unread %d" % (error.errno or 0))
                continue
            size, inode = now.st_size, now.st_ino
            written, changed = kept_time(now.st_mtime_ns), kept_time(now.st_ctime_ns)
            looks.append(pack(size, written, changed, inode))
            latest = max(latest, changed)
            if states is not None and is_regular(now.st_mode) and not one.is_symlink():
                states[os.fspath(one)] = size, written, inode
        self.changed = latest

    def add_unread(self, name: str, error: OSError) -> None:
        """Take in what cannot be looked at."""
        self.names.append(name)
        self.looks.append(b"unread %d" % (error.errno or 0))


_LOOKS = struct.Struct("<qqqQ")
_by_name = attrgetter("name")


def _walk(folder: str, seen: set[str], states: KnownStates | None, project: str | None) -> Iterator[_Folder]:
    """Each folder with what its files are; no folder twice."""
    left = [folder]
    while left:
        here = left.pop()
        real = os.path.realpath(here)
        if real in seen:
            continue
        seen.add(real)
        known = _Folder(here)
        try:
            found = sorted(os.scandir(here), key=_by_name)
        except NotADirectoryError:
            known.add([Path(here)], None)
        except OSError as error:
            known.add_unread("", error)
        else:
            files = []
            for one in found:
                try:
                    if not one.is_dir():
                        files.append(one)
                    elif one.name not in NOT_INPUT:
                        left.append(one.path)
                except OSError as error:
                    known.add_unread(one.name, error)
            if here == project:
                files = [one for one in files if not one.name.endswith(FOR_PEOPLE)]
            known.add(files, states)
        yield known
