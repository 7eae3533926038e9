"""What tells, without reading them, that the files of folders are the same as before: one digest for all of them."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from drovik.project.cases import PICTURE_ENDINGS
from drovik.project.picture_files import KnownStates
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
        for name, entries in _walk(folder, seen, states, project):
            many += len(entries)
            if most is not None and many > most:
                raise TooMany
            told = "".join([entry[0] for entry in entries])
            digest.update(f"{name}\0{len(entries)}\0{told}".encode("utf-8", "surrogatepass"))
            latest = max([latest, *[entry[1] for entry in entries]])
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


def _walk(
    folder: str, seen: set[str], states: KnownStates | None, project: str | None
) -> Iterator[tuple[str, list[tuple[str, int]]]]:
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
        except NotADirectoryError:
            yield here, [_entry(here, Path(here), None)]
            continue
        except OSError as error:
            yield here, [(f"unread {error.errno}", 0)]
            continue
        for one in found:
            try:
                if one.is_dir():
                    if one.name not in NOT_INPUT:
                        left.append(one.path)
                    continue
            except OSError as error:
                entries.append((f"{one.name}\0unread {error.errno}\0", 0))
                continue
            if here == project and one.name.endswith(FOR_PEOPLE):
                continue
            entries.append(_entry(one.name, one, states))
        yield here, entries


def _entry(name: str, file: os.DirEntry[str] | Path, states: KnownStates | None) -> tuple[str, int]:
    try:
        found = file.stat()
    except OSError as error:
        return f"{name}\0unread {error.errno}\0", 0
    size, changed, inode = found.st_size, found.st_mtime_ns, found.st_ino
    if states is not None and stat.S_ISREG(found.st_mode) and not file.is_symlink():
        states[os.fspath(file)] = size, changed, inode
    return f"{name}\0{size} {changed} {found.st_ctime_ns} {inode}\0", found.st_ctime_ns
