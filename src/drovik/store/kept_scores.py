"""Two caches of scores in the store: what answers came to, pair by pair, and what commands printed of all of them.

What was printed holds for one revision of the store: a number that grows with every change of what scores are made
of, which the database counts itself (triggers), so that no program can forget to.
"""

from __future__ import annotations

import contextlib
import itertools
import sqlite3
import time
from collections.abc import Iterable
from typing import NamedTuple

from drovik.errors import DrovikError
from drovik.store.database import BROKEN, transaction

MOST_PAIRS = 1_000_000
"""Of one measure; where there are more, they are all forgotten, for most of them are of answers of long ago."""
MOST_OUTPUTS = 50
"""Outputs of commands; those that were of use longest ago are forgotten first."""
_AT_ONCE = 10_000
_KEEP_PAIR = "INSERT INTO judged VALUES (?, ?, ?) ON CONFLICT DO NOTHING"
_KEEP_OUTPUT = (
    "INSERT INTO outputs VALUES (?, ?, ?, ?, ?) ON CONFLICT (command) DO UPDATE SET revision = excluded.revision,"
    " files = excluded.files, output = excluded.output, used = excluded.used"
)
_DROP_OLD = "DELETE FROM outputs WHERE command NOT IN (SELECT command FROM outputs ORDER BY used DESC LIMIT ?)"


class KeptOutput(NamedTuple):
    """What a command printed, and the digest of the files that it read."""

    files: str
    text: str


class KeptScores:
    """The scores that a store keeps. They may be forgotten at any time; they are made again."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def pairs(self, measure: str) -> dict[bytes, str]:
        """By the digests of pairs, what they came to by a measure, which is known by its digest."""
        with contextlib.suppress(*BROKEN):
            rows = self._connection.execute("SELECT pair, came_to FROM judged WHERE measure = ?", (measure,))
            return {bytes(pair): came_to for pair, came_to in rows}
        return {}

    def keep_pairs(self, measure: str, count: int, fresh: Iterable[tuple[bytes, str]]) -> int:
        """Keep what further pairs came to; where the store cannot be written, they are not kept.

        :param count: how many there are with those that are kept already; where that is too many, these are dropped.
        :return: how many there are now.
        """
        rows = ((measure, pair, came_to) for pair, came_to in fresh)
        written = 0
        with contextlib.suppress(DrovikError):
            if count > MOST_PAIRS:
                with transaction(self._connection):
                    self._connection.execute("DELETE FROM judged WHERE measure = ?", (measure,))
            every = itertools.islice(rows, MOST_PAIRS)
            while some := list(itertools.islice(every, _AT_ONCE)):
                with transaction(self._connection):
                    self._connection.executemany(_KEEP_PAIR, some)
                written += len(some)
        return count if count <= MOST_PAIRS else written

    def revision(self) -> int:
        """How often what scores are made of was changed."""
        return int(self._connection.execute("SELECT number FROM revision").fetchone()[0])

    def output(self, command: str) -> KeptOutput | None:
        """What a command printed, where the store is as it was then.

        :param command: the digest of its words, and of all else than files and store that its output depends on.
        """
        query = "SELECT files, output FROM outputs WHERE command = ? AND revision = (SELECT number FROM revision)"
        with contextlib.suppress(*BROKEN):
            row = self._connection.execute(query, (command,)).fetchone()
            return None if row is None else KeptOutput(*row)
        return None

    def keep_output(self, command: str, revision: int, made: KeptOutput) -> None:
        """Keep what a command printed, unless the store has changed since it was read.

        :param revision: of the store before the command read it.
        """
        with contextlib.suppress(DrovikError), transaction(self._connection):
            if self.revision() == revision:
                self._connection.execute(_KEEP_OUTPUT, (command, revision, *made, time.time()))
                self._connection.execute(_DROP_OLD, (MOST_OUTPUTS,))
