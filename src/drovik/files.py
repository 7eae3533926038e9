"""Reading what people write, and writing files whole: the one place where such files are opened.

A name in a project may lead to anything: a pipe that nobody writes to, a device that never ends, a file of another
encoding, a folder, nothing. Whatever it is, it becomes the bytes, the text or the tree, or one Problem.
"""

from __future__ import annotations

import codecs
import json
import os
import shutil
import stat
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from decimal import Decimal
from pathlib import Path
from typing import Any, BinaryIO

from drovik.errors import Problem, ProjectError, UsageError

MAX_FILE_BYTES = 4_000_000
"""Of a file that a person writes by hand."""
MAX_DEPTH = 100
"""Of what is in such a file; readers and checkers that call themselves bear some ten times that."""
_OTHER_MARKS = ((codecs.BOM_UTF32_LE, "UTF-32"), (codecs.BOM_UTF16_LE, "UTF-16"), (codecs.BOM_UTF16_BE, "UTF-16"))


@contextmanager
def open_regular(path: Path | str, shown: str) -> Iterator[BinaryIO]:
    """A regular file, open for reading; nothing is waited for.

    :param shown: how the file is called in the error.
    :raises DrovikError: where it is not there, is not a regular file, or cannot be read.
    """
    # What goes wrong in the body is another matter, so that the file is opened before it.
    try:
        file = open(path, "rb", opener=nonblocking_opener)  # noqa: SIM115
    except (OSError, ValueError) as error:
        raise ProjectError(unreadable_problem(error, shown)) from None
    with file:
        mode = os.fstat(file.fileno()).st_mode
        if stat.S_ISDIR(mode):
            raise ProjectError(unreadable_problem(IsADirectoryError(), shown))
        if not stat.S_ISREG(mode):
            raise ProjectError(Problem("is not a regular file", "put a file of that name in its place", shown))
        yield file


def nonblocking_opener(path: str, flags: int) -> int:
    """Opens a file, and does not wait for ever on a pipe that nobody writes to."""
    return os.open(path, flags | getattr(os, "O_NONBLOCK", 0))


def unreadable_problem(error: OSError | ValueError, shown: str) -> Problem:
    """Why a file cannot be read."""
    if isinstance(error, FileNotFoundError | NotADirectoryError):
        return Problem("no such file", "create it, or correct its name", shown)
    if isinstance(error, IsADirectoryError):
        return Problem("is a folder, not a file", "give the file's name", shown)
    if isinstance(error, ValueError):
        return Problem("no file can have such a name", "correct it", shown.replace("\0", "\\0"))
    return Problem(f"cannot be read: {error.strerror}", "check its permissions", shown)


def read_bytes(path: Path | str, shown: str, most: int = MAX_FILE_BYTES) -> bytes:
    """The bytes of a file.

    :raises DrovikError: where it cannot be read, or has more than `most` bytes.
    """
    with open_regular(path, shown) as file:
        try:
            data = file.read(most + 1)
        except OSError as error:
            raise ProjectError(unreadable_problem(error, shown)) from None
    if len(data) > most:
        what = f"is too large for a file that you write: more than {most // 1_000_000} MB"
        raise ProjectError(Problem(what, "split it, or name another file", shown))
    return data


def read_text(path: Path | str, shown: str, most: int = MAX_FILE_BYTES) -> str:
    """The text of a UTF-8 file, without a byte order mark.

    :raises DrovikError: where it cannot be read, or is in another encoding.
    """
    return decoded(read_bytes(path, shown, most), shown)


def decoded(data: bytes, shown: str) -> str:
    """UTF-8 bytes as text.

    :raises DrovikError: where they are something else, with the line.
    """
    other = next((name for mark, name in _OTHER_MARKS if data.startswith(mark)), None)
    if other is not None:
        raise ProjectError(Problem(f"is in {other}", "save it as UTF-8", shown))
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise ProjectError(
            Problem(f"is not UTF-8 at byte {error.start}", "save it as UTF-8", shown, f"line {line}")
        ) from None


