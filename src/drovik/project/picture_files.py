"""A picture's file on disk: its bytes, its digest, and what the file system says of it."""

from __future__ import annotations

import copy
import errno
import os
import stat
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from drovik.errors import DrovikError, Problem, ProjectError
from drovik.files import nonblocking_opener
from drovik.following import followed
from drovik.project.arms import digest_of_bytes
from drovik.project.object_pictures import ObjectPictures, is_object

MOST_BYTES = 2_000_000_000
"""Of one picture's file: a clip may be long, but it is read as a whole."""


BEGINNING_BYTES = 65_536
"""Of a file: what most cameras write before the picture itself, with a small copy of it, is in them."""
_FOR_BEGINNING = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0)
_NO_LINK = getattr(os, "O_NOFOLLOW", 0)


class TooManyFiles(DrovikError):
    """No more files can be open now; what is open is on its way to be closed."""


class FileState(NamedTuple):
    """What tells, without reading it, that a file is the same as before."""

    path: str
    size: int
    mtime_ns: int
    inode: int

    @property
    def looks(self) -> FileLooks:
        """The same without the path."""
        return self.size, self.mtime_ns, self.inode


class Beginning(NamedTuple):
    """The first bytes of a file, its size as a whole, and its state: None where it was written to meanwhile."""

    data: bytes
    size: int
    state: FileState | None


FileLooks = tuple[int, int, int]
"""Of a file its size, the time of its last change in nanoseconds, and its inode."""
KnownStates = dict[str, FileLooks]
"""What files look like, links apart, by their paths."""


