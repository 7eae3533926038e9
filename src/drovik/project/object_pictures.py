"""Pictures at addresses of object stores and file servers (`s3://bucket/name`), through fsspec.

A store is asked once what lies in a folder, in place of once for each picture; what was read is kept on this machine
within bounds. Nothing is asked of a store before somebody agreed to it, for the request alone would tell whoever
wrote the project where it is used, and may carry this machine's credentials.
"""

from __future__ import annotations

import errno
import hashlib
import importlib
import json
import re
import uuid
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from typing import Any, NamedTuple
from urllib.parse import urljoin

from drovik.errors import ConsentError, DrovikError, Problem, ProjectError
from drovik.kept_files import KeptFiles

_WEB = ("http", "https")
READERS = 16
"""Threads that read at once: each waits for the network for nearly all of its time."""
_DIGEST = 32
"""Bytes: what is kept begins with the digest of the rest, so that damage is seen."""
_LISTED_FROM = 5
"""Pictures of one folder from which on it is listed: a list tells of a thousand objects in one request."""
_ADDRESS = re.compile(r"([a-z][a-z0-9+.-]*)://.")
_SAME_AS_PATHS = ("file", "local", "dir", "reference")
"""Kinds of address that lead to this machine's own files, past what was agreed to of folders."""
_TELLING = (
    "etag", "e_tag", "content-md5", "md5hash", "md5", "checksum", "digest", "version_id", "generation",
    "lastmodified", "last_modified", "last-modified", "mtime", "modified", "updated", "modify",
)  # fmt: skip
"""What a store may say of an object that tells whether it is the same as before, in lower case."""


class ObjectState(NamedTuple):
    """What tells, without reading it, that an object is the same as before: its size, and a mark of its version."""

    size: int
    mark: int


def is_object(path: str) -> bool:
    """Whether a picture's path is an address of an object."""
    return "://" in path and _ADDRESS.match(path) is not None


class _RedirectError(OSError):
    """A server sends on to another address, to which nobody agreed: it may be one that only this machine reaches."""


