"""Signs that a key stands where it should not: in what you write, in a dialect's bodies and URLs, in the cases.

Whether git would ignore a file, decided by reading its ignore files (gitignore(5)) and without running git.

Git runs programs that a checkout's own configuration names (`core.fsmonitor`, hooks, filters), so to run it in a
folder that somebody else made is to run a stranger's program. Here only text is read: no more of each file than a
megabyte, and regular files alone.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from drovik.errors import DrovikError, Problem
from drovik.files import nonblocking_opener, read_bytes
from drovik.project.cases import Case
from drovik.project.dialects import Dialect, HttpForm
from drovik.project.settings import FILE_NAME, Endpoint
from drovik.text import pattern

MOST_BYTES = 1_000_000
"""Of each ignore file; a longer one was not written by hand."""

_EXCLUDES_FILE = pattern(r"^\s*excludesfile\s*=\s*\"?([^\"\n]+?)\"?\s*$", re.IGNORECASE | re.MULTILINE)


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

    from pathspec import GitIgnoreSpec  # few commands need it, and it takes long to import

    for base, file in _ignore_files(root, git, parts):
        inside = "/".join(parts[base:])
        lines = _ignore_text(file).splitlines()
        shown = inside if len(parts) > base and not (root.joinpath(*parts)).is_dir() else f"{inside}/"
        try:
            found = GitIgnoreSpec.from_lines(lines).check_file(shown).include
        except ValueError:  # a line that is not a pattern: git passes over it too
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
        found: list[str] = _EXCLUDES_FILE.findall(_ignore_text(file))
        if found:
            return home / found[-1].removeprefix("~/")
    return configured / "ignore"


def _git_folder(root: Path) -> Path | None:
    """The folder of git's own data; a linked checkout has a file there that names it."""
    here = root / ".git"
    if here.is_dir():
        return here
    named = _ignore_text(here).partition("gitdir:")[2].strip()
    if not named or "\0" in named or not (folder := root / named).is_dir():
        return None
    common = _ignore_text(folder / "commondir").strip()
    return folder / common if common and "\0" not in common else folder


def _is_tracked(index: Path, name: str) -> bool:
    """Whether a name is in git's index: behind its own length in 12 bits, and before a zero byte."""
    written = name.encode("utf-8", "surrogateescape")
    length = min(len(written), 0xFFF)
    entry = re.compile(rb"[\x00-\xff]" + bytes([length & 0xFF]) + re.escape(written) + rb"\0", re.DOTALL)
    data = _bytes(index, 200_000_000)
    return any(data[one.start()] & 0x0F == length >> 8 for one in entry.finditer(data))


def _ignore_text(path: Path) -> str:
    return _bytes(path, MOST_BYTES).decode("utf-8", "replace")


def _bytes(path: Path, most: int) -> bytes:
    try:
        with open(path, "rb", opener=nonblocking_opener) as file:
            return file.read(most) if stat.S_ISREG(os.fstat(file.fileno()).st_mode) else b""
    except (OSError, ValueError):
        return b""


_LEAST = 20
"""Characters: no pattern below fits a shorter text."""
_RUN = pattern(r"(?<![A-Za-z0-9/+])(?=(?:[A-Za-z]*\d){4})(?=(?:\d*[A-Za-z]){4})[A-Za-z0-9]{20,}(?![A-Za-z0-9/+])")
"""Twenty letters and digits in a row, some of each: no name that a person gives looks so."""
_UUID = pattern(r"(?<![\w-])[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}(?![\w-])", re.IGNORECASE)
_PIECES = pattern(r"(?<![\w/+-])[A-Za-z0-9_-]{20,}(?![\w/+-])")
_TURNS = pattern(r"[A-Za-z]\d|\d[A-Za-z]")
_MIXED = 5
"""So often letter and digit stand side by side in a key that is written in groups; in a name with a date, never."""

_NAMES_A_MODEL = pattern(r"\s*(?:id|revision)\s*=")
_SECRET_NAME = pattern(r"authorization|api.?key|token|secret|password|^key$|[-_]key$", re.IGNORECASE)
_COUNTS = pattern(r"tokens|token_(?:count|limit)|max.?token", re.IGNORECASE)
_SLOT = pattern(r"\{[a-z][\w.]*\??\}")
_OWN_SLOT = pattern(r"\{key(?:\.basic)?\??\}")
_SHORTEST = 12
"""A value under a name such as `token` is a key if it is this long and has no space in it."""

_MOVE = "move it into .env, under the name that key_env gives, and replace it by another one"


