"""The store of a project: attempts and replies as they are sent, answers as they are read."""

from __future__ import annotations

import contextlib
import json
import sqlite3
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from types import TracebackType
from typing import Any, Literal

from drovik.errors import DrovikError, Problem, StoreError
from drovik.heavy import asyncio
from drovik.money import add_money
from drovik.project.reading import StorePlace
from drovik.project.spending import Spending
from drovik.store.caches import PictureCache, UploadCache
from drovik.store.claims import Budget, Claims
from drovik.store.database import BROKEN, open_database, store_error, transaction
from drovik.store.database_of_team import open_in_postgres
from drovik.store.group_writer import GroupWriter
from drovik.store.kept_scores import KeptScores
from drovik.store.looks import Looks
from drovik.store.pages import unreadable_values
from drovik.store.readings import Readings
from drovik.store.records import (
    SPENT_COLUMNS,
    Attempt,
    AttemptCounts,
    Facts,
    Reply,
    RequestRecord,
    facts_of,
    spending_of,
)
from drovik.store.rescue import reserve_room


@dataclass(frozen=True)
class KeptReply:
    """The reply that an answer is read from; no status and no body where all tries failed, and why in `note`.

    `endpoint` is the one it came from, whose dialect it is in.
    """

    http_status: int | None
    body: bytes | None
    note: str
    endpoint: str = ""
    model: str | None = None


_LATEST = """
SELECT r.http_status, r.body, COALESCE(a.note, ''), a.endpoint, r.model
FROM attempts a LEFT JOIN replies r ON r.attempt = a.id
WHERE a.identity = ? AND a.concluded = ?
ORDER BY CASE WHEN r.http_status BETWEEN 200 AND 299 THEN 1 ELSE 0 END DESC, a.id DESC LIMIT 1
"""
_WITH_FACTS = f"""
SELECT r.http_status, r.body, COALESCE(a.note, ''), a.endpoint, r.model, a.seconds, {SPENT_COLUMNS}
FROM attempts a LEFT JOIN replies r ON r.attempt = a.id
"""
_WITHIN = f"""
{_WITH_FACTS} WHERE a.identity = ? AND a.concluded > 0 AND a.started >= ? AND a.started < ?
ORDER BY CASE WHEN r.http_status BETWEEN 200 AND 299 THEN 1 ELSE 0 END DESC, a.id DESC LIMIT 1
"""


_ARMS = """
WITH RECURSIVE found (arm) AS (
    SELECT MIN(arm) FROM asked WHERE task = ?
    UNION ALL SELECT (SELECT MIN(arm) FROM asked WHERE task = ? AND arm > found.arm) FROM found WHERE arm IS NOT NULL
) SELECT arm FROM found WHERE arm IS NOT NULL
"""
"""The arms of a task, each by a step in the index: of a million rows only as many are looked at as there are arms."""


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


Refused = Literal["budget", "claim"]


@dataclass(frozen=True)
class _Begin:
    """An attempt that is about to begin."""

    asked: list[RequestRecord]
    round: int
    try_: int
    endpoint: str
    bound: Spending | None
    budget: Budget | None

    def held(self) -> str | None:
        """The most that it may cost, as the store keeps it."""
        return None if self.bound is None else json.dumps([self.bound.currency, str(self.bound.amount)])


