"""The SQLite file: opening it, and transactions. With WAL and synchronous = NORMAL a killed
program loses nothing that was committed; a power cut may lose the last moments, and damages nothing.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

from drovik.problems import DrovikError, Problem
from drovik.store.rescue import take_in

LOCKED_SECONDS = 5.0
"""So long a write waits for another program's; who has more time tries again."""

VERSION = 3
_TABLES_OF_3 = ("asked", "prepared", "looks", "senders", "claims", "quotes")
_CHANGES: dict[int, tuple[str, ...]] = {
    1: (
        "ALTER TABLE replies ADD COLUMN counters TEXT",
        "CREATE TABLE handles (key TEXT PRIMARY KEY, taken TEXT NOT NULL, expires REAL NOT NULL) WITHOUT ROWID",
        "ALTER TABLE asked RENAME TO asked_before",
        """
        CREATE TABLE asked (
            task TEXT NOT NULL, arm TEXT NOT NULL, case_id TEXT NOT NULL, repeat INTEGER NOT NULL,
            turn INTEGER NOT NULL, name TEXT NOT NULL, identity TEXT NOT NULL, at TEXT NOT NULL,
            PRIMARY KEY (task, arm, case_id, repeat, turn)
        ) WITHOUT ROWID
        """,
        "INSERT INTO asked SELECT task, arm, case_id, repeat, 1, name, identity, at FROM asked_before",
        "DROP TABLE asked_before",
    ),
    2: (
        "ALTER TABLE replies ADD COLUMN pictures INTEGER",
        "ALTER TABLE attempts ADD COLUMN bound TEXT",
        "CREATE INDEX attempts_held ON attempts (outcome) WHERE bound IS NOT NULL",
        "DROP TABLE prepared",
        "ALTER TABLE asked RENAME TO asked_before",
        *_TABLES_OF_3,
        "INSERT INTO asked SELECT task, arm, case_id, repeat, turn, 0, name, identity, at FROM asked_before",
        "DROP TABLE asked_before",
    ),
}
"""What makes a store of one version into one of the next."""
_SHOWN = ".drovik/answers.sqlite"


def open_database(path: Path, create: bool = True) -> sqlite3.Connection:
    """A connection to the store's file, made with its tables where it is new.

    :param create: where False, a store that is not there is one in memory, empty and read only in effect.
    :raises DrovikError: where the file is no store, is damaged, or was made by a later Drovik.
    """
    try:
        if create:
            _make_folder(path.parent)
        where = str(path) if create or path.exists() else ":memory:"
        connection = sqlite3.connect(where, isolation_level=None, timeout=LOCKED_SECONDS)
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = NORMAL")
        connection.execute("PRAGMA wal_autocheckpoint = 4000")
        _make_tables(connection)
        if create:
            take_in(connection, path.parent)
    except (sqlite3.Error, OSError) as error:
        raise DrovikError(trouble(error)) from None
    return connection


def _make_folder(folder: Path) -> None:
    """The store's folder, with a note to git that what is in it is not to be committed."""
    if not folder.exists():
        folder.mkdir(parents=True)
        (folder / ".gitignore").write_text("*\n", encoding="utf-8")


def _make_tables(connection: sqlite3.Connection) -> None:
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version == 0:
        with transaction(connection):
            if connection.execute("PRAGMA user_version").fetchone()[0] == 0:
                for statement in _statements():
                    connection.execute(statement)
                connection.execute(f"PRAGMA user_version = {VERSION}")
    while version in _CHANGES:
        with transaction(connection):
            if connection.execute("PRAGMA user_version").fetchone()[0] == version:
                for statement in _CHANGES[version]:
                    connection.execute(_table_of_today(statement))
                connection.execute(f"PRAGMA user_version = {version + 1}")
        version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version not in (0, VERSION):
        what = f"was made by another version of Drovik (store version {version}, here {VERSION})"
        raise DrovikError(Problem(what, "use that version, or move the file away", _SHOWN))


def _statements() -> list[str]:
    return files("drovik.store").joinpath("tables.sql").read_text("utf-8").split(";")


def _table_of_today(statement: str) -> str:
    """The statement that makes a table, where only its name is given."""
    if " " in statement:
        return statement
    return next(one for one in _statements() if f"CREATE TABLE {statement} (" in one)


def trouble(error: sqlite3.Error | OSError) -> Problem:
    """What is wrong with the store, and what to do about it."""
    text = str(error)
    if "locked" in text:
        return Problem("another program holds the store", "wait for it to end, then try again", _SHOWN)
    if "full" in text:
        return Problem("the disk is full", "make room, then send again: what came back before is kept", _SHOWN)
    if "not a database" in text or "malformed" in text:
        return Problem("is damaged", "move it away and restore a copy, or start a new one", _SHOWN)
    return Problem(f"cannot be used: {text}", "check the folder's permissions and the disk", _SHOWN)


@contextlib.contextmanager
def transaction(connection: sqlite3.Connection) -> Iterator[None]:
    """All or nothing of what is written inside.

    :raises DrovikError: where the store cannot be written.
    """
    try:
        connection.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")
    except sqlite3.Error as error:
        raise DrovikError(trouble(error)) from None
