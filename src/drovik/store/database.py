"""The SQLite file: opening it, and transactions. With WAL and synchronous = NORMAL a killed
program loses nothing that was committed; a power cut may lose the last moments, and damages nothing.

A store has an id, kept in it and in a small file beside it: so a store that was emptied or deleted is not taken
for a new one, which would have everything bought again without a word.
"""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from drovik.errors import (
    Problem,
    StoreDamaged,
    StoreError,
    StoreFull,
    StoreGone,
    StoreLocked,
    StoreReadOnly,
)
from drovik.store.rescue import import_rescued

LOCKED_SECONDS = 5.0
"""So long a write waits for another program's; who has more time tries again."""

VERSION = 4
"""Raised with every change of the tables; `CHANGES` says what to do with older ones."""
_NEW_ID = "INSERT INTO store VALUES (lower(hex(randomblob(16))))"
FIRST_REVISION = "INSERT INTO revision VALUES (1)"
COUNTED = ("asked", "attempts", "replies", "prepared")
"""Tables that scores are made of: every change of them is counted as a revision of the store."""
COUNTING = "COUNT CHANGES"
"""Stands for what each kind of database has to be told for that."""
CHANGES: dict[int, tuple[str, ...]] = {
    1: ("held_out_looks",),
    2: ("DROP TABLE answers", "answers"),
    3: ("revision", "judged", "outputs", FIRST_REVISION, COUNTING),
}
"""What makes a store of one version into one of the next: statements, or names of tables that are made as today."""
_SHOWN = ".drovik/answers.sqlite"


Connection = sqlite3.Connection
"""What the room asks of a connection; one to PostgreSQL is asked in the same way (`postgres.py`)."""


@dataclass(frozen=True)
class Database:
    """An open store: its id, and what is to be said of it. `copied_in` is a folder to delete at the end."""

    connection: Connection
    id: str
    notes: tuple[Problem, ...] = ()
    copied_in: str | None = None

    def close(self) -> None:
        """Close it."""
        self.connection.close()
        if self.copied_in is not None:
            shutil.rmtree(self.copied_in, ignore_errors=True)


def open_database(path: Path, create: bool = True) -> Database:
    """The store's file, open; made with its tables where it is new.

    :param create: where False, a store that is not there is one in memory, and one that cannot be written is
        read from a copy, so that what is read out of it can be kept nowhere.
    :raises DrovikError: where the file is not a store, is damaged, is gone, or was made by a later Drovik.
    """
    _require_still_there(path)
    try:
        if create:
            make_folder(path.parent)
            if not os.access(path if path.exists() else path.parent, os.W_OK):
                raise OSError(errno.EROFS, "read-only")
            return _opened(path, None, True)
        if not path.exists():
            return _opened(Path(":memory:"), None, False)
        if os.access(path, os.W_OK) and os.access(path.parent, os.W_OK):
            return _opened(path, None, False)
        folder = tempfile.mkdtemp(prefix="drovik-")
        for ending in ("", "-wal"):
            with contextlib.suppress(FileNotFoundError):
                shutil.copyfile(f"{path}{ending}", f"{folder}/answers.sqlite{ending}")
        return _opened(Path(folder) / "answers.sqlite", folder, False)
    except (*BROKEN, OSError) as error:
        raise store_error(error, path) from None


def _opened(path: Path, copied_in: str | None, is_kept: bool) -> Database:
    connection = sqlite3.connect(str(path), isolation_level=None, timeout=LOCKED_SECONDS)
    _require_ours(connection, path)
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = NORMAL")
    connection.execute("PRAGMA wal_autocheckpoint = 4000")
    _make_tables(connection)
    row = connection.execute("SELECT id FROM store").fetchone()
    id_ = str(row[0]) if row else ""
    notes: list[Problem] = []
    if is_kept:
        _, notes = import_rescued(connection, path.parent, id_)
        note_id(path, id_)
    return Database(connection, id_, tuple(notes), copied_in)


def _require_ours(connection: sqlite3.Connection, path: Path) -> None:
    """See that a database is a store, or holds nothing at all, before anything is written into it.

    :raises StoreError: where it is somebody else's.
    """
    # In this order: a store that another program makes meanwhile has its version as soon as it has tables.
    tables = connection.execute("SELECT COUNT(*) FROM sqlite_master").fetchone()[0]
    if tables and not connection.execute("PRAGMA user_version").fetchone()[0]:
        connection.close()
        raise StoreError(
            Problem("is a database, and no store of Drovik's", "move it away, or name another file", _shown(path))
        )


def id_file(path: Path) -> Path:
    """The small file that says that there is a store, beside it."""
    return path.with_suffix(".id")


def note_id(path: Path, id_: str) -> None:
    """Keep beside a store what it is known by."""
    beside = id_file(path)
    if not beside.exists() or beside.read_bytes().strip() != id_.encode():
        beside.write_text(f"{id_}\n", encoding="ascii")


