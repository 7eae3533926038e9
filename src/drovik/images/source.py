"""A picture's file on disk: its bytes, its digest, and what the file system says of it."""

from __future__ import annotations

import errno
import hashlib
import os
import stat
from pathlib import Path
from typing import NamedTuple

from drovik.problems import DrovikError, Problem


class TooManyFiles(DrovikError):
    """No more files can be open now; what is open is on its way to be closed."""


class FileState(NamedTuple):
    """What tells, without reading it, that a file is the same as before."""

    path: str
    size: int
    mtime_ns: int
    inode: int


def file_state(folder: Path, path: str) -> FileState:
    """The state of a picture's file.

    :param path: as the case names it, from the project's `folder`.
    :raises DrovikError: where there is no such file.
    """
    try:
        # There may be a hundred thousand of them: a joined path of pathlib's or os.path's takes as long as the rest.
        found = os.stat(path if path.startswith(os.sep) else f"{folder}/{path}")
        _see_that_it_is_a_file(found.st_mode)
    except (OSError, ValueError) as error:
        raise DrovikError(missing(path, error)) from None
    return FileState(path, found.st_size, found.st_mtime_ns, found.st_ino)


def read_source(folder: Path, path: str) -> bytes:
    """The bytes of a picture's file.

    :raises DrovikError: where it cannot be read.
    """
    try:
        with open(folder / path, "rb", opener=_without_waiting) as file:
            _see_that_it_is_a_file(os.fstat(file.fileno()).st_mode)
            return file.read()
    except (OSError, ValueError) as error:
        if isinstance(error, OSError) and error.errno in (errno.EMFILE, errno.ENFILE):
            raise TooManyFiles(missing(path, error)) from None
        raise DrovikError(missing(path, error)) from None


def _without_waiting(path: str, flags: int) -> int:
    """Opens a file, and does not wait for ever on a pipe that nobody writes to."""
    return os.open(path, flags | getattr(os, "O_NONBLOCK", 0))


def _see_that_it_is_a_file(mode: int) -> None:
    if stat.S_ISREG(mode):
        return
    if stat.S_ISDIR(mode):
        raise IsADirectoryError
    raise OSError(errno.EINVAL, "it is no regular file")


def missing(path: str, error: OSError | ValueError) -> Problem:
    """The problem with a picture that cannot be read."""
    if isinstance(error, FileNotFoundError):
        return Problem("there is no such picture", "correct the path in the case, or put the file there", path)
    if isinstance(error, IsADirectoryError):
        return Problem("is a folder, not a picture", "name a file in it", path)
    reason = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return Problem(f"cannot be read: {reason}", "check the path and its permissions", path)


def source_digest(data: bytes) -> str:
    """The SHA-256 of a source file's bytes, in hexadecimal."""
    return hashlib.sha256(data).hexdigest()
