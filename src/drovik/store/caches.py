"""Two caches of digests in the store: of pictures' files, and of what preps made of them.

What services gave for pictures that were handed to them, so that each is handed over once while that lives.
"""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache
from typing import Any

from drovik.images.decode.facts import PictureFacts
from drovik.images.decode.shots import Shot
from drovik.project.picture_files import FileLooks, FileState
from drovik.store.database import transaction
from drovik.store.group_writer import GroupWriter

_KEEP_SOURCE = (
    "INSERT INTO sources VALUES (?, ?, ?, ?, ?) ON CONFLICT (path) DO UPDATE SET size = excluded.size,"
    " mtime_ns = excluded.mtime_ns, inode = excluded.inode, digest = excluded.digest"
)
_KEEP_LOOK = "INSERT INTO looks VALUES (?, ?, ?) ON CONFLICT (source, prep) DO UPDATE SET facts = excluded.facts"
_KEEP_HANDLE = (
    "INSERT INTO handles VALUES (?, ?, ?)"
    " ON CONFLICT (key) DO UPDATE SET taken = excluded.taken, expires = excluded.expires"
)
_REMEMBERED = 50_000
"""Facts kept in memory: some 10 MB."""


class PictureCache:
    """The digests that a store keeps. The files' may be forgotten at any time; they are computed again."""

    def __init__(self, connection: sqlite3.Connection, writer: GroupWriter) -> None:
        self._connection, self._writer = connection, writer
        self._made: dict[tuple[str, str], str] = {}
        self._looks: list[tuple[str, str, str]] = []

    def of_sources(
        self, wanted: Mapping[str, FileLooks], compute: Callable[[list[str]], Iterable[str]]
    ) -> dict[str, str]:
        """The digest of each picture's file by its path; computed only where the file looks changed.

        :param wanted: what the files look like now.
        :param compute: takes paths and gives the digests of what is there now.
        """
        rows = self._connection.execute("SELECT path, size, mtime_ns, inode, digest FROM sources")
        now = wanted.get
        found = {path: digest for path, size, mtime_ns, inode, digest in rows if now(path) == (size, mtime_ns, inode)}
        if len(found) < len(wanted):
            changed = [path for path in wanted if path not in found]
            fresh = [(path, *wanted[path], digest) for path, digest in zip(changed, compute(changed), strict=True)]
            found.update((path, digest) for path, *_, digest in fresh)
            with transaction(self._connection):
                self._connection.executemany(_KEEP_SOURCE, fresh)
        return found

    def unchanged(self) -> Callable[[FileState], str | None]:
        """Gives the digest of a file that looks as it did when it was digested; None for others."""
        rows = self._connection.execute("SELECT path, digest, size, mtime_ns, inode FROM sources")
        known = {path: (digest, tuple(looks)) for path, digest, *looks in rows}

        def digest_of(state: FileState) -> str | None:
            digest, looks = known.get(state.path, (None, ()))
            return digest if looks == state[1:] else None

        return digest_of

    def forget_source(self, path: str) -> None:
        """Have a picture's digest computed again the next time."""
        with transaction(self._connection):
            self._connection.execute("DELETE FROM sources WHERE path = ?", (path,))

    def note_prepared(
        self, source: str, prep: str, digest: str, places: Sequence[Mapping[str, Any]], differs: Callable[[], None]
    ) -> None:
        """Keep what a prep made of a source, with the next commit.

        :param places: where each of the pictures comes from in the source.
        :param differs: called where it made other bytes before; what is kept stays.
        """
        key = (source, prep)
        if self._made.get(key) == digest:
            return
        if len(self._made) >= _REMEMBERED:
            self._made.clear()
        self._made[key] = digest
        self._writer.write_with(_keep_prepared, ((*key, digest, json.dumps(places)), differs))

    def places(self, source: str, prep: str) -> list[dict[str, Any]]:
        """Where each picture that a prep made of a source comes from; none where that was never sent."""
        row = self._connection.execute("SELECT places FROM prepared WHERE source = ? AND prep = ?", (source, prep))
        found = row.fetchone()
        return list(json.loads(found[0])) if found else []

    def facts(self, source: str, prep: str) -> PictureFacts | None:
        """What is kept of what a source is."""
        row = self._connection.execute("SELECT facts FROM looks WHERE source = ? AND prep = ?", (source, prep))
        found = row.fetchone()
        return None if found is None else _facts(found[0])

    def every_fact(self, prep: str) -> dict[str, PictureFacts]:
        """What is kept of all sources by one prep, at once."""
        rows = self._connection.execute("SELECT source, facts FROM looks WHERE prep = ?", (prep,))
        return {source: _facts(text) for source, text in rows}

    def keep_facts(self, source: str, prep: str, facts: PictureFacts) -> None:
        """Keep what a source is, with the next `write_facts`."""
        self._looks.append((source, prep, _text_of(facts)))

    def write_facts(self) -> None:
        """Write what was to be kept."""
        if self._looks:
            with transaction(self._connection):
                self._connection.executemany(_KEEP_LOOK, self._looks)
            self._looks.clear()


@lru_cache(maxsize=10_000)
def _text_of(facts: PictureFacts) -> str:
    return json.dumps([facts.format, facts.sizes, facts.orientation, facts.shots, facts.count])


@lru_cache(maxsize=10_000)
def _facts(text: str) -> PictureFacts:
    """What a source is, as it is kept; most pictures of a camera are the same."""
    format_, sizes, orientation, shots, count = json.loads(text)
    return PictureFacts(
        format_, tuple((one[0], one[1]) for one in sizes), orientation, tuple(Shot(*one) for one in shots), count
    )


def _keep_prepared(
    connection: sqlite3.Connection, facts: list[tuple[tuple[str, str, str, str], Callable[[], object]]]
) -> list[None]:
    """Keep what preps made of sources; what was kept before stays, and whoever made other bytes is reported."""
    rows = [row for row, _ in facts]
    if connection.executemany("INSERT INTO prepared VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING", rows).rowcount < len(
        rows
    ):
        query = "SELECT digest FROM prepared WHERE source = ? AND prep = ?"
        for (source, prep, digest, _), differs in facts:
            if connection.execute(query, (source, prep)).fetchone()[0] != digest:
                differs()
    return [None] * len(facts)


class UploadCache:
    """Handles by the digest of endpoint, step and picture. They may be forgotten at any time."""

    def __init__(self, connection: sqlite3.Connection, writer: GroupWriter) -> None:
        self._connection, self._writer = connection, writer

    def find(self, key: str) -> dict[str, Any] | None:
        """What was taken for a picture, where it still lives."""
        query = "SELECT taken FROM handles WHERE key = ? AND expires > ?"
        row = self._connection.execute(query, (key, time.time())).fetchone()
        return dict(json.loads(row[0])) if row else None

    def keep(self, key: str, taken: Mapping[str, Any], lives: float) -> None:
        """Keep what was taken, for this many seconds."""
        row = (key, json.dumps(taken), time.time() + lives)
        self._writer.write(lambda connection: connection.execute(_KEEP_HANDLE, row))

    def forget(self, key: str) -> None:
        """Have a picture handed over again."""
        self._writer.write(lambda connection: connection.execute("DELETE FROM handles WHERE key = ?", (key,)))