def _require_still_there(path: Path) -> None:
    """See that a store that was there is not gone or empty.

    :raises DrovikError: where it is.
    """
    beside = id_file(path)
    try:
        is_there = path.stat().st_size > 0
    except OSError:
        is_there = False
    if not is_there and os.path.lexists(beside):
        what = "is empty, and held answers before" if os.path.lexists(path) else "is gone, and held answers before"
        remedy = f"restore a copy of it; or, to buy everything again, delete {path.parent.name}/{beside.name}"
        raise StoreGone(Problem(what, remedy, _SHOWN))


def make_folder(folder: Path) -> None:
    """The store's folder, with a note to git that what is in it is not to be committed."""
    if not folder.exists():
        folder.mkdir(parents=True)
        (folder / ".gitignore").write_text("*\n", encoding="utf-8")


def _make_tables(connection: sqlite3.Connection) -> None:
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version == 0:
        with transaction(connection):
            if connection.execute("PRAGMA user_version").fetchone()[0] == 0:
                for statement in (*statements(), *_triggers(), FIRST_REVISION, _NEW_ID):
                    connection.execute(statement)
                connection.execute(f"PRAGMA user_version = {VERSION}")
        version = VERSION
    while version in CHANGES:
        with transaction(connection):
            if connection.execute("PRAGMA user_version").fetchone()[0] == version:
                for change in CHANGES[version]:
                    for statement in _triggers() if change == COUNTING else [table_of_today(change)]:
                        connection.execute(statement)
                connection.execute(f"PRAGMA user_version = {version + 1}")
        version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version != VERSION:
        raise of_other_version(version)


def _triggers() -> list[str]:
    return [
        f"CREATE TRIGGER {table}_{event} AFTER {event} ON {table} BEGIN UPDATE revision SET number = number + 1; END"
        for table in COUNTED
        for event in ("INSERT", "UPDATE", "DELETE")
    ]


def of_other_version(version: int) -> StoreError:
    """That a store was made by another version."""
    what = f"was made by another version of Drovik (store version {version}, here {VERSION})"
    return StoreError(Problem(what, "use that version, or move the store away", _SHOWN))


def statements() -> list[str]:
    """The statements that make the tables of today."""
    return files("drovik.store").joinpath("tables.sql").read_text("utf-8").split(";")


def table_of_today(statement: str) -> str:
    """The statement that makes a table, where only its name is given."""
    if " " in statement:
        return statement
    return next(one for one in statements() if f"CREATE TABLE {statement} (" in one)


BROKEN = (sqlite3.Error, UnicodeDecodeError)
"""What a broken store raises: where SQLite's own message quotes damaged bytes, Python fails to decode the message."""
_OF_SQLITE: dict[int, type[StoreError]] = {
    sqlite3.SQLITE_BUSY: StoreLocked, sqlite3.SQLITE_LOCKED: StoreLocked, sqlite3.SQLITE_FULL: StoreFull,
    sqlite3.SQLITE_CORRUPT: StoreDamaged, sqlite3.SQLITE_NOTADB: StoreDamaged, sqlite3.SQLITE_READONLY: StoreReadOnly,
}  # fmt: skip
_OF_SYSTEM: dict[int, type[StoreError]] = {
    errno.ENOSPC: StoreFull,
    errno.EDQUOT: StoreFull,
    errno.EROFS: StoreReadOnly,
}
_WORDS: dict[type[StoreError], tuple[str, str]] = {
    StoreLocked: ("another program holds the store", "wait for it to end, then try again"),
    StoreFull: ("the disk is full", "make room, then send again: what came back before is kept"),
    StoreDamaged: ("is damaged", "move it away and restore a copy, or save what can be read: drovik store repair"),
    StoreReadOnly: ("cannot be written: it is read-only", "make it writable; score, show and report work as it is"),
}


def _shown(path: Path | None) -> str:
    """A store's file as it is named: that of a project from the project's folder."""
    home = Path(_SHOWN).parts
    return _SHOWN if path is None or path.parts[-len(home) :] == home else str(path)


def store_error(error: sqlite3.Error | OSError | UnicodeDecodeError, path: Path | None = None) -> StoreError:
    """An error of the store as what it is, by SQLite's own code (its lowest byte) or the system's.

    :param path: of its file; None: it is the project's.
    """
    kind = StoreError
    if isinstance(error, UnicodeDecodeError):
        kind = StoreDamaged
    elif (is_away := getattr(error, "is_away", None)) is not None:
        what = f"the store's database cannot be used: {str(error)[:200]}"
        remedy = "see that the server of `store` in drovik.toml is up, and lets you in"
        return (StoreLocked if is_away else StoreError)(Problem(what, remedy))
    elif isinstance(error, OSError):
        kind = _OF_SYSTEM.get(error.errno or 0, StoreError)
    else:
        kind = _OF_SQLITE.get(getattr(error, "sqlite_errorcode", 0) & 0xFF, StoreError)
    what, remedy = _WORDS.get(kind, (f"cannot be used: {error}", "check the folder's permissions and the disk"))
    if kind is StoreDamaged and _shown(path) != _SHOWN:
        what, remedy = "is no store, or is damaged", "name another file"
    return kind(Problem(what, remedy, _shown(path)))


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
            with contextlib.suppress(sqlite3.Error):  # SQLite has taken it back itself where it could not go on
                connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")
    except BROKEN as error:
        raise store_error(error) from error
