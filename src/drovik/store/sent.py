"""Every attempt that was made for a task, with what it cost."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from typing import NamedTuple

from drovik.project.spending import Spending
from drovik.store.records import SPENT_COLUMNS, spending_of


class SentAttempt(NamedTuple):
    """One attempt: which arm's request about which case, how it went, what came back, what that cost."""

    arm: str
    case: str
    repeat: int
    turn: int
    is_repair_turn: bool
    identity: str
    round: int
    attempt: int
    endpoint: str
    started: str
    outcome: str | None
    seconds: float | None
    note: str
    http_status: int | None
    model: str | None
    input_tokens: int | None
    output_tokens: int | None
    spent: Spending | None


def sent_attempts(connection: sqlite3.Connection, task: str) -> Iterator[SentAttempt]:
    """The attempts of a task's requests, by the names that its arms had on that day, the oldest first."""
    rows = connection.execute(
        f"""
        SELECT k.name, k.case_id, k.repeat, k.turn, k.second, a.identity, a.round, a.try, a.endpoint, a.started,
               a.outcome, a.seconds, COALESCE(a.note, ''), r.http_status, r.model, {SPENT_COLUMNS}
        FROM asked k JOIN attempts a ON a.identity = k.identity LEFT JOIN replies r ON r.attempt = a.id
        WHERE k.task = ? ORDER BY a.id, k.name, k.case_id
        """,
        (task,),
    )
    for row in rows:
        price, tokens_in, tokens_out, counters, pictures = row[15:]
        spent = spending_of(price, tokens_in, tokens_out, counters, pictures)
        yield SentAttempt._make((*row[:4], bool(row[4]), *row[5:15], tokens_in, tokens_out, spent))
