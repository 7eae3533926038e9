"""What may still be spent: what replies cost, and the most that those under way may come to.

Each attempt is kept with its upper bound. As long as it has no reply (it is under way, its reply was lost, or its
program was killed) it counts as that much, for it may be billed so. Once there is a reply, it counts as what the
service reported; a reply that reports no tokens, or cannot be read, counts as the bound again.

Which program is about to ask what, so that two that send into one store never ask the same.

A claim is taken before a picture is even read, and given back once the answer is kept. Whether the program
that holds it still lives is reported on one machine by its process, and from elsewhere by a count that it raises
while it lives; no clock is asked, for clocks jump.
"""

from __future__ import annotations

import json
import os
import socket
import sqlite3
import time
from collections.abc import Collection, Iterable, Mapping
from decimal import Decimal
from pathlib import Path
from typing import Literal

from drovik.money import add_money
from drovik.project.spending import Spending
from drovik.store.database import transaction
from drovik.store.group_writer import GroupWriter
from drovik.store.records import SPENT_COLUMNS, price_of, spending_of


class Budget:
    """Limits by currency, held against all that this store's replies have cost, whoever sent them.

    :param most: by currency; the other currencies have no limit.
    """

    def __init__(self, connection: sqlite3.Connection, most: Mapping[str, Decimal]) -> None:
        self._connection, self.most = connection, dict(most)
        self._paid: dict[str, Decimal] = {}
        self._seen = 0
        self._uncounted: dict[str, Decimal] = {}
        self.uncounted_replies = 0
        """How many good replies said nothing of their tokens, so that they count as the most that they may cost."""

    def paid(self) -> dict[str, Decimal]:
        """What replies cost so far, by currency; only those that are new are looked at."""
        rows = self._connection.execute(
            f"SELECT r.id, r.http_status, a.bound, {SPENT_COLUMNS}"
            " FROM replies r JOIN attempts a ON a.id = r.attempt"
            " WHERE r.id > ? AND r.price IS NOT NULL ORDER BY r.id",
            (self._seen,),
        )
        for number, status, bound, price, tokens_in, *rest in rows.fetchall():
            by, spent = price_of(price), spending_of(price, tokens_in, *rest)
            if 200 <= status < 300 and not by.is_counted(tokens_in, rest[0]):
                self.uncounted_replies += 1
                upper = json.loads(bound) if bound else [by.currency, str(spent.amount if spent else 0)]
                spent = Spending(upper[0], Decimal(upper[1]))
                add_money(self._uncounted, spent.currency, spent.amount)
            if spent:
                add_money(self._paid, spent.currency, spent.amount)
            self._seen = number
        return dict(self._paid)

    def held(self) -> dict[str, Decimal]:
        """The most that attempts without a reply may yet come to, by currency."""
        found: dict[str, Decimal] = {}
        rows = self._connection.execute(
            "SELECT bound FROM attempts a WHERE bound IS NOT NULL"
            " AND (outcome IS NULL OR outcome IN ('lost', 'timeout', 'unreadable', 'incomplete', 'unhandled'))"
            " AND NOT EXISTS (SELECT 1 FROM replies r WHERE r.attempt = a.id AND r.price IS NOT NULL)"
        )
        for (bound,) in rows:
            currency, amount = json.loads(bound)
            add_money(found, currency, Decimal(amount))
        return found

    def uncounted(self) -> dict[str, Decimal]:
        """What of `paid` is the upper bound of replies that say nothing of their tokens."""
        return dict(self._uncounted)

    def allows(self, bound: Spending | None) -> bool:
        """Whether this much more may be spent; asked within the transaction that enters the attempt.

        :param bound: None where nobody can say what it may cost: that is never allowed under a limit.
        """
        if bound is None:
            return not self.most
        most = self.most.get(bound.currency)
        if most is None:
            return True
        nothing = Decimal(0)
        before = self.paid().get(bound.currency, nothing) + self.held().get(bound.currency, nothing)
        return before + bound.amount <= most


Claim = Literal["mine", "done", "taken"]
"""`done`: it has its answer meanwhile; `taken`: another program is about to ask it."""

_AT_ONCE = 200
"""Identities in one statement; SQLite bears 32,766."""
_NOBODY = -1
"""The number of no sender."""
LEASE_SECONDS = 30.0
"""So long a program may not raise its count, which it does every second, before what it holds is free: it is dead,
or was stopped (SIGSTOP, a laptop that sleeps), and nobody knows when it goes on."""


