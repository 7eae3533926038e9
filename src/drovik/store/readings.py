"""The layer of answers: what replies were read as, rebuilt at will, and the facts of the replies behind them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass

from drovik.parsing.answer_text import Answer
from drovik.parsing.schema_errors import SchemaError
from drovik.parsing.status import STATUS_NAMED
from drovik.store.database import transaction
from drovik.store.records import SPENT_COLUMNS, Facts, facts_of


@dataclass(frozen=True, slots=True)
class KeptReading:
    """A row of the answers' layer; `reading` is the digest of all that it depends on."""

    reading: str
    answer: Answer


class Readings:
    """The readings that a store keeps."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def kept(self, task: str) -> dict[str, KeptReading]:
        """Every kept reading of a task's answers, by identity; tokens and money are not in it."""
        rows = self._connection.execute(
            "SELECT identity, reading, status, how, text, value, errors, note FROM answers WHERE task = ?",
            (task,),
        )
        found = {}
        for identity, reading, status, how, text, value, errors, note in rows:
            places = tuple(SchemaError(*one) for one in json.loads(errors)) if errors != "[]" else ()
            found[identity] = KeptReading(
                reading,
                Answer(
                    status=STATUS_NAMED[status], how=how, text=text, value=json.loads(value), errors=places, note=note
                ),
            )
        return found

    def facts(self, task: str) -> dict[str, Facts]:
        """Model, tokens, money and seconds behind each kept reading of a task, by identity."""
        rows = self._connection.execute(
            f"""
            SELECT x.identity, r.model, a.seconds, a.round, a.id,
                   COALESCE(r.http_status BETWEEN 200 AND 299, 0) AS good, {SPENT_COLUMNS}
            FROM answers x JOIN attempts a ON a.identity = x.identity AND a.concluded = 1
            LEFT JOIN replies r ON r.attempt = a.id
            WHERE x.task = ? ORDER BY good, a.id
            """,
            (task,),
        )
        found = {}
        for identity, model, seconds, _, _, _, *spending in rows:
            found[identity] = facts_of(model, seconds, spending)
        return found

    def keep(self, task: str, rows: Iterable[tuple[str, KeptReading]]) -> None:
        """Keep readings of a task's answers by identity, in place of what was kept before."""
        with transaction(self._connection):
            self._connection.executemany(
                "INSERT OR REPLACE INTO answers VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (_answer_row(task, identity, kept) for identity, kept in rows),
            )


def _answer_row(task: str, identity: str, kept: KeptReading) -> tuple[str, ...]:
    one = kept.answer
    # Escaped to ASCII: a value may hold halves of surrogate pairs, which SQLite cannot.
    errors = json.dumps([(error.at, error.what, error.rule) for error in one.errors])
    return task, identity, kept.reading, one.status, one.how, one.text, json.dumps(one.value), errors, one.note
