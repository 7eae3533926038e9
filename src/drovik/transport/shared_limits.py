"""What programs on this machine that use one endpoint share: who they are, their limits, a service's "not now".

One small SQLite file in the user's own folder. It holds no key and nothing of what is sent; where it cannot be
written, each program keeps to the limits by itself, and says so.
"""

from __future__ import annotations

import math
import os
import sqlite3
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from platformdirs import user_state_path

from drovik.project.settings import Limit, Limits
from drovik.store.claims import LEASE_SECONDS, is_running, process_start_time
from drovik.text import counted

_TABLES = """
CREATE TABLE IF NOT EXISTS users (
    id INTEGER PRIMARY KEY, endpoint TEXT, pid INTEGER, born TEXT, in_use INTEGER, seen REAL);
CREATE TABLE IF NOT EXISTS due (endpoint TEXT, what TEXT, at REAL, PRIMARY KEY (endpoint, what)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS used (
    endpoint TEXT, what TEXT, hour INTEGER, count INTEGER, PRIMARY KEY (endpoint, what, hour)) WITHOUT ROWID
"""
Result = TypeVar("Result")
_LOCKED_SECONDS, _AVOIDED_SECONDS = 0.1, 2.0
"""Seconds for which the file is waited for, which holds up the event loop, and for which it is then left alone."""
_MINUTE, _HOUR, _DAY_HOURS = 60.0, 3600, 24
"""Seconds, seconds, hours."""
_BURST_SHARE = 20
"""A minute's limit may be used up to this part of it at once; the rest is spread, so that no minute has more."""


@dataclass(frozen=True)
class SlotShare:
    """How many slots this program may use now, and how many programs use the endpoint."""

    slots: int
    users: int


