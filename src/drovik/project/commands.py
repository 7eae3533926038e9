"""Commands that a project brings along (`key_command`, `start`): what they are known by, and what they may see.

A command is agreed to as it is: in this folder, with this text, and with these files that it names. Whoever
changes one of them asks the person again. Its environment is a handful of variables: no key of another service,
and nothing by which a folder could change what a program loads.
"""

from __future__ import annotations

import os
import shlex
import stat
from collections.abc import Mapping, Sequence
from pathlib import Path

from drovik.errors import ConsentError, Problem
from drovik.project.arms import digest, digest_of_bytes

KEPT_VARIABLES = (
    "PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LANGUAGE", "TZ", "TERM", "TMPDIR", "TEMP", "TMP",
    "SYSTEMROOT", "DISPLAY", "WAYLAND_DISPLAY", "DBUS_SESSION_BUS_ADDRESS", "SSH_AUTH_SOCK", "GNUPGHOME",
)  # fmt: skip
"""What a command needs to find programs, the user's own keyring and a language to answer in."""
_KEPT_FAMILIES = ("LC_", "XDG_")

DIGESTED_WHOLE = 64_000_000
"""Bytes. A larger file (the weights of a model, say) is known by its size, time and inode: a start that reads 40 GB
just to see that nothing changed would be switched off by everybody."""


def words_of(command: str, place: str) -> list[str]:
    """The words of a command; no shell is used.

    :param place: where it is written, for the error.
    :raises DrovikError: where its quotes do not match, or there is nothing in it.
    """
    try:
        words = shlex.split(command)
    except ValueError as error:
        raise ConsentError(Problem(f"is not a command: {error}", "close its quotes", "drovik.toml", place)) from None
    if not words:
        raise ConsentError(
            Problem("is not a command: it is empty", "write one, or take it out", "drovik.toml", place)
        )
    return words


def command_mark(command: str, folder: Path, kind: str, passed: Sequence[str] = ()) -> str:
    """What a command that was agreed to is known by: folder, kind, text, and the files that it names.

    :param passed: the variables that it is given beside the usual ones.
    """
    files = [[str(path), _state_of(path)] for path in named_files(words_of(command, kind), folder)]
    return f"command {digest([str(folder.resolve()), kind, command, files, sorted(passed)])[:32]}"


def named_files(words: Sequence[str], folder: Path) -> list[Path]:
    """The files of a command's words as its program would find them from the folder: scripts, modules, settings.

    A word may be a file, the value of an option (`--config=FILE`), or a Python module of the folder (`-m NAME`).
    """
    found: dict[Path, None] = {}
    for word in words:
        for name in (word, word.partition("=")[2]):
            for spelling in (name, f"{name}.py", f"{name}/__main__.py") if name and "\0" not in name else ():
                path = folder / os.path.expanduser(spelling)
                if _is_file(path):
                    found.setdefault(path)
    return list(found)


def _is_file(path: Path) -> bool:
    try:
        return stat.S_ISREG(path.stat().st_mode)
    except (OSError, ValueError):
        return False


def _state_of(path: Path) -> str:
    try:
        looks = path.stat()
        if looks.st_size > DIGESTED_WHOLE:
            return f"{looks.st_size} {looks.st_mtime_ns} {looks.st_ino}"
        return digest_of_bytes(path.read_bytes())
    except OSError:
        return "unreadable"


def environment_for(passed: Sequence[str] = (), environment: Mapping[str, str] | None = None) -> dict[str, str]:
    """The variables that a command sees.

    :param passed: names of further ones, as the endpoint's `pass_env` has them.
    """
    whole = os.environ if environment is None else environment
    wanted = {*KEPT_VARIABLES, *passed}
    return {name: value for name, value in whole.items() if name in wanted or name.startswith(_KEPT_FAMILIES)}
