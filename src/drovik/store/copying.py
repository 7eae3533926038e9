"""A store copied from one place to another: from the file to a database, and back."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Iterator
from typing import Any

from drovik.errors import Problem, StoreError, UsageError
from drovik.following import followed
from drovik.project.reading import StorePlace
from drovik.store.answer_store import Store
from drovik.store.database import BROKEN, Connection, note_id, store_error, transaction
from drovik.store.postgres import PostgresConnection
from drovik.store.repair import TABLES, StoreCheck, loose_ends

_AT_ONCE = 2_000
"""Rows in one statement."""
_NUMBERED = ("replies", "quotes", "held_out_looks", "senders")
"""Tables that number their rows themselves; what comes next has to come after what was copied."""


def copy_store(
    out_of: StorePlace,
    into: StorePlace,
    of_one_moment: bool = False,
) -> dict[str, int]:
    """Copy all that a store holds into one that holds nothing, all of it or nothing; they then have the same id.

    :param of_one_moment: whether it is enough to have what there is at one moment, while others send into the store.
    :return: how many rows of each table there are.
    :raises DrovikError: where there is no store, somebody is sending into it, or the other is not empty.
    """
    if out_of.url is None and not out_of.path.exists():
        raise UsageError(Problem("there is no store here", "send something first: drovik send", str(out_of.path)))
    done: dict[str, int] = {}
    with Store(out_of, create=False) as old, Store(into) as new:
        if old.claims.others() and not of_one_moment:
            raise StoreError(Problem("a program is sending into the store", "copy it once that has ended"))
        if any(_count(new.connection, table) for table in TABLES):
            raise UsageError(Problem("the store to copy to is not empty", "name another file, or another schema"))
        try:
            with _one_moment(old.connection), transaction(new.connection):
                new.connection.execute("DELETE FROM store")
                new.connection.executemany("INSERT INTO store VALUES (?)", _rows(old.connection, "store"))
                for table in TABLES:
                    done[table] = _copy(old.connection, new.connection, table)
                _number_on(new.connection)
        except BROKEN as error:
            raise store_error(error) from None
        if into.url is None:
            note_id(into.path, str(new.connection.execute("SELECT id FROM store").fetchone()[0]))
    return done


@contextlib.contextmanager
def _one_moment(connection: Connection) -> Iterator[None]:
    """All that is read within is of the moment at which it begins."""
    is_postgres = isinstance(connection, PostgresConnection)
    connection.execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY" if is_postgres else "BEGIN")
    try:
        yield
    finally:
        connection.execute("ROLLBACK")


def check_database(place: StorePlace) -> StoreCheck:
    """What there is of a store in a database, and what in it does not go together.

    :raises DrovikError: where it cannot be used.
    """
    with Store(place, create=False) as store:
        rows: dict[str, int | None] = {table: _count(store.connection, table) for table in TABLES}
        return StoreCheck(tuple(loose_ends(store.connection)), rows)


def _count(connection: Connection, table: str) -> int:
    return int(connection.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0])


def _rows(connection: Connection, table: str) -> Iterator[tuple[Any, ...]]:
    yield from connection.execute(f"SELECT * FROM {table}")


def _copy(old: Connection, new: Connection, table: str) -> int:
    rows = followed(f"copying {table}, in rows", _rows(old, table), _count(old, table))
    count = 0
    while some := list(itertools.islice(rows, _AT_ONCE)):
        new.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * len(some[0]))})", some)
        count += len(some)
    return count


def _number_on(connection: Connection) -> None:
    """Have the next rows numbered after the last that there are, which SQLite does by itself."""
    if isinstance(connection, PostgresConnection):
        for table in _NUMBERED:
            connection.execute(
                f"SELECT setval(pg_get_serial_sequence('{table}', 'id'),"
                f" (SELECT COALESCE(MAX(id), 0) + 1 FROM {table}), false)"
            )