class Store:
    """One project's store. Open it by `with`. `digests` and `handles` are its caches about pictures.

    `claims` are those of this program; `looks` are those at held-out scores, `readings` what
    answers were read as, `kept_scores` what they came to.
    """

    def __init__(self, place: Path | StorePlace, create: bool = True) -> None:
        path, url = place if isinstance(place, StorePlace) else (place, None)
        self._database = open_database(path, create) if url is None else open_in_postgres(StorePlace(path, url))
        self.connection = self._database.connection
        self.notes = self._database.notes
        """What is to be said of it, such as rescue files that are not its own."""
        self._folder = path.parent
        self._writer = GroupWriter(self._database, path)
        self.digests = PictureCache(self.connection, self._writer)
        self.handles = UploadCache(self.connection, self._writer)
        self.claims = Claims(self.connection, self._writer)
        self.looks = Looks(self.connection)
        self.readings = Readings(self.connection)
        self.kept_scores = KeptScores(self.connection)

    def __enter__(self) -> Store:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        unsound = self._what_is_unsound(error)
        try:
            self._writer.flush()
            with contextlib.suppress(DrovikError):  # a cache, and perhaps the very thing that failed
                self.digests.write_facts()
            if self._writer.is_gone:
                self._writer.write_out()
        except (*BROKEN, OSError) as failure:
            raise store_error(failure) from None
        finally:
            self._database.close()
        if unsound:
            remedy = "see: drovik store check; save what can be read: drovik store repair"
            raise StoreError(Problem(f"is damaged: {unsound}", remedy, ".drovik/answers.sqlite")) from None

    def _what_is_unsound(self, error: BaseException | None) -> str:
        """What in the store made a command stumble: a byte that changed in a value is seen by nobody until then."""
        if (
            error is None
            or not isinstance(error, Exception)
            or isinstance(error, DrovikError | sqlite3.Error | OSError)
        ):
            return ""
        if not isinstance(self.connection, sqlite3.Connection):
            return ""
        if isinstance(error, UnicodeDecodeError):
            return "a text in it cannot be read"
        return next(iter(unreadable_values(self.connection)), "")

    # Attempts and replies, while sending.

    def begin_attempt(
        self,
        asked: Iterable[RequestRecord],
        round_: int,
        try_: int,
        endpoint: str,
        bound: Spending | None,
        budget: Budget | None,
    ) -> asyncio.Future[int | Refused]:
        """Append an attempt; the future is its number, once it is committed and the request may leave.

        :param asked: what it asks; several where cases share one request.
        :param bound: the most that it may cost.
        :param budget: the limit of money under which it is sent.
        :return: "budget" where the limit of money does not allow it, "claim" where this program has been stopped
            for so long that others may ask it by now.
        """
        return self._writer.write_with(
            self._begin_all,
            _Begin(asked=list(asked), round=round_, try_=try_, endpoint=endpoint, bound=bound, budget=budget),
        )

    def _begin_all(self, connection: sqlite3.Connection, begun: list[_Begin]) -> list[int | Refused]:
        """Append attempts, a statement for each table; under a limit of money one by one, for each counts."""
        held = self.claims.held_of({one.asked[0].identity for one in begun})
        if any(one.budget is not None for one in begun):
            return [self._append(connection, [one], held)[0] for one in begun]
        return self._append(connection, begun, held)

    def _append(
        self, connection: sqlite3.Connection, begun: list[_Begin], held: Collection[str]
    ) -> list[int | Refused]:
        number = int(connection.execute("SELECT COALESCE(MAX(id), 0) FROM attempts").fetchone()[0])
        found: list[int | Refused] = []
        rows = []
        for one in begun:
            if one.asked[0].identity not in held:
                found.append("claim")
            elif one.budget is not None and not one.budget.allows(one.bound):
                found.append("budget")
            else:
                number += 1
                found.append(number)
                rows.append((number, one))
        _note_asked(connection, [row for _, one in rows for row in one.asked])
        now = _now()
        connection.executemany(
            "INSERT INTO attempts (id, identity, round, try, endpoint, started, bound) VALUES (?, ?, ?, ?, ?, ?, ?)",
            [(id_, one.asked[0].identity, one.round, one.try_, one.endpoint, now, one.held()) for id_, one in rows],
        )
        return found

    def end_attempt(
        self,
        attempt: int,
        identity: str,
        outcome: str,
        concluded: int,
        seconds: float,
        note: str = "",
        reply: Reply | None = None,
    ) -> asyncio.Future[None]:
        """Keep how an attempt ended, and its reply where one came.

        :param identity: of what it asked.
        :param concluded: 1 where no further try follows, 2 where that is so of a recheck.
        """

        kept = None
        if reply is not None:
            kept = {
                "at": _now(),
                "http_status": reply.http_status,
                "body": reply.body,
                "model": None if reply.model is None else _writable(reply.model),
                "input_tokens": reply.input_tokens,
                "output_tokens": reply.output_tokens,
                "price": json.dumps(reply.price.of_that_day()) if reply.price else None,
                "counters": json.dumps(reply.counters) if reply.counters else None,
                "pictures": reply.pictures,
            }
        ended = {
            "attempt": attempt,
            "identity": identity,
            "outcome": outcome,
            "concluded": concluded,
            "seconds": seconds,
            "note": _writable(note),
        }
        return self._writer.write_ended({**ended, "reply": kept})

    @property
    def failure(self) -> DrovikError | None:
        """Why this store cannot be written any more, once that is so."""
        return self._writer.failure

    def set_room_aside(self) -> None:
        """Set room aside on the disk, for what is under way when that is full."""
        reserve_room(self._folder)

    def conclude(self, attempts: Iterable[int]) -> asyncio.Future[None]:
        """Keep that no further try follows these attempts."""
        rows = [(attempt,) for attempt in attempts]

        def action(connection: sqlite3.Connection) -> None:
            connection.executemany("UPDATE attempts SET concluded = 1 WHERE id = ?", rows)

        return self._writer.write(action)

    def asked(self, task: str, arm: str) -> set[str]:
        """All that an arm asked, each in one text: its identity, and the case."""
        query = "SELECT identity || ' ' || case_id FROM asked WHERE task = ? AND arm = ?"
        return {text for (text,) in self.connection.execute(query, (task, arm))}

    def note_asked(self, rows: Iterable[RequestRecord]) -> None:
        """Keep that arms ask what was asked before by others; nothing is sent."""
        rows = list(rows)
        if rows:
            with transaction(self.connection):
                _note_asked(self.connection, rows)

    def rounds(self, identity: str) -> int:
        """How many times this was asked on purpose, whatever came of it."""
        row = self.connection.execute("SELECT MAX(round) FROM attempts WHERE identity = ?", (identity,)).fetchone()
        return int(row[0] or 0)

    # Answers.

    def concluded(self) -> frozenset[str]:
        """The identities of all that has an answer, be it that all tries failed."""
        rows = self.connection.execute("SELECT identity FROM attempts WHERE concluded = 1")
        return frozenset([identity for (identity,) in rows])

    def answered_well(self) -> frozenset[str]:
        """The identities that have a good reply."""
        rows = self.connection.execute(
            "SELECT DISTINCT a.identity FROM attempts a JOIN replies r ON r.attempt = a.id"
            " WHERE a.concluded = 1 AND r.http_status BETWEEN 200 AND 299"
        )
        return frozenset(row[0] for row in rows)

    def reply_for(self, identity: str) -> KeptReply | None:
        """The reply that the answer is read from: the latest good one, else the latest failure."""
        row = self.connection.execute(_LATEST, (identity, 1)).fetchone()
        return KeptReply(*row) if row else None

    def reply_of(self, attempt: int) -> tuple[KeptReply, Facts]:
        """The reply to an attempt, and its facts."""
        row = self.connection.execute(f"{_WITH_FACTS} WHERE a.id = ?", (attempt,)).fetchone()
        return KeptReply(*row[:5]), facts_of(row[4], row[5], row[6:])

    def reply_within(self, identity: str, start: str, end: str) -> tuple[KeptReply, Facts] | None:
        """The latest good reply of some days, be it to a recheck, else the latest failure; and its facts.

        :param start: the first day, as an ISO date; `end` is the one behind the last.
        """
        row = self.connection.execute(_WITHIN, (identity, start, end)).fetchone()
        return (KeptReply(*row[:5]), facts_of(row[4], row[5], row[6:])) if row else None

    def recheck_for(self, identity: str) -> KeptReply | None:
        """The latest reply to what was asked again only to see whether it is still answered so."""
        row = self.connection.execute(_LATEST, (identity, 2)).fetchone()
        return KeptReply(*row) if row else None

    def older_arms(self, task: str, current: Iterable[str]) -> list[tuple[str, str, int]]:
        """Arms that asked and are no longer the project's: digest, name on that day, number of cases."""
        keep = set(current)
        older = [arm for (arm,) in self.connection.execute(_ARMS, (task, task)) if arm not in keep]
        if not older:
            return []
        rows = self.connection.execute(
            "SELECT arm, name, COUNT(*) FROM asked WHERE task = ? AND turn = 1 AND repeat = 1 AND second = 0"
            f" AND arm IN ({', '.join('?' * len(older))}) GROUP BY arm, name ORDER BY MAX(at)",
            (task, *older),
        )
        return list(rows)

    def has_asked(self, task: str, arm: str) -> bool:
        """Whether an arm, by its digest, asked anything of a task."""
        query = "SELECT 1 FROM asked WHERE task = ? AND arm = ? LIMIT 1"
        return self.connection.execute(query, (task, arm)).fetchone() is not None

    def asked_by(self, task: str, arm: str) -> list[tuple[str, int, str]]:
        """What an arm asked: the case's id, the repeat, and the identity of the last turn."""
        query = (
            "SELECT case_id, repeat, identity FROM asked"
            " WHERE task = ? AND arm = ? AND second = 0 ORDER BY case_id, repeat, turn"
        )
        last = {(case, repeat): identity for case, repeat, identity in self.connection.execute(query, (task, arm))}
        return [(case, repeat, identity) for (case, repeat), identity in last.items()]

    def what_was_asked(self, identity: str) -> dict[str, Any] | None:
        """What was asked, from its canonical form: model, turns, repeat; None where nothing was sent."""
        row = self.connection.execute("SELECT asked FROM requests WHERE identity = ?", (identity,)).fetchone()
        return dict(json.loads(row[0])) if row and row[0] else None

    def rechecked(self) -> frozenset[str]:
        """The identities that were asked again to see whether the service still answers as it did."""
        rows = self.connection.execute("SELECT DISTINCT identity FROM attempts WHERE concluded = 2")
        return frozenset(row[0] for row in rows)

    def attempts(self, identity: str) -> list[Attempt]:
        """Every attempt at a request, in order."""
        query = "SELECT started, outcome, seconds, COALESCE(note, '') FROM attempts WHERE identity = ? ORDER BY id"
        return [Attempt(*row) for row in self.connection.execute(query, (identity,))]

    def bill(self) -> AttemptCounts:
        """How many attempts there were, and of how many it is not known whether they were billed.

        Those are the attempts that left and brought no reply: the program was killed, the connection
        was lost, or the time ran out; and those whose reply cannot be read, so that it does not say what it cost.
        """
        attempts, replies, unknown = self.connection.execute(
            """
            SELECT COUNT(*), COUNT(r.id), SUM(CASE
                WHEN r.id IS NULL AND (outcome IS NULL OR outcome IN ('lost', 'timeout')) THEN 1
                WHEN outcome IN ('unreadable', 'incomplete') AND r.input_tokens IS NULL AND r.output_tokens IS NULL
                THEN 1 ELSE 0 END)
            FROM attempts a LEFT JOIN replies r ON r.attempt = a.id
            """
        ).fetchone()
        return AttemptCounts(attempts, replies, int(unknown or 0))

    def spent(self) -> dict[str, Decimal]:
        """All that was ever paid, by currency, as the replies' own token counts have it."""
        total: dict[str, Decimal] = {}
        rows = self.connection.execute(
            """
            SELECT price, SUM(input_tokens), SUM(output_tokens), counters, SUM(pictures), COUNT(pictures) FROM replies
            WHERE price IS NOT NULL GROUP BY price, counters, CASE WHEN counters IS NULL THEN 0 ELSE id END
            """
        )
        for row in rows:
            if spent := spending_of(*row):
                add_money(total, spent.currency, spent.amount)
        return total


def _writable(text: str) -> str:
    """Text as SQLite can hold it: headers may bring halves of characters along."""
    return text.encode("utf-8", "replace").decode("utf-8").replace("\0", " ")


def _note_asked(connection: sqlite3.Connection, rows: list[RequestRecord]) -> None:
    connection.executemany(
        "INSERT INTO requests VALUES (?, ?) ON CONFLICT (identity)"
        " DO UPDATE SET asked = excluded.asked WHERE requests.asked = ''",
        [(row.identity, row.text) for row in rows],
    )
    now = _now()
    connection.executemany(
        "INSERT INTO asked VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"
        " ON CONFLICT (task, arm, case_id, repeat, turn, second)"
        " DO UPDATE SET name = excluded.name, identity = excluded.identity, at = excluded.at"
        " WHERE asked.identity != excluded.identity",
        [
            (
                row.task,
                row.arm,
                row.case_id,
                row.repeat,
                row.turn,
                int(row.second),
                row.arm_name,
                row.identity,
                now,
            )
            for row in rows
        ],
    )
