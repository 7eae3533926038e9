"""How often the scores of held-out cases were looked at: whoever chooses by them tunes on them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from datetime import UTC, datetime

from drovik.store.database import transaction


class Looks:
    """The looks that a store has counted, by task."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def add(self, task: str, arms: Sequence[str]) -> int:
        """Count a look at the held-out scores of a task's arms.

        :return: how many there are now.
        """
        with transaction(self._connection):
            row = (datetime.now(UTC).isoformat(timespec="seconds"), task, json.dumps(list(arms)))
            self._connection.execute("INSERT INTO held_out_looks (at, task, arms) VALUES (?, ?, ?)", row)
        return self.count(task)

    def count(self, task: str) -> int:
        """How many there are of a task."""
        row = self._connection.execute("SELECT COUNT(*) FROM held_out_looks WHERE task = ?", (task,)).fetchone()
        return int(row[0])
