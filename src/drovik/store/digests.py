"""Two caches of digests in the store: of pictures' files, and of what preps made of them."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterable

from drovik.images.source import FileState
from drovik.store.database import GroupWriter, transaction


class Digests:
    """The digests that a store keeps. The files' may be forgotten at any time; they are computed anew."""

    def __init__(self, connection: sqlite3.Connection, writer: GroupWriter) -> None:
        self._connection, self._writer = connection, writer

    def of_sources(self, wanted: Iterable[FileState], compute: Callable[[str], str]) -> dict[str, str]:
        """The digest of each picture's file by its path; computed only where the file looks changed.

        :param compute: takes a path and gives the digest of what is there now.
        """
        kept = {
            path: (tuple(state), digest) for path, *state, digest in self._connection.execute("SELECT * FROM sources")
        }
        found: dict[str, str] = {}
        fresh = []
        for state in wanted:
            looks = (state.size, state.mtime_ns, state.inode)
            if state.path in kept and kept[state.path][0] == looks:
                found[state.path] = kept[state.path][1]
            else:
                found[state.path] = compute(state.path)
                fresh.append((state.path, *looks, found[state.path]))
        if fresh:
            with transaction(self._connection):
                self._connection.executemany("INSERT OR REPLACE INTO sources VALUES (?, ?, ?, ?, ?)", fresh)
        return found

    def forget_source(self, path: str) -> None:
        """Have a picture's digest computed anew the next time."""
        with transaction(self._connection):
            self._connection.execute("DELETE FROM sources WHERE path = ?", (path,))

    def note_prepared(self, source: str, prep: str, digest: str) -> bool:
        """Keep the digest of what a prep made of a source; False where it made other bytes before."""
        key = (source, prep)
        row = self._connection.execute("SELECT digest FROM prepared WHERE source = ? AND prep = ?", key).fetchone()
        if row is None:
            query = "INSERT OR REPLACE INTO prepared VALUES (?, ?, ?)"
            self._writer.write(lambda connection: connection.execute(query, (*key, digest)))
        return row is None or row[0] == digest