class SharedLimits:
    """This program's part in an endpoint's limits.

    :param path: the file; None for a program that keeps to the limits by itself.
    """

    def __init__(self, path: Path | None, endpoint: str, limits: Limits) -> None:
        self._endpoint, self._limits = endpoint, limits
        self._paced = [one for one in limits.known() if one.is_paced]
        self._counted = [one for one in limits.known() if not one.is_paced]
        self.alone = False
        self._spare = self._opened(None)
        self._avoided_until = -math.inf
        try:
            self._connection = self._opened(path)
        except (sqlite3.Error, OSError):
            self._connection, self.alone = self._spare, True
        self._own: dict[sqlite3.Connection, int] = {}
        self._done(self._enter)

    @staticmethod
    def _opened(path: Path | None) -> sqlite3.Connection:
        if path is not None:
            path.parent.mkdir(parents=True, exist_ok=True)
        connection = sqlite3.connect(str(path) if path else ":memory:", isolation_level=None, timeout=_LOCKED_SECONDS)
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = OFF")
        connection.executescript(_TABLES)
        if not {"seen"} <= {row[1] for row in connection.execute("PRAGMA table_info(users)")}:
            connection.execute("ALTER TABLE users ADD COLUMN seen REAL")
        return connection

    def _done(self, action: Callable[[sqlite3.Connection], Result]) -> Result:
        """Do something in one transaction; where the file is locked or broken, with numbers of this program's own.

        A program that holds the file, or a disk that is full, must not stop the sending, nor hold up the event
        loop: what is shared is a courtesy between programs, and a moment without it does no harm.
        """
        for connection in (self._connection, self._spare):
            if connection is self._connection is not self._spare and time.monotonic() < self._avoided_until:
                continue
            try:
                connection.execute("BEGIN IMMEDIATE")
                try:
                    result = action(connection)
                except BaseException:
                    connection.execute("ROLLBACK")
                    raise
                connection.execute("COMMIT")
                return result
            except sqlite3.Error:
                if connection is self._spare:
                    raise
                self._avoided_until = time.monotonic() + _AVOIDED_SECONDS
        raise AssertionError("the spare is always tried")

    def _enter(self, connection: sqlite3.Connection) -> None:
        self._forget_the_dead(connection)
        cursor = connection.execute(
            "INSERT INTO users (endpoint, pid, born, in_use, seen) VALUES (?, ?, ?, 0, ?)",
            (self._endpoint, os.getpid(), process_start_time(os.getpid()), time.monotonic()),
        )
        self._own[connection] = int(cursor.lastrowid or 0)

    def leave(self) -> None:
        """Take this program off the list."""

        def action(connection: sqlite3.Connection) -> None:
            connection.execute("DELETE FROM users WHERE id = ?", (self._own.get(connection),))

        self._done(action)
        self._connection.close()
        self._spare.close()

    def share(self, in_use: int) -> SlotShare:
        """This program's part of the slots: an even share, less what others still have under way of their own.

        :param in_use: how many it has under way.
        """
        concurrency = self._limits.concurrency

        def action(connection: sqlite3.Connection) -> SlotShare:
            self._forget_the_dead(connection)
            query = "UPDATE users SET in_use = ?, seen = ? WHERE id = ?"
            if not connection.execute(query, (in_use, time.monotonic(), self._own.get(connection))).rowcount:
                self._enter(connection)  # it was stopped for so long that others took it for dead
            rows = connection.execute(
                "SELECT id, in_use FROM users WHERE endpoint = ? ORDER BY id", (self._endpoint,)
            ).fetchall()
            own = self._own[connection]
            rank = next((number for number, row in enumerate(rows) if row[0] == own), 0)
            mine = concurrency // len(rows) + (rank < concurrency % len(rows))
            others = sum(row[1] for row in rows if row[0] != own)
            return SlotShare(max(0, min(mine, concurrency - others)), len(rows))

        return self._done(action)

    def seconds_until(self, tokens: int) -> float:
        """Take a place in the minute's limits; after how many seconds it comes up.

        The generic cell rate algorithm (ITU-T I.371), on a clock that all programs of the machine share.
        """
        limits = self._paced
        if not limits:
            return 0.0
        now, amounts = time.monotonic(), {"requests": 1, "tokens": tokens}

        def action(connection: sqlite3.Connection) -> float:
            return max(self._place(connection, one, amounts[one.counts], now) for one in limits)

        return max(0.0, self._done(action) - now)

    def _place(self, connection: sqlite3.Connection, rule: Limit, amount: int, now: float) -> float:
        # Requests differ in size, so that a minute's tokens are not known beforehand: a twentieth is left free.
        what, limit = _name(rule), rule.most if rule.counts == "requests" else max(1, int(rule.most * 0.95))
        burst = max(1, limit // _BURST_SHARE)
        step = 1.000001 * rule.seconds / max(1, limit - max(burst, amount) + (amount == 1))
        due = self._due(connection, what, now)
        start = max(now, due + (amount - max(burst, amount)) * step)
        connection.execute(
            "INSERT OR REPLACE INTO due VALUES (?, ?, ?)", (self._endpoint, what, max(start, due) + amount * step)
        )
        return start

    def _due(self, connection: sqlite3.Connection, what: str, now: float) -> float:
        query = "SELECT at FROM due WHERE endpoint = ? AND what = ?"
        row = connection.execute(query, (self._endpoint, what)).fetchone()
        # Far beyond now it is of the time before this machine was started again.
        return float(row[0]) if row and row[0] < now + 100 * _MINUTE else 0.0

    def correct(self, tokens: int) -> None:
        """Put the tokens right once the service has said how many there were: more, or (below nought) fewer."""
        paced = [one for one in self._paced if one.counts == "tokens"]
        counted = any(one.counts == "tokens" for one in self._counted)
        if not paced and not counted:
            return

        def action(connection: sqlite3.Connection) -> None:
            for one in paced:
                step = one.seconds / max(1, one.most - one.most // _BURST_SHARE)
                query = "UPDATE due SET at = at + ? WHERE endpoint = ? AND what = ?"
                connection.execute(query, (tokens * step, self._endpoint, _name(one)))
            if counted:
                self._use(connection, "tokens", tokens)

        self._done(action)

    def day_allows(self, tokens: int) -> str | None:
        """Take this much of the day's limits; what is used up, where they do not allow it. A day is 24 hours back."""
        limits, amounts = self._counted, {"requests": 1, "tokens": tokens}
        if not limits:
            return None
        hour = int(time.time() // _HOUR)

        def action(connection: sqlite3.Connection) -> str | None:
            for one in limits:
                hours = max(1, one.seconds // _HOUR)
                if self._used(connection, one.counts, hour - hours) + amounts[one.counts] > one.most:
                    return f"{one.most} {one.counts} in {counted(hours, 'hour')}"
            for what, amount in amounts.items():
                self._use(connection, what, amount)
            return None

        return self._done(action)

    def _used(self, connection: sqlite3.Connection, what: str, since: int) -> int:
        # Hours ahead count too: the clock was set back, and they were used all the same.
        query = "SELECT TOTAL(count) FROM used WHERE endpoint = ? AND what = ? AND hour > ?"
        return int(connection.execute(query, (self._endpoint, what, since)).fetchone()[0])

    def _use(self, connection: sqlite3.Connection, what: str, count: int) -> None:
        hour = int(time.time() // _HOUR)
        connection.execute(
            "INSERT INTO used VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET count = count + excluded.count",
            (self._endpoint, what, hour, count),
        )
        connection.execute("DELETE FROM used WHERE hour < ?", (hour - 2 * _DAY_HOURS,))

    def quiet_until(self) -> float:
        """Until when, by the monotonic clock, the service asked some program of this machine not to be asked."""
        return self._done(lambda connection: self._due(connection, "quiet", time.monotonic()))

    def keep_quiet(self, seconds: float) -> None:
        """Have every program of this machine wait."""
        until = time.monotonic() + seconds

        def action(connection: sqlite3.Connection) -> None:
            if until > self._due(connection, "quiet", time.monotonic()):
                row = (self._endpoint, "quiet", until)
                connection.execute("INSERT OR REPLACE INTO due VALUES (?, ?, ?)", row)

        self._done(action)

    def _forget_the_dead(self, connection: sqlite3.Connection) -> None:
        """Free what programs held that are gone, or were stopped for longer than the lease."""
        now = time.monotonic()
        rows = connection.execute("SELECT id, pid, born, seen FROM users").fetchall()
        dead = [
            (number,)
            for number, pid, since, seen in rows
            if not is_running(pid, since) or now - (seen or now) > LEASE_SECONDS
        ]
        connection.executemany("DELETE FROM users WHERE id = ?", dead)


def _name(rule: Limit) -> str:
    """What a paced limit is known by among those of its endpoint."""
    return f"{rule.counts} in {rule.seconds} s"


def shared_file() -> Path:
    """Where the limits of this machine's endpoints are shared."""

    return Path(user_state_path("drovik")) / "pace.sqlite"
