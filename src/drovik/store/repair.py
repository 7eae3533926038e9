"""Checking a store that may be damaged, and saving what can be read of one that is.

The check is SQLite's own (`PRAGMA integrity_check`). The repair reads each table row by row, by its key from both
ends and then number by number, so that a page that cannot be read costs the rows on it and no others; what is out of
SQLite's reach because its table's root is lost is looked for page by page. The old file is kept, and so is its id:
rescue files still fit.
"""

from __future__ import annotations

import contextlib
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

from drovik.errors import Problem, StoreError
from drovik.parsing.status import Status
from drovik.store.database import BROKEN, id_file, open_database, store_error
from drovik.store.pages import JSON_COLUMNS, fits, rows_on_pages, unreadable_values
from drovik.text import counted

TABLES = (
    "requests", "asked", "attempts", "replies", "answers", "quotes", "held_out_looks", "handles", "sources",
    "prepared", "looks",
)  # fmt: skip
"""In the order in which they are saved; who sends just now is not."""
CACHES = ("answers", "sources", "prepared", "looks")
"""What is made again from the rest, so that nothing is lost with it."""
_KEYS = {
    "requests": ("identity",), "asked": ("task", "arm", "case_id", "repeat", "turn", "second"),
    "attempts": ("id",), "replies": ("id",), "answers": ("task", "identity"), "quotes": ("id",),
    "held_out_looks": ("id",), "handles": ("key",),
    "sources": ("path",), "prepared": ("source", "prep"), "looks": ("source", "prep"),
}  # fmt: skip
_LOST = "a.outcome = 'answered' AND NOT EXISTS (SELECT 1 FROM replies r WHERE r.attempt = a.id)"
_MOST_NUMBERS = 20_000_000
"""Rows gone through one by one: minutes."""
_COPY = "copy.sqlite"
_SHOWN = ".drovik/answers.sqlite"


@dataclass(frozen=True)
class StoreCheck:
    """What the check found: SQLite's own lines, none where all is well; and how many rows each table has."""

    errors: tuple[str, ...]
    rows: dict[str, int | None]


@dataclass
class Repaired:
    """How many rows of each table were saved, what is missing in words, how many requests will be sent again for
    lack of their reply, and where the damaged file is kept.
    """

    saved: dict[str, int] = field(default_factory=dict)
    missing: list[str] = field(default_factory=list)
    to_send: int = 0
    kept: str = ""


def check_store(path: Path) -> StoreCheck:
    """Check a store; nothing in it is changed.

    :raises DrovikError: if there is none.
    """
    if not path.exists():
        raise StoreError(Problem("there is no store here yet", "send something first: drovik send", _SHOWN))
    errors: list[str] = []
    rows: dict[str, int | None] = {}
    with tempfile.TemporaryDirectory(prefix="drovik-") as folder, _copy_of(path, Path(folder)) as connection:
        try:
            found = [str(row[0]) for row in connection.execute("PRAGMA integrity_check(100)")]
            errors += [line for text in found for line in text.splitlines() if line not in ("ok", "")]
        except BROKEN as error:
            errors.append(str(error))
        for table in TABLES:
            try:
                rows[table] = int(connection.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0])
            except BROKEN as error:
                rows[table] = None
                errors.append(f"{table}: {error}")
        errors += loose_ends(connection)
        errors += unreadable_values(connection)
    return StoreCheck(tuple(dict.fromkeys(errors)), rows)


def loose_ends(connection: sqlite3.Connection) -> list[str]:
    """What a database cannot know to be wrong: replies without an attempt, answers to nothing."""
    found = []
    with contextlib.suppress(*BROKEN):
        query = "SELECT COUNT(*) FROM replies r WHERE NOT EXISTS (SELECT 1 FROM attempts a WHERE a.id = r.attempt)"
        count = connection.execute(query).fetchone()[0]
        if count:
            found.append(f"{counted(count, 'reply')} without an attempt")
    return found