class PictureFolder:
    """Where pictures are read from: a folder, and others outside of it that were agreed to.

    What a project names could lie anywhere: an absolute path, `..`, a link. A stranger's project would so have
    private pictures sent to the stranger's service; only what lies beneath these folders is read.

    :param base: from where relative paths count.
    :param others: further folders, absolute; None where pictures were named by the person, and may lie anywhere.
    :param objects: what lies at addresses; None where only files are read.
    """

    def __init__(self, base: Path, others: Sequence[Path] | None = (), objects: ObjectPictures | None = None) -> None:
        self.base = base
        self._objects = objects
        self._digested_by: Callable[[Sequence[str]], list[str]] | None = None
        self._text = str(base)
        self._states: KnownStates = {}
        self._roots = None if others is None else [os.path.realpath(base), *map(str, others)]
        self._inside: dict[str, bool] = {}
        self._looks: dict[str, FileLooks] = {}
        self._digests: dict[str, str] = {}

    def state(self, path: str) -> FileState:
        """The state of a picture's file.

        :param path: as the case names it.
        :raises DrovikError: if the file does not exist, or it may not be read.
        """
        if self._objects is not None and is_object(path):
            size, mark = self._objects.state(path)
            return FileState(path, size, mark, 0)
        whole = self._whole(path)
        try:
            found = os.lstat(whole)
            self._require_inside(path, whole, stat.S_ISLNK(found.st_mode))
            found = os.stat(whole) if stat.S_ISLNK(found.st_mode) else found
            _require_regular_file(found.st_mode)
        except (OSError, ValueError) as error:
            raise ProjectError(missing(path, error)) from None
        return _state_of(path, found)

    def _whole(self, path: str) -> str:
        # There may be a hundred thousand of them: a joined path of pathlib's or os.path's takes as long as the rest.
        return path if path.startswith(os.sep) else f"{self._text}/{path}"

    def take_states(self, states: KnownStates) -> None:
        """Take what files looked like a moment ago for the next question about many of them, which empties it."""
        self._states = states

    def states(self, paths: Iterable[str]) -> tuple[dict[str, FileLooks], list[Problem]]:
        """What many pictures' files look like, by path, and what is wrong with those that are not there."""
        known = self._states
        states: dict[str, FileLooks] = {}
        problems: list[Problem] = []
        for path in paths:
            whole = self._whole(path)
            found = known.get(whole)
            if found is not None and self._inside.get(whole.rpartition(os.sep)[0]):  # as one of its folder was found
                states[path] = found
                continue
            try:
                states[path] = self.state(path).looks
            except DrovikError as error:
                problems += error.problems
        known.clear()  # whoever else holds it needs the memory rather than what was true a moment ago
        return states, problems

    def look_up(self, paths: Iterable[str]) -> None:
        """Ask for what the states of many pictures are that lie at addresses, all at once."""
        if self._objects is not None:
            self._objects.look_up([path for path in paths if is_object(path)])

    def digests(self, paths: Sequence[str]) -> list[str]:
        """The digests of pictures' files as they are now; what lies at addresses is read several at once.

        :raises DrovikError: where one cannot be read, or may not be.
        """
        if self._digested_by is not None:
            return self._digested_by(paths)
        if self._objects is None or not any(map(is_object, paths)):
            return [source_digest(self.read(path)) for path in followed("reading pictures", paths, len(paths))]
        return self._objects.each(paths, lambda path: source_digest(self.read(path)))

    def digested_by(self, work: Callable[[Sequence[str]], list[str]]) -> PictureFolder:
        """The same, whose `digests` something else works out, such as other machines that see the files."""
        made = copy.copy(self)
        made._digested_by = work
        return made

    def remember(self, looks: Mapping[str, FileLooks], digests: Mapping[str, str]) -> None:
        """Keep the digests of files for as long as they look as they do now (`read_with_digest`)."""
        self._looks.update(looks)
        self._digests.update(digests)

    def read(self, path: str) -> bytes:
        """The bytes of a picture's file.

        :raises DrovikError: where it cannot be read, or may not be.
        """
        return self._read(path)[0]

    def read_with_digest(self, path: str) -> tuple[bytes, str]:
        """The bytes of a picture's file and their digest: the one that is remembered, if the file has its size, time
        and inode before it is read and after.

        :raises DrovikError: where it cannot be read, or may not be.
        """
        data, before, after = self._read(path)
        known = self._looks.get(path)
        return data, self._digests[path] if known == before.looks == after.looks else source_digest(data)

    def beginning(self, path: str) -> Beginning | None:
        """The first bytes of a picture's file; None where it is to be read as a whole: it lies at an address, is
        reached by a link, or something is wrong with it.
        """
        if not _NO_LINK or (self._objects is not None and is_object(path)):
            return None
        whole = self._whole(path)
        try:
            self._require_inside(path, whole, False)
            number = os.open(whole, _FOR_BEGINNING | _NO_LINK)
            try:
                looks = os.fstat(number)
                _require_regular_file(looks.st_mode)
                data = os.read(number, BEGINNING_BYTES)
                after = os.fstat(number)
            finally:
                os.close(number)
        except (OSError, ValueError, DrovikError):  # which of them, and what to do, is said where it is read
            return None
        is_same = looks.st_mtime_ns == after.st_mtime_ns and looks.st_size == after.st_size
        return Beginning(data, looks.st_size, _state_of(path, looks) if is_same else None)

    def _read(self, path: str) -> tuple[bytes, FileState, FileState]:
        if self._objects is not None and is_object(path):
            data = self._objects.read(path, MOST_BYTES)
            now, unknown = self.state(path), FileState(path, -1, 0, 0)
            return data, now, unknown  # what came over a network, or was kept, is digested each time
        whole = self._whole(path)
        try:
            self._require_inside(path, whole, os.path.islink(whole))
            with open(whole, "rb", opener=nonblocking_opener) as file:
                looks = os.fstat(file.fileno())
                _require_regular_file(looks.st_mode)
                if looks.st_size > MOST_BYTES:
                    raise OSError(errno.EFBIG, f"it is larger than {MOST_BYTES // 1_000_000} MB")
                data = file.read()
                return data, _state_of(path, looks), _state_of(path, os.fstat(file.fileno()))
        except (OSError, ValueError) as error:
            if isinstance(error, OSError) and error.errno in (errno.EMFILE, errno.ENFILE):
                raise TooManyFiles(missing(path, error)) from None
            raise ProjectError(missing(path, error)) from None

    def holds(self, path: str) -> bool:
        """Whether a path, links followed, leads to somewhere beneath one of the folders."""
        if is_object(path):
            return False
        return self._roots is None or self._is_beneath(os.path.realpath(self.base / path.replace("\0", "")))

    def _require_inside(self, path: str, whole: str, is_link: bool) -> None:
        """See that a file lies beneath one of the folders; links in its folder's path are followed once and kept."""
        if self._roots is None:
            return
        parent, _, name = whole.rpartition(os.sep)
        if is_link or name in ("", ".", ".."):
            inside = self._is_beneath(os.path.realpath(whole))
        else:
            if parent not in self._inside:
                self._inside[parent] = self._is_beneath(os.path.realpath(parent or os.sep))
            inside = self._inside[parent]
        if not inside:
            what = "lies outside of the project, so it is not read and not sent"
            remedy = 'copy it in, or name its folder in drovik.toml: [pictures] from = ["FOLDER"]'
            raise ProjectError(Problem(what, remedy, path))

    def _is_beneath(self, real: str) -> bool:
        return any(real == root or real.startswith(root.rstrip(os.sep) + os.sep) for root in self._roots or ())


_HALF = 1 << 63


def kept_time(nanoseconds: int) -> int:
    """A file's time in the 64 bits that a store keeps; before 1678 and after 2262 it is another, always the same."""
    return nanoseconds if -_HALF <= nanoseconds < _HALF else (nanoseconds + _HALF) % (2 * _HALF) - _HALF


def _state_of(path: str, found: os.stat_result) -> FileState:
    return FileState(path, found.st_size, kept_time(found.st_mtime_ns), found.st_ino)


def _require_regular_file(mode: int) -> None:
    if stat.S_ISREG(mode):
        return
    if stat.S_ISDIR(mode):
        raise IsADirectoryError
    raise OSError(errno.EINVAL, "it is not a regular file")


def missing(path: str, error: OSError | ValueError) -> Problem:
    """The problem with a picture that cannot be read."""
    if isinstance(error, FileNotFoundError):
        return Problem("no such picture", "correct the path in the case, or put the file there", path)
    if isinstance(error, IsADirectoryError):
        return Problem("is a folder, not a picture", "name a file in it", path)
    reason = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return Problem(f"cannot be read: {reason}", "check the path and its permissions", path)


def source_digest(data: bytes) -> str:
    """The SHA-256 of a source file's bytes, in hexadecimal."""
    return digest_of_bytes(data)
