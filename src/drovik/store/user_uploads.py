"""What services gave for pictures that were asked about by hand, in the user's state folder.

Each question by hand has a store of its own that is thrown away; what was uploaded lives on at the service, so that
the next command need not upload it again. It is a cache: what is wrong with its file is not worth an error.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

_TABLE = "CREATE TABLE IF NOT EXISTS handles (key TEXT PRIMARY KEY, taken TEXT NOT NULL, expires REAL NOT NULL)"


class UserUploads:
    """Handles by the digest of endpoint, step and picture, in a file. They may be forgotten at any time."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._connection: sqlite3.Connection | None = None

    def _open(self) -> sqlite3.Connection:
        if self._connection is None:
            self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._connection = sqlite3.connect(self._path, timeout=5.0, isolation_level=None)
            self._path.chmod(0o600)
            self._connection.execute(_TABLE)
            self._connection.execute("DELETE FROM handles WHERE expires <= ?", (time.time(),))
        return self._connection

    def find(self, key: str) -> dict[str, Any] | None:
        """What was taken for a picture, where it still lives."""
        with contextlib.suppress(sqlite3.Error, OSError, ValueError):
            row = (
                self._open()
                .execute("SELECT taken FROM handles WHERE key = ? AND expires > ?", (key, time.time()))
                .fetchone()
            )
            return dict(json.loads(row[0])) if row else None
        return None

    def keep(self, key: str, taken: Mapping[str, Any], lives: float) -> None:
        """Keep what was taken, for this many seconds."""
        with contextlib.suppress(sqlite3.Error, OSError):
            row = (key, json.dumps(taken), time.time() + lives)
            self._open().execute("INSERT OR REPLACE INTO handles VALUES (?, ?, ?)", row)

    def forget(self, key: str) -> None:
        """Have a picture handed over again."""
        with contextlib.suppress(sqlite3.Error, OSError):
            self._open().execute("DELETE FROM handles WHERE key = ?", (key,))