@contextlib.contextmanager
def _copy_of(path: Path, folder: Path) -> Iterator[sqlite3.Connection]:
    """A copy of a store, with what is in its log: the check of one that is damaged must not make it worse."""
    try:
        for ending in ("", "-wal"):
            with contextlib.suppress(FileNotFoundError):
                shutil.copyfile(f"{path}{ending}", folder / f"{_COPY}{ending}")
        connection = sqlite3.connect(folder / _COPY, isolation_level=None)
    except (*BROKEN, OSError) as error:
        raise store_error(error) from None
    connection.execute("PRAGMA cell_size_check = ON")
    with contextlib.suppress(*BROKEN):  # so that all of it is on the pages of one file
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    connection.text_factory = lambda data: data.decode("utf-8", "surrogateescape")
    try:
        yield connection
    finally:
        connection.close()


def repair_store(path: Path) -> Repaired:
    """Save what can be read of a store into a new file in its place; the damaged one is kept beside it.

    :raises DrovikError: if there is none, or nothing in it can be read.
    """
    if not path.exists():
        raise StoreError(Problem("there is no store here", "restore a copy of it", _SHOWN))
    done = Repaired()
    with tempfile.TemporaryDirectory(prefix=".repair-", dir=path.parent) as folder:
        with _copy_of(path, Path(folder)) as damaged:
            fresh = Path(folder) / "fresh" / "answers.sqlite"
            database = open_database(fresh)
            try:
                _save(damaged, Path(folder) / _COPY, database.connection, done)
                _reopen(database.connection, done)
                _give_id(damaged, database.connection, id_file(path))
            finally:
                database.close()
        if not any(done.saved.values()):
            raise StoreError(Problem("nothing in it can be read", "restore a copy of it", _SHOWN))
        _put_in_place(fresh, path, done)
    return done


def _save(damaged: sqlite3.Connection, file: Path, into: sqlite3.Connection, done: Repaired) -> None:
    for table in TABLES:
        columns = [row[1] for row in into.execute(f"PRAGMA table_info({table})")]
        insert = f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})"
        into.execute("BEGIN")
        trouble_with = _copy_rows(damaged, table, columns, insert, into)
        if trouble_with and table not in CACHES:
            _copy_from_pages(file, table, insert, into)
        into.execute("COMMIT")
        done.saved[table] = int(into.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0])
        if trouble_with:
            again = "; they are made again" if table in CACHES else ""
            done.missing.append(f"{table}: {_how_many(into, table)} could not be read ({trouble_with}){again}")


def _reopen(into: sqlite3.Connection, done: Repaired) -> None:
    """Have what lost its reply asked again, unless the answer that was read from it is still there."""
    is_read = f"EXISTS (SELECT 1 FROM answers x WHERE x.identity = a.identity AND x.status != '{Status.FAILED}')"
    read = into.execute(f"SELECT COUNT(*) FROM attempts a WHERE {_LOST} AND {is_read}").fetchone()[0]
    query = f"UPDATE attempts AS a SET concluded = 0, outcome = 'lost' WHERE {_LOST} AND NOT {is_read}"
    done.to_send = into.execute(query).rowcount
    if read:
        done.missing.append(f"{read} of these replies have been read: their answers are kept")


def _copy_rows(
    out_of: sqlite3.Connection, table: str, columns: list[str], insert: str, into: sqlite3.Connection
) -> str:
    """Copy what can be read of a table; why not all of it could be, empty where it could."""
    chosen = ", ".join(columns)
    why = ""
    for direction in ("ASC", "DESC"):
        order = ", ".join(f"{key} {direction}" for key in _KEYS[table])
        try:
            for row in out_of.execute(f"SELECT {chosen} FROM {table} ORDER BY {order}"):
                _insert(into, insert, _readable(table, columns, row))
        except BROKEN as error:
            why = str(error)
        if not why:
            return ""
    if _KEYS[table] == ("id",):
        for number in range(1, _last_number(out_of, into, table) + 1):
            with contextlib.suppress(*BROKEN):
                row = out_of.execute(f"SELECT {chosen} FROM {table} WHERE id = ?", (number,)).fetchone()
                if row is not None:
                    _insert(into, insert, _readable(table, columns, row))
    return why


