"""The layer of answers: what replies were read as, rebuilt at will, and the facts of the replies behind them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from drovik.parsing.answer_text import Answer
from drovik.parsing.schema_errors import SchemaError
from drovik.parsing.status import STATUS_NAMED
from drovik.project.spending import Spending
from drovik.store.database import transaction
from drovik.store.records import SPENT_COLUMNS, spending_of

_MOST_VALUES, _SHORT = 10_000, 200
"""Values, and sums of money, kept while a task's answers are made; the characters of the longest value."""


@dataclass(frozen=True, slots=True)
class KeptReading:
    """A row of the answers' layer; `reading` is the digest of all that it depends on."""

    reading: str
    answer: Answer


Concluded = tuple[Any, ...]
"""A row of `Readings.concluded`: identity, whether the reply is a good one, the attempt's number, its endpoint; the
reply's model, its seconds and the five `SPENT_COLUMNS`."""
Kept = tuple[Any, ...]
"""A row of `Readings.kept`: identity, the digest of all that the reading depends on, and the six values of it."""


class KeptAnswers:
    """Makes answers of kept rows; quickly, for there may be a million, and many say the same."""

    def __init__(self) -> None:
        self._values: dict[str, Any] = {}
        self._spent: dict[tuple[Any, ...], Spending | None] = {}

    def answer(self, kept: Kept, last: Concluded) -> Answer:
        """The answer of a kept reading, with the facts of its reply."""
        _, _, status, how, text, value, errors, note = kept
        counted = last[6:]
        try:
            spent = self._spent[counted]
        except KeyError:
            spent = spending_of(*counted)
            if len(self._spent) < _MOST_VALUES:
                self._spent[counted] = spent
        places = tuple(SchemaError(*one) for one in json.loads(errors)) if errors != "[]" else ()
        return Answer(
            STATUS_NAMED[status], how, text, self._value(value), places, note,
            last[4], last[7], last[8], spent, last[5],
        )  # fmt: skip

    def _value(self, text: str) -> Any:
        try:
            return self._values[text]
        except KeyError:
            value = json.loads(text)
        if len(self._values) < _MOST_VALUES and len(text) < _SHORT:
            self._values[text] = value
        return value


class Readings:
    """The readings that a store keeps."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def concluded(self) -> Iterator[Concluded]:
        """Every attempt that an answer may be read from, the oldest first."""
        return self._connection.execute(
            f"""
            SELECT a.identity, COALESCE(r.http_status BETWEEN 200 AND 299, 0), a.id, a.endpoint,
                   r.model, a.seconds, {SPENT_COLUMNS}
            FROM attempts a LEFT JOIN replies r ON r.attempt = a.id WHERE a.concluded = 1 ORDER BY a.id
            """
        )

    def kept(self, task: str) -> Iterator[Kept]:
        """Every kept reading of a task's answers; tokens and money are not in it."""
        return self._connection.execute(
            "SELECT identity, reading, status, how, text, value, errors, note FROM answers WHERE task = ?", (task,)
        )

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