def read_json(path: Path | str, shown: str, most: int = MAX_FILE_BYTES) -> Any:
    """The value of a JSON file.

    :raises DrovikError: where it cannot be read, is not JSON, or is nested too deeply.
    """
    return parse_json(read_text(path, shown, most), shown)


def parse_json(text: str, shown: str) -> Any:
    """The value of a JSON text.

    :raises DrovikError: where it is not JSON, or is nested too deeply.
    """
    try:
        tree = json.loads(text)
    except json.JSONDecodeError as error:
        place = f"line {error.lineno}, column {error.colno}"
        raise ProjectError(Problem(f"is not JSON: {error.msg}", "correct it there", shown, place)) from None
    except RecursionError:
        raise ProjectError(_too_deep(shown)) from None
    except ValueError:  # a number of more digits than Python reads
        raise ProjectError(Problem("holds a number of thousands of digits", "write a shorter one", shown)) from None
    return _bounded(tree, shown)


def parse_toml(text: str, shown: str) -> dict[str, Any]:
    """The table of a TOML text, its decimals as `Decimal`.

    :raises DrovikError: where it is not TOML, or is nested too deeply.
    """
    try:
        table = tomllib.loads(text, parse_float=Decimal)
    except tomllib.TOMLDecodeError as error:
        raise ProjectError(Problem(f"is not valid TOML: {error}", "correct it there", shown)) from None
    except RecursionError:
        raise ProjectError(_too_deep(shown)) from None
    except (ValueError, ArithmeticError) as error:  # digits by the thousand, or a date that is none
        first = (str(error).splitlines() or ["a value cannot be read"])[0][:200]
        raise ProjectError(Problem(f"is not valid TOML: {first}", "correct it there", shown)) from None
    return dict(_bounded(table, shown))


def _bounded(tree: Any, shown: str) -> Any:
    if depth_exceeds(tree, MAX_DEPTH):
        raise ProjectError(_too_deep(shown))
    return tree


def _too_deep(shown: str) -> Problem:
    return Problem(f"is nested more than {MAX_DEPTH} deep", "flatten it", shown)


def depth_exceeds(tree: Any, most: int) -> bool:
    """Whether lists and tables lie more than so deep within each other; looked at layer by layer, by no recursion."""
    layer = [tree]
    for _ in range(most):
        layer = [inner for one in layer for inner in _inside(one) if isinstance(inner, dict | list)]
        if not layer:
            return False
    return True


def _inside(tree: Any) -> Any:
    return tree.values() if isinstance(tree, dict) else tree if isinstance(tree, list) else ()


@contextmanager
def written_whole(path: Path, make_folder: bool = True) -> Iterator[Path]:
    """Where to write a file that is there whole in the end, or as it was before; it may be read by whom it could be.

    A link gives way to the file: in a project of somebody else's it may lead to anywhere.

    :param make_folder: whether its folder is made if it is missing.
    :raises UsageError: if it cannot be written.
    """
    temporary = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        if path.is_char_device() or path.is_fifo():  # as /dev/stdout, which nothing takes the place of
            yield path
            return
        if make_folder:
            path.parent.mkdir(parents=True, exist_ok=True)
        yield temporary
        if path.is_file():
            shutil.copymode(path, temporary)
        temporary.replace(path)
    except OSError as error:
        no_folder = isinstance(error, FileExistsError | NotADirectoryError)
        why = "a file is where its folder would be" if no_folder else error.strerror or str(error)
        raise UsageError(Problem(f"cannot be written: {why}", "check its folder", str(path))) from None
    finally:
        with suppress(OSError):
            temporary.unlink()


def write_whole(path: Path, content: str | bytes, make_folder: bool = True) -> None:
    """Write a file so that it is there whole, or as it was before; see `written_whole`."""
    with written_whole(path, make_folder) as temporary:
        temporary.write_bytes(content if isinstance(content, bytes) else content.encode("utf-8", "replace"))