def _readable(table: str, columns: list[str], row: tuple[Any, ...]) -> tuple[Any, ...]:
    """A row in which what damage made unreadable is left out; where something has to be there, the row goes."""
    json_columns = JSON_COLUMNS.get(table, ())
    kept = []
    for name, value in zip(columns, row, strict=True):
        kind = "json" if name in json_columns else "text" if isinstance(value, str) else ""
        kept.append(value if not kind or fits(kind, value) else None)
    return tuple(kept)


def _insert(into: sqlite3.Connection, insert: str, row: tuple[Any, ...]) -> None:
    with contextlib.suppress(sqlite3.IntegrityError, sqlite3.ProgrammingError):  # a row that damage made senseless
        into.execute(insert, row)


def _last_number(out_of: sqlite3.Connection, into: sqlite3.Connection, table: str) -> int:
    for connection in (out_of, into):
        with contextlib.suppress(*BROKEN):
            last = connection.execute(f"SELECT MAX(id) FROM {table}").fetchone()[0]
            if last is not None:
                return min(int(last), _MOST_NUMBERS)
    return 0


def _how_many(into: sqlite3.Connection, table: str) -> str:
    """How many rows are missing, where that can be told."""
    if table == "replies":
        return f"{into.execute(f'SELECT COUNT(*) FROM attempts a WHERE {_LOST}').fetchone()[0]} replies"
    if table == "attempts":
        last = into.execute("SELECT MAX(id), COUNT(*) FROM attempts").fetchone()
        return f"{(last[0] or 0) - last[1]} attempts or more"
    return "some rows"


def _copy_from_pages(file: Path, table: str, insert: str, into: sqlite3.Connection) -> None:
    """Copy what looks like rows of a table, from wherever it is; what is there already stays."""
    columns = [_Column(*row) for row in into.execute(f"PRAGMA table_info({table})")]
    is_numbered = _KEYS[table] == ("id",)
    names = [column.name for column in columns]
    for number, values in rows_on_pages(file):
        if (number is not None) != is_numbered or len(values) != len(columns):
            continue
        row = (number, *values[1:]) if is_numbered else values
        if all(column.may_hold(value) for column, value in zip(columns, row, strict=True)):
            _insert(into, insert, _readable(table, names, row))


class _Column(NamedTuple):
    """A column, as SQLite tells of it."""

    place: int
    name: str
    kind: str
    is_needed: int
    default: str | None
    key: int

    def may_hold(self, value: object) -> bool:
        kinds = {"TEXT": str, "INTEGER": int, "REAL": int | float, "BLOB": str | bytes}
        return not (self.is_needed or self.key) if value is None else isinstance(value, kinds[self.kind])


def _give_id(damaged: sqlite3.Connection, into: sqlite3.Connection, beside: Path) -> None:
    """Let the new store be known by what the old one was known by."""
    known: str | None = None
    with contextlib.suppress(*BROKEN, TypeError):
        known = str(damaged.execute("SELECT id FROM store").fetchone()[0])
    if known is None and beside.exists():
        known = beside.read_text("ascii", "replace").strip()
    if known:
        into.execute("UPDATE store SET id = ?", (known,))


def _put_in_place(fresh: Path, path: Path, done: Repaired) -> None:
    number = 1
    while (kept := path.with_name(f"{path.stem}-damaged-{number}{path.suffix}")).exists():
        number += 1
    try:
        path.replace(kept)
        for ending in ("-wal", "-shm"):
            with contextlib.suppress(FileNotFoundError):
                Path(f"{path}{ending}").replace(f"{kept}{ending}")
        fresh.replace(path)
    except OSError as error:
        raise store_error(error) from None
    done.kept = kept.name