def looks_like_a_key(text: str) -> bool:
    """Whether a word of a text is built as keys are."""
    if len(text) < _LEAST:
        return False
    if _RUN.search(text) or _UUID.search(text):
        return True
    return any(len(_TURNS.findall(one[0])) >= _MIXED for one in _PIECES.finditer(text))


def is_secret_name(name: str) -> bool:
    """Whether a header or member of that name carries a key."""
    return _SECRET_NAME.search(name) is not None and not _COUNTS.search(name)


def check_dialects(dialects: Mapping[str, Dialect]) -> list[Problem]:
    """Headers, queries and members of bodies that look as if they carry a key, and carry no `{key}` slot."""
    problems = []
    for name, dialect in dialects.items():
        for where, form in dialect.forms():
            for place, member, value in _members(form):
                if is_secret_name(member) and value and not _OWN_SLOT.search(value) and not _SLOT.fullmatch(value):
                    what = f"'{member}' seems to carry a key"
                    remedy = "write {key} there, and the key into the variable that key_env names"
                    problems.append(Problem(what, remedy, f"dialects/{name}.toml", f"{where}.{place}"))
    return problems


def _members(form: HttpForm) -> Iterator[tuple[str, str, str]]:
    """Every named text of a request: where it stands, its name, the text."""
    for part, members in (("headers", form.headers), ("query", form.query)):
        yield from ((part, name, value) for name, value in members.items())
    yield from (("path", name, value) for name, value in parse_qsl(urlsplit(form.path).query))
    waiting: list[Any] = [form.tree()]
    while waiting:
        tree = waiting.pop()
        if isinstance(tree, dict):
            yield from (("body", name, value) for name, value in tree.items() if isinstance(value, str))
            waiting += tree.values()
        elif isinstance(tree, list):
            waiting += tree


def check_urls(endpoints: Mapping[str, Endpoint]) -> list[Problem]:
    """URLs of endpoints in whose query a key seems to be."""
    problems = []
    for name, endpoint in endpoints.items():
        for member, value in parse_qsl(urlsplit(endpoint.url).query):
            if is_secret_name(member) or looks_like_a_key(value):
                remedy = 'write it as query = { … = "{key}" } in the dialect, and the key into .env'
                problems.append(
                    Problem(f"'{member}' seems to carry a key", remedy, FILE_NAME, f"endpoints.{name}.url")
                )
    return problems


def check_files(folder: Path, keys: Iterable[str]) -> list[Problem]:
    """Keys, and what looks like one, in the files that you write."""
    known = [key for key in keys if len(key) >= 6]
    problems = []
    for path in _written_files(folder):
        text = _text(path)
        sees_shapes = path.suffix == ".toml" or path.name.startswith(".env")
        for number, line in enumerate(text.splitlines(), 1):
            is_known = any(key in line for key in known)
            if is_known or (sees_shapes and looks_like_a_key(line) and not _NAMES_A_MODEL.match(line)):
                what = "there is a key in this file" if is_known else "there is what looks like a key in this file"
                problems.append(Problem(what, _MOVE, str(path.relative_to(folder)), f"line {number}"))
    return problems


def _text(path: Path) -> str:
    try:
        return read_bytes(path, path.name).decode("utf-8", "replace")
    except DrovikError:  # said by what needs the file
        return ""


def _written_files(folder: Path) -> list[Path]:
    patterns = ("*.toml", ".env.*", "dialects/*.toml", "tasks/*/*.toml", "tasks/*/*.json", "tasks/*/prompts/*.toml")
    return sorted(path for pattern in patterns for path in folder.glob(pattern) if path.is_file())


def check_cases(cases: Iterable[Case], source: str, keys: Iterable[str]) -> list[Problem]:
    """Keys in what the cases give to prompts, from where they would be sent.

    Ids and groups may well look like keys, so of those only the keys themselves are found.
    """
    known = [key for key in keys if len(key) >= 6]
    problems = []
    for case in cases:
        if any(key in case.id or key in (case.group or "") for key in known):
            problems.append(Problem("there is a key in this case", _MOVE, source, case.place))
        for name, value in case.given.items():
            if not isinstance(value, str):
                continue
            if any(key in value for key in known):
                problems.append(Problem("there is a key in this case", _MOVE, source, f"{case.place}: given.{name}"))
            elif looks_like_a_key(value) or (_is_one_long_word(value) and is_secret_name(name)):
                what = "there is what looks like a key in this case, and would be sent with the prompt"
                problems.append(Problem(what, _MOVE, source, f"{case.place}: given.{name}"))
    return problems


def _is_one_long_word(value: str) -> bool:
    return len(value) >= _SHORTEST and not any(char.isspace() for char in value)
