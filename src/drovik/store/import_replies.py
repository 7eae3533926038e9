"""Attempts and replies of one store into another: what was paid for by hand need not be paid for again."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable

from drovik.store.answer_store import Store
from drovik.store.database import transaction
from drovik.store.records import REPLY_COLUMNS, RequestRecord, preparations

_COLUMNS = "identity, round, try, endpoint, started, outcome, concluded, seconds, note"
_REPLY = ", ".join(REPLY_COLUMNS)


def import_replies(store: Store, other: Store, asked: Iterable[RequestRecord]) -> int:
    """Take over what came back for some requests; those that have an answer already are left as they are.

    :param asked: what was asked, as the arms of the store that takes it over know it.
    :return: how many were taken over.
    """
    there = store.concluded()
    rows = [one for one in asked if one.identity not in there]
    with transaction(store.connection):
        taken = [one for one in rows if _take(store.connection, other.connection, one.identity)]
    store.note_asked([*rows, *(one for one in asked if one.identity in there)])
    return len(taken)


def _take(into: sqlite3.Connection, out_of: sqlite3.Connection, identity: str) -> bool:
    found = out_of.execute("SELECT asked FROM requests WHERE identity = ?", (identity,)).fetchone()
    attempts = out_of.execute(f"SELECT id, {_COLUMNS} FROM attempts WHERE identity = ? ORDER BY id", (identity,))
    if found is None:
        return False
    into.execute("INSERT INTO requests VALUES (?, ?) ON CONFLICT DO NOTHING", (identity, found[0]))
    for key in preparations(json.loads(found[0]) if found[0] else {}):
        row = out_of.execute("SELECT * FROM prepared WHERE source = ? AND prep = ?", key).fetchone()
        if row is not None:
            into.execute("INSERT INTO prepared VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING", row)
    for number, *values in attempts.fetchall():
        marks = ", ".join("?" * (len(values) + 1))
        own = into.execute("SELECT COALESCE(MAX(id), 0) + 1 FROM attempts").fetchone()[0]
        into.execute(f"INSERT INTO attempts (id, {_COLUMNS}) VALUES ({marks})", (own, *values))
        for reply in out_of.execute(f"SELECT {_REPLY} FROM replies WHERE attempt = ?", (number,)).fetchall():
            marks = ", ".join("?" * (len(reply) + 1))
            into.execute(f"INSERT INTO replies (attempt, {_REPLY}) VALUES ({marks})", (own, *reply))
    return True
