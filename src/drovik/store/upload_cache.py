"""What services gave for pictures that were handed to them, so that each is handed over once while that lives."""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Mapping
from typing import Any

from drovik.store.group_writer import GroupWriter


class Handles:
    """Handles by the digest of endpoint, step and picture. They may be forgotten at any time."""

    def __init__(self, connection: sqlite3.Connection, writer: GroupWriter) -> None:
        self._connection, self._writer = connection, writer

    def find(self, key: str) -> dict[str, Any] | None:
        """What was taken for a picture, where it still lives."""
        query = "SELECT taken FROM handles WHERE key = ? AND expires > ?"
        row = self._connection.execute(query, (key, time.time())).fetchone()
        return dict(json.loads(row[0])) if row else None

    def keep(self, key: str, taken: Mapping[str, Any], lives: float) -> None:
        """Keep what was taken, for so many seconds."""
        row = (key, json.dumps(taken), time.time() + lives)
        self._writer.write(
            lambda connection: connection.execute("INSERT OR REPLACE INTO handles VALUES (?, ?, ?)", row)
        )

    def forget(self, key: str) -> None:
        """Have a picture handed over again."""
        self._writer.write(lambda connection: connection.execute("DELETE FROM handles WHERE key = ?", (key,)))
