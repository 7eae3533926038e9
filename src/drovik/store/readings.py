"""The layer of answers: what replies were read as, rebuilt at will, and the facts of the replies behind them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterable
from decimal import Decimal
from typing import Any, NamedTuple

from drovik.parsing.answer_text import Answer, UnreadValue
from drovik.parsing.schema_errors import SchemaError
from drovik.parsing.status import STATUS_NAMED
from drovik.project.spending import Spending
from drovik.store.database import transaction

_MOST_VALUES, _MOST_TEXTS, _SHORT = 100_000, 1_000_000, 2_000
"""Values, and sums of money, that a task's answers have in common; texts; the characters of the longest."""
_READ_AT_ONCE = 100
"""Characters of a value. Of a longer one its text is held, from which it is read when somebody asks for it."""
_AT_ONCE = 10_000
"""Rows written in one transaction: another program, or our own second process, waits for no more than that."""
_CONCLUDED = "SELECT identity, id FROM attempts WHERE concluded = 1 ORDER BY id"
_BEST = """
SELECT a.id FROM attempts a LEFT JOIN replies r ON r.attempt = a.id WHERE a.identity = ? AND a.concluded = 1
ORDER BY CASE WHEN r.http_status BETWEEN 200 AND 299 THEN 1 ELSE 0 END DESC, a.id DESC LIMIT 1
"""
_COLUMNS = (
    "task", "identity", "attempt", "endpoint", "reading", "status", "how", "text", "value", "errors", "note", "model",
    "input_tokens", "output_tokens", "spent", "seconds",
)  # fmt: skip
_KEPT = """
SELECT identity, attempt, endpoint, reading, status, how, text, value, errors, note, model, input_tokens,
       output_tokens, spent, seconds
FROM answers WHERE task = ?
"""


class Reading(NamedTuple):
    """What the reply to an attempt was read as; `digest` is of all that it depends on but the reply."""

    attempt: int
    endpoint: str
    digest: str
    answer: Answer


class Readings:
    """The readings that a store keeps."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def attempts_for(self, wanted: Iterable[str]) -> dict[str, int]:
        """Of each request that has a reply, be it a failure, the attempt that its answer is read from.

        That is the latest, but a good reply counts more than a later failure.

        :param wanted: the identities of requests.
        """
        found = dict.fromkeys(wanted, 0)  # with the texts of the identities that are there: each may be a million
        several: set[str] = set()
        for identity, attempt in self._connection.execute(_CONCLUDED):
            before = found.get(identity)
            if before is not None:
                if before:
                    several.add(identity)
                found[identity] = attempt
        # Nearly all have one: to join the replies for the few that have more would take longer than all the rest.
        for identity in several:
            found[identity] = self._connection.execute(_BEST, (identity,)).fetchone()[0]
        for identity in [one for one, attempt in found.items() if not attempt]:
            del found[identity]
        return found

    def answers(
        self, task: str, attempts: dict[str, int], digest: Callable[[str, str], str]
    ) -> tuple[dict[str, Answer], dict[str, int]]:
        """The answers that are read already, by identity, and the attempts of those that are not.

        Quick, for there may be a million, and many say the same.

        :param attempts: which attempt each is to be read from.
        :param digest: of what the reading of a request's reply depends on today, by its identity and the endpoint.
        """
        values: dict[str, Any] = {}
        money: dict[str | None, Spending | None] = {None: None}
        found: dict[str, Any] = dict.fromkeys(attempts)
        wanted, make, shared = attempts.get, Answer._make, _Shared()
        for (
            identity, attempt, endpoint, reading, status, how, text, value, errors, note, model,
            tokens_in, tokens_out, spent, seconds,
        ) in self._connection.execute(_KEPT, (task,)):  # fmt: skip
            if wanted(identity) != attempt or reading != digest(identity, endpoint):
                continue
            source = value or text
            if not value and not how:
                read = shared[text]
            else:
                read = values[source] if source in values else _value(source, values, shared)
            paid = money[spent] if spent in money else _money(spent, money)
            places = tuple(SchemaError(*one) for one in json.loads(errors)) if errors != "[]" else ()
            found[identity] = make((
                STATUS_NAMED[status], shared[how], shared[text], read, places, note, shared[model], tokens_in,
                tokens_out, paid, seconds, (),
            ))  # fmt: skip
        unread = {identity: attempts[identity] for identity, answer in found.items() if answer is None}
        for identity in unread:
            del found[identity]
        return found, unread

    def keep(self, task: str, rows: Iterable[tuple[str, Reading]]) -> None:
        """Keep readings of a task's answers by identity, in place of what was kept before."""
        every = [_row(task, identity, kept) for identity, kept in rows]
        fresh = ", ".join(f"{name} = excluded.{name}" for name in _COLUMNS[2:])
        query = (
            f"INSERT INTO answers VALUES ({', '.join('?' * len(_COLUMNS))})"
            f" ON CONFLICT (task, identity) DO UPDATE SET {fresh}"
        )
        for first in range(0, len(every), _AT_ONCE):
            with transaction(self._connection):
                self._connection.executemany(query, every[first : first + _AT_ONCE])


class _Shared(dict[Any, Any]):
    """Texts that a million answers have in common, once each in memory."""

    def __missing__(self, text: Any) -> Any:
        if len(self) < _MOST_TEXTS and len(text or "") < _SHORT:
            self[text] = text
        return text


def _value(text: str, known: dict[str, Any], shared: _Shared) -> Any:
    """A value; of a long one only its text, for most are never looked at."""
    value = UnreadValue(shared[text]) if len(text) > _READ_AT_ONCE else json.loads(text)
    if isinstance(value, str):
        return shared[value]
    if len(known) < _MOST_VALUES and len(text) < _SHORT:
        known[text] = value
    return value


def _money(text: str, known: dict[str | None, Spending | None]) -> Spending:
    currency, amount = json.loads(text)
    found = Spending(currency, Decimal(amount))
    if len(known) < _MOST_VALUES:
        known[text] = found
    return found


def _is_as_it_came(answer: Answer) -> bool:
    """Whether the text is the value, or the value as JSON and no more: as nearly always, and then kept once."""
    if not answer.how:
        return bool(answer.value == answer.text)
    try:
        return bool(json.loads(answer.text) == answer.value)
    except (ValueError, RecursionError):
        return False


def _row(task: str, identity: str, kept: Reading) -> tuple[Any, ...]:
    one = kept.answer
    # Escaped to ASCII: a value may hold halves of surrogate pairs, which SQLite cannot.
    errors = json.dumps([(error.at, error.what, error.rule) for error in one.errors])
    spent = None if one.spent is None else json.dumps([one.spent.currency, str(one.spent.amount)])
    return (
        task, identity, kept.attempt, kept.endpoint, kept.digest, one.status, one.how, one.text,
        "" if _is_as_it_came(one) else json.dumps(one.value), errors, one.note, one.model, one.input_tokens,
        one.output_tokens, spent, one.seconds,
    )  # fmt: skip