class ObjectPictures:
    """The objects beneath some addresses.

    :param prefixes: beneath which objects may be read, as `[pictures] from` names them.
    :param agreed: whether somebody agreed to a prefix.
    :param kept: where what was read is kept.
    """

    def __init__(self, prefixes: Sequence[str], agreed: Callable[[str], bool], kept: KeptFiles) -> None:
        self._prefixes, self._agreed, self._kept = prefixes, agreed, kept
        self._states: dict[str, ObjectState] = {}
        self._allowed: set[str] = set()

    def state(self, path: str) -> ObjectState:
        """The state of an object; asked once for each.

        :raises DrovikError: if it does not exist, or may not be read.
        """
        if path not in self._states:
            files, inside = self._opened(path)
            self._states[path] = _state_of(_done(path, files.info, inside))
        return self._states[path]

    def look_up(self, paths: Iterable[str]) -> None:
        """Ask for the states of many objects at once. What goes wrong is said by `state`."""
        folders: dict[str, list[str]] = defaultdict(list)
        for path in paths:
            if path not in self._states:
                folders[path.rpartition("/")[0]].append(path)
        for folder, inside in folders.items():
            if len(inside) >= _LISTED_FROM:
                self._list(folder, inside)
        left = [path for inside in folders.values() for path in inside if path not in self._states]
        self.each(left, self._try_state)

    def _try_state(self, path: str) -> None:
        try:
            self.state(path)
        except DrovikError:
            return

    def _list(self, folder: str, wanted: Sequence[str]) -> None:
        try:
            files, first = self._opened(wanted[0])
            inside = first.rpartition("/")[0]
            entries = _done(folder, files.ls, inside, detail=True)
        except DrovikError:
            return
        found = {str(one.get("name", "")): one for one in entries}
        for path in wanted:
            entry = found.get(f"{inside}/{path.rpartition('/')[2]}")
            if entry is not None and entry.get("type", "file") == "file" and _tells(entry):
                self._states[path] = _state_of(entry)

    def each(self, paths: Sequence[str], work: Callable[[str], Any]) -> list[Any]:
        """Do something for each of many objects, several at once; the results in order."""
        if len(paths) < 2:
            return [work(path) for path in paths]
        with ThreadPoolExecutor(READERS, "objects") as pool:
            return list(pool.map(work, paths))

    def read(self, path: str, most_bytes: int) -> bytes:
        """The bytes of an object: as they were kept, where it is the same as then.

        :raises DrovikError: where it cannot be read, or may not be.
        """
        state = self.state(path)
        name = hashlib.sha256(json.dumps([path, *state]).encode()).hexdigest()
        kept = self._kept.read(name) or b""
        if hashlib.sha256(kept[_DIGEST:]).digest() == kept[:_DIGEST]:
            self._kept.note_use(name)
            return kept[_DIGEST:]
        if state.size > most_bytes:
            raise _unreadable(path, OSError(errno.EFBIG, f"it is larger than {most_bytes // 1_000_000} MB"))
        files, inside = self._opened(path)
        data = bytes(_done(path, files.cat_file, inside))
        if len(data) == state.size:
            self._kept.write(name, hashlib.sha256(data).digest() + data)
        return data

    def _opened(self, path: str) -> tuple[Any, str]:
        """The store of an address, and the object's name in it.

        :raises DrovikError: where nobody agreed to it, or it cannot be reached from here.
        """
        self._require_agreed(path)
        try:
            opened = importlib.import_module("fsspec").url_to_fs
        except ImportError:
            raise ProjectError(Problem("is at an address", "install: pip install 'drovik[objects]'", path)) from None
        options = self._watched if path.partition("://")[0] in _WEB else {}
        try:
            return opened(path, **options)  # type: ignore[no-any-return]
        except ImportError as error:
            raise ProjectError(Problem(f"needs one more package: {error}", "install it", path)) from None
        except ValueError as error:
            raise ProjectError(Problem(f"cannot be read: {error}", "correct the address", path)) from None
        except Exception as error:  # each kind of store has errors of its own
            raise _unreadable(path, error) from None

    @cached_property
    def _watched(self) -> dict[str, Any]:
        """What has an HTTP client follow a server only to where somebody agreed to go."""
        aiohttp = importlib.import_module("aiohttp")

        async def watch(session: object, context: object, asked: Any) -> None:
            target = urljoin(str(asked.url), asked.response.headers.get("Location", ""))
            try:
                self._require_agreed(target)
            except DrovikError:
                raise _RedirectError(f"its server sends on to {target[:150]}") from None

        tracing = aiohttp.TraceConfig()
        tracing.on_request_redirect.append(watch)
        return {"client_kwargs": {"trace_configs": [tracing]}}

    def _require_agreed(self, path: str) -> None:
        folder = path.rpartition("/")[0]
        if folder in self._allowed:
            return
        kind = path.partition("://")[0]
        if kind in _SAME_AS_PATHS or "::" in path or {".", ".."} & set(path.split("/")):
            remedy = "write a path, or the plain address of an object"
            raise ProjectError(Problem("is no address that pictures are read from", remedy, path))
        prefix = next((one for one in self._prefixes if path.startswith(one.rstrip("/") + "/")), None)
        if prefix is None:
            remedy = f'name it in drovik.toml: [pictures] from = ["{folder}/"]'
            raise ProjectError(Problem("lies outside of the project, so it is not read and not sent", remedy, path))
        if not self._agreed(prefix):
            what = f"pictures from {prefix} were never agreed to"
            raise ConsentError(Problem(what, "if they may be read, say once: drovik check --trust", path))
        self._allowed.add(folder)


def _done(path: str, action: Callable[..., Any], *words: Any, **options: Any) -> Any:
    """What a store does, its errors as ours."""
    try:
        return action(*words, **options)
    except Exception as error:  # each kind of store has errors of its own
        raise _unreadable(path, error) from None


def _unreadable(path: str, error: Exception) -> DrovikError:
    redirect = error if isinstance(error, _RedirectError) else error.__cause__
    if isinstance(redirect, _RedirectError):
        remedy = "name that place too in drovik.toml: [pictures] from, if you trust it"
        return ProjectError(Problem(f"cannot be read: {redirect}", remedy, path))
    if isinstance(error, FileNotFoundError):
        return ProjectError(Problem("no such picture", "correct the address in the case, or put it there", path))
    if isinstance(error, PermissionError):
        return ProjectError(Problem("may not be read", "check the credentials of that store", path))
    words = (getattr(error, "strerror", None) or str(error) or type(error).__name__).splitlines()[0][:200]
    return ProjectError(Problem(f"cannot be read: {words}", "check the address, the network and credentials", path))


def _told(entry: Mapping[str, Any]) -> dict[str, str]:
    """What a store says that tells one version of an object from the next."""
    plain = {str(name).lower(): value for name, value in entry.items()}
    return {name: str(plain[name]) for name in _TELLING if plain.get(name) not in (None, "")}


def _tells(entry: Mapping[str, Any]) -> bool:
    return isinstance(entry.get("size"), int) and bool(_told(entry))


def _state_of(entry: Mapping[str, Any]) -> ObjectState:
    """The state of an object, by what its store says. Where that tells nothing it is another one each time."""
    told = _told(entry) or {"unknown": uuid.uuid4().hex}
    mark = int.from_bytes(hashlib.sha256(json.dumps(told, sort_keys=True).encode()).digest()[:7])
    size = entry.get("size")
    return ObjectState(size if isinstance(size, int) else -1, mark)