class Claims:
    """The claims of this program in one store. Nothing is claimed before `register`."""

    def __init__(self, connection: sqlite3.Connection, writer: GroupWriter) -> None:
        self._connection, self._writer = connection, writer
        self._sender: int | None = None
        self._heard: dict[int, tuple[int, float]] = {}

    def register(self) -> int:
        """Enter this program among those that send; the number of the last attempt so far."""
        with transaction(self._connection):
            self._forget_the_dead()
            self._enter()
            last = self._connection.execute("SELECT MAX(id) FROM attempts").fetchone()[0]
        return int(last or 0)

    def _enter(self) -> None:
        host, pid = socket.gethostname(), os.getpid()
        self._sender = int(self._connection.execute("SELECT COALESCE(MAX(id), 0) + 1 FROM senders").fetchone()[0])
        query = "INSERT INTO senders (id, host, pid, born, beat) VALUES (?, ?, ?, ?, 0)"
        self._connection.execute(query, (self._sender, host, pid, process_start_time(pid)))

    def held_of(self, identities: Collection[str]) -> Collection[str]:
        """Which claims are still this program's; asked within the transaction that enters the attempts.

        After a stop that was longer than the lease another may have claimed it, or even have its answer.
        """
        if self._sender is None:
            return identities
        marks = ", ".join("?" * len(identities))
        query = f"SELECT identity FROM claims WHERE sender = ? AND identity IN ({marks})"
        return {identity for (identity,) in self._connection.execute(query, (self._sender, *identities))}

    def leave(self) -> None:
        """Give everything back, once nothing more is sent."""
        self._writer.flush()
        if self._sender is not None:
            with transaction(self._connection):
                self._forget([self._sender])
            self._sender = None

    def claim(self, identities: Iterable[str], again: Collection[str] = (), since: int = 0) -> dict[str, Claim]:
        """Claim what is to be asked.

        :param again: of these, what is asked again on purpose: done only by an attempt after `since`.
        """
        wanted = list(dict.fromkeys(identities))
        found: dict[str, Claim] = {}
        with transaction(self._connection):
            for at in range(0, len(wanted), _AT_ONCE):
                found |= self._claim(wanted[at : at + _AT_ONCE], again, since)
        return found

    def _claim(self, identities: list[str], again: Collection[str], since: int) -> dict[str, Claim]:
        marks = ", ".join("?" * len(identities))
        query = (
            f"SELECT identity, MAX(id) FROM attempts WHERE concluded >= 1 AND identity IN ({marks}) GROUP BY identity"
        )
        latest = dict(self._connection.execute(query, identities))
        done = {one for one in identities if latest.get(one, 0) > (since if one in again else 0)}
        rows = [(one, self._sender) for one in identities if one not in done]
        self._connection.executemany("INSERT INTO claims VALUES (?, ?) ON CONFLICT DO NOTHING", rows)
        holders = dict(self._connection.execute(f"SELECT * FROM claims WHERE identity IN ({marks})", identities))
        return {
            one: "done" if one in done else "mine" if holders[one] == self._sender else "taken" for one in identities
        }

    def give_back(self, identity: str) -> None:
        """Let others ask it, from the next commit on; if it was answered they will see that."""
        self._writer.write_with(_give_back, (identity, self._sender))

    def beat(self) -> None:
        """Show that this program lives, and free what dead ones hold."""
        with transaction(self._connection):
            query = "UPDATE senders SET beat = beat + 1 WHERE id = ?"
            if self._sender is not None and not self._connection.execute(query, (self._sender,)).rowcount:
                self._enter()  # others took this program for dead, and freed what it held
            self._forget_the_dead()

    def others(self) -> int:
        """How many other programs send into this store now."""
        query = "SELECT COUNT(*) FROM senders WHERE id <> ?"
        return int(self._connection.execute(query, (self._sender or _NOBODY,)).fetchone()[0])

    def others_are_asking(self) -> bool:
        """Whether another program has a request under way whose bound holds money."""
        query = (
            "SELECT 1 FROM attempts a JOIN claims c ON c.identity = a.identity"
            " WHERE a.outcome IS NULL AND a.bound IS NOT NULL AND c.sender <> ? LIMIT 1"
        )
        return self._connection.execute(query, (self._sender or _NOBODY,)).fetchone() is not None

    def _forget_the_dead(self) -> None:
        rows = self._connection.execute("SELECT id, host, pid, born, beat FROM senders").fetchall()
        self._forget([number for number, *row in rows if number != self._sender and not self._lives(number, *row)])

    def _forget(self, senders: Iterable[int]) -> None:
        rows = [(number,) for number in senders]
        self._connection.executemany("DELETE FROM claims WHERE sender = ?", rows)
        self._connection.executemany("DELETE FROM senders WHERE id = ?", rows)

    def _lives(self, number: int, host: str, pid: int, since: str, beat: int) -> bool:
        if host == socket.gethostname() and not is_running(pid, since):
            return False
        before, when = self._heard.get(number, (-1, 0.0))
        if beat != before:
            self._heard[number] = (beat, time.monotonic())
            return True
        return time.monotonic() - when < LEASE_SECONDS


def _give_back(connection: sqlite3.Connection, rows: list[tuple[str, int | None]]) -> list[None]:
    connection.executemany("DELETE FROM claims WHERE identity = ? AND sender = ?", rows)
    return [None] * len(rows)


def process_start_time(pid: int) -> str:
    """When a process began, in words that only it has as long as the machine is up; empty where nobody tells."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
        # The name is in brackets and may hold anything; the start is the 20th field behind it (proc(5)).
        state, *fields = Path(f"/proc/{pid}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()
        return f"{boot} {fields[18]}" if state != "Z" else ""  # what has ended, and nobody has asked how
    except (OSError, IndexError):
        return ""


def is_running(pid: int, since: str) -> bool:
    """Whether a process of this machine that began then still runs."""
    if since:
        return process_start_time(pid) == since
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
