"""What programs on this machine that use one endpoint share: who they are, their limits, a service's "not now".

One small SQLite file in the user's own folder. It holds no key and nothing of what is sent; where it cannot be
written, each program keeps to the limits by itself, and says so.
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from drovik.project.settings import Limits
from drovik.store.claims import born, is_running

_TABLES = """
CREATE TABLE IF NOT EXISTS users (
    id INTEGER PRIMARY KEY, endpoint TEXT, pid INTEGER, born TEXT, in_use INTEGER);
CREATE TABLE IF NOT EXISTS due (endpoint TEXT, what TEXT, at REAL, PRIMARY KEY (endpoint, what)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS used (
    endpoint TEXT, what TEXT, hour INTEGER, count INTEGER, PRIMARY KEY (endpoint, what, hour)) WITHOUT ROWID
"""
_MINUTE, _HOUR, _DAY_HOURS = 60.0, 3600, 24
_BURST_SHARE = 20
"""A minute's limit may be used up to this part of it at once; the rest is spread, so that no minute has more."""


@dataclass(frozen=True)
class Share:
    """How many slots this program may use now, and how many programs use the endpoint."""

    slots: int
    users: int


class Sharing:
    """This program's part in an endpoint's limits.

    :param path: the file; None for a program that keeps to the limits by itself.
    """

    def __init__(self, path: Path | None, endpoint: str, limits: Limits) -> None:
        self._endpoint, self._limits = endpoint, limits
        self.alone = False
        try:
            self._connection = self._opened(path)
        except (sqlite3.Error, OSError):
            self._connection, self.alone = self._opened(None), True
        with self._transaction():
            self._forget_the_dead()
            cursor = self._connection.execute(
                "INSERT INTO users (endpoint, pid, born, in_use) VALUES (?, ?, ?, 0)",
                (endpoint, os.getpid(), born(os.getpid())),
            )
        self._own = int(cursor.lastrowid or 0)

    @staticmethod
    def _opened(path: Path | None) -> sqlite3.Connection:
        if path is not None:
            path.parent.mkdir(parents=True, exist_ok=True)
        connection = sqlite3.connect(str(path) if path else ":memory:", isolation_level=None, timeout=10)
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = OFF")
        connection.executescript(_TABLES)
        return connection

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        self._connection.execute("BEGIN IMMEDIATE")
        try:
            yield
        finally:
            self._connection.execute("COMMIT")

    def leave(self) -> None:
        """Take this program off the list."""
        with self._transaction():
            self._connection.execute("DELETE FROM users WHERE id = ?", (self._own,))
        self._connection.close()

    def share(self, in_use: int) -> Share:
        """This program's part of the slots: an even share, less what others still have under way of their own.

        :param in_use: how many it has under way.
        """
        at_once = self._limits.at_once
        with self._transaction():
            self._forget_the_dead()
            self._connection.execute("UPDATE users SET in_use = ? WHERE id = ?", (in_use, self._own))
            rows = self._connection.execute(
                "SELECT id, in_use FROM users WHERE endpoint = ? ORDER BY id", (self._endpoint,)
            ).fetchall()
        rank = next((number for number, row in enumerate(rows) if row[0] == self._own), 0)
        mine = at_once // len(rows) + (rank < at_once % len(rows))
        others = sum(row[1] for row in rows if row[0] != self._own)
        return Share(max(0, min(mine, at_once - others)), len(rows))

    def seconds_until(self, tokens: int) -> float:
        """Take a place in the minute's limits; after how many seconds it comes up.

        The generic cell rate algorithm (ITU-T I.371), on a clock that all programs of the machine share.
        """
        limits = self._limits
        spare = limits.tokens_per_minute and max(1, int(limits.tokens_per_minute * 0.95))  # requests differ in size
        rules = [("requests", limits.per_minute, 1), ("tokens", spare, tokens)]
        if not any(limit for _, limit, _ in rules):
            return 0.0
        now, latest = time.monotonic(), 0.0
        with self._transaction():
            for what, limit, amount in rules:
                if limit:
                    latest = max(latest, self._place(what, limit, amount, now))
        return max(0.0, latest - now)

    def _place(self, what: str, limit: int, amount: int, now: float) -> float:
        burst = max(1, limit // _BURST_SHARE)
        step = 1.000001 * _MINUTE / max(1, limit - max(burst, amount) + (amount == 1))
        due = self._due(what, now)
        start = max(now, due + (amount - max(burst, amount)) * step)
        self._connection.execute(
            "INSERT OR REPLACE INTO due VALUES (?, ?, ?)", (self._endpoint, what, max(start, due) + amount * step)
        )
        return start

    def _due(self, what: str, now: float) -> float:
        query = "SELECT at FROM due WHERE endpoint = ? AND what = ?"
        row = self._connection.execute(query, (self._endpoint, what)).fetchone()
        # Far beyond now it is of the time before this machine was started anew.
        return float(row[0]) if row and row[0] < now + 100 * _MINUTE else 0.0

    def correct(self, tokens: int) -> None:
        """Put the tokens right once the service has said how many there were: more, or (below nought) fewer."""
        limits = self._limits
        with self._transaction():
            if limits.tokens_per_minute:
                step = _MINUTE / max(1, limits.tokens_per_minute - limits.tokens_per_minute // _BURST_SHARE)
                query = "UPDATE due SET at = at + ? WHERE endpoint = ? AND what = 'tokens'"
                self._connection.execute(query, (tokens * step, self._endpoint))
            if limits.tokens_per_day:
                self._use("tokens", tokens)

    def day_allows(self, tokens: int) -> str | None:
        """Take so much of the day's limits; what is used up, where they do not allow it. A day is 24 hours back."""
        limits = self._limits
        if not limits.per_day and not limits.tokens_per_day:
            return None
        hour = int(time.time() // _HOUR)
        with self._transaction():
            for what, limit, amount in (("requests", limits.per_day, 1), ("tokens", limits.tokens_per_day, tokens)):
                if limit and self._used(what, hour) + amount > limit:
                    return f"{limit} {what} in 24 hours"
            self._use("requests", 1)
            self._use("tokens", tokens)
        return None

    def _used(self, what: str, hour: int) -> int:
        # Hours ahead count too: the clock was set back, and they were used all the same.
        query = "SELECT TOTAL(count) FROM used WHERE endpoint = ? AND what = ? AND hour > ?"
        return int(self._connection.execute(query, (self._endpoint, what, hour - _DAY_HOURS)).fetchone()[0])

    def _use(self, what: str, count: int) -> None:
        hour = int(time.time() // _HOUR)
        self._connection.execute(
            "INSERT INTO used VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET count = count + excluded.count",
            (self._endpoint, what, hour, count),
        )
        self._connection.execute("DELETE FROM used WHERE hour < ?", (hour - 2 * _DAY_HOURS,))

    def quiet_for(self) -> float:
        """For how many seconds the service asked some program of this machine not to be asked."""
        return max(0.0, self._due("quiet", time.monotonic()) - time.monotonic())

    def keep_quiet(self, seconds: float) -> None:
        """Have every program of this machine wait."""
        until = time.monotonic() + seconds
        with self._transaction():
            if until > self._due("quiet", time.monotonic()):
                row = (self._endpoint, "quiet", until)
                self._connection.execute("INSERT OR REPLACE INTO due VALUES (?, ?, ?)", row)

    def _forget_the_dead(self) -> None:
        rows = self._connection.execute("SELECT id, pid, born FROM users").fetchall()
        dead = [(number,) for number, pid, since in rows if not is_running(pid, since)]
        self._connection.executemany("DELETE FROM users WHERE id = ?", dead)


def shared_file() -> Path:
    """Where the limits of this machine's endpoints are shared."""
    from platformdirs import user_state_path

    return Path(user_state_path("drovik")) / "pace.sqlite"
