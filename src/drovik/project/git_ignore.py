"""Whether git would ignore a file, decided by reading its ignore files (gitignore(5)) and without running git.

Git runs programs that a checkout's own configuration names (`core.fsmonitor`, hooks, filters), so to run it in a
folder that somebody else made is to run a stranger's program. Here only text is read: no more of each file than a
megabyte, and regular files alone.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator
from pathlib import Path

from drovik.files import without_waiting

MOST_BYTES = 1_000_000
"""Of each ignore file; a longer one was not written by hand."""

_EXCLUDES_FILE = re.compile(r"^\s*excludesfile\s*=\s*\"?([^\"\n]+?)\"?\s*$", re.IGNORECASE | re.MULTILINE)


def would_be_committed(path: Path) -> bool:
    """Whether a file lies in a git checkout that does not ignore it, or that has taken it up already."""
    path = path.absolute()
    root = next((one for one in path.parents if os.path.lexists(one / ".git")), None)
    if root is None:
        return False
    parts = path.relative_to(root).parts
    git = _git_folder(root)
    if git is not None and _is_tracked(git / "index", "/".join(parts)):
        return True
    return not any(_is_ignored(root, git, parts[:count]) for count in range(1, len(parts) + 1))


def _is_ignored(root: Path, git: Path | None, parts: tuple[str, ...]) -> bool:
    """Whether the last rule about a file or folder excludes it: the nearest ignore file counts most."""
    from pathspec import GitIgnoreSpec

    for base, file in _ignore_files(root, git, parts):
        inside = "/".join(parts[base:])
        lines = _text(file).splitlines()
        shown = inside if len(parts) > base and not (root.joinpath(*parts)).is_dir() else f"{inside}/"
        try:
            found = GitIgnoreSpec.from_lines(lines).check_file(shown).include
        except ValueError:  # a line that is no pattern: git passes over it too
            continue
        if found is not None:
            return found
    return False


def _ignore_files(root: Path, git: Path | None, parts: tuple[str, ...]) -> Iterator[tuple[int, Path]]:
    """The ignore files that may speak of a path, the strongest first, and how many folders each lies below root."""
    for depth in range(len(parts) - 1, -1, -1):
        yield depth, root.joinpath(*parts[:depth], ".gitignore")
    if git is not None:
        yield 0, git / "info" / "exclude"
    yield 0, _own_excludes()


def _own_excludes() -> Path:
    """The ignore file of the person who runs this, for all of their checkouts."""
    home = Path(os.environ.get("HOME") or "/nonexistent")
    configured = Path(os.environ.get("XDG_CONFIG_HOME") or home / ".config") / "git"
    for file in (home / ".gitconfig", configured / "config"):
        found: list[str] = _EXCLUDES_FILE.findall(_text(file))
        if found:
            return home / found[-1].removeprefix("~/")
    return configured / "ignore"


def _git_folder(root: Path) -> Path | None:
    """The folder of git's own data; a linked checkout has a file there that names it."""
    here = root / ".git"
    if here.is_dir():
        return here
    named = _text(here).partition("gitdir:")[2].strip()
    if not named or "\0" in named or not (folder := root / named).is_dir():
        return None
    common = _text(folder / "commondir").strip()
    return folder / common if common and "\0" not in common else folder


def _is_tracked(index: Path, name: str) -> bool:
    """Whether a name is in git's index: behind its own length in 12 bits, and before a zero byte."""
    written = name.encode("utf-8", "surrogateescape")
    length = min(len(written), 0xFFF)
    entry = re.compile(rb"[\x00-\xff]" + bytes([length & 0xFF]) + re.escape(written) + rb"\0", re.DOTALL)
    data = _bytes(index, 200_000_000)
    return any(data[one.start()] & 0x0F == length >> 8 for one in entry.finditer(data))


def _text(path: Path) -> str:
    return _bytes(path, MOST_BYTES).decode("utf-8", "replace")


def _bytes(path: Path, most: int) -> bytes:
    try:
        with open(path, "rb", opener=without_waiting) as file:
            return file.read(most) if stat.S_ISREG(os.fstat(file.fileno()).st_mode) else b""
    except (OSError, ValueError):
        return b""
