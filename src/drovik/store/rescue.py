"""What keeps a reply that came while the store cannot be written: room set aside, and rescue files.

Room: a file of a few megabytes that is deleted when the disk is full, so that what is under way can still be
kept. A rescue file: one JSON line for each reply that could not be put into the store for any reason. It lies in
the store's own folder, or where that cannot be written in the user's data folder, which only the user can enter;
the system's temporary folder is everybody's, and what lies there anybody may have put there. Each row says of
which store it is and what was asked, and is taken in only where both fit.
"""

from __future__ import annotations

import base64
import binascii
import contextlib
import json
import os
import sqlite3
import stat
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from platformdirs import user_data_path

from drovik.errors import Problem
from drovik.store.records import REPLY_COLUMNS

RESERVED_BYTES = 4_000_000
"""Room set aside for replies under way when the disk is full: what a kill or a full disk may cost is bounded by
it."""
MOST_RESCUED_BYTES = 2_000_000_000
"""Of one rescue file: more would not be read back into memory."""
ATTEMPT_COLUMNS = ("outcome", "concluded", "seconds", "note")
_KINDS: dict[str, type | tuple[type, ...]] = {
    "attempt": int, "identity": str, "outcome": str, "concluded": int, "seconds": (int, float), "note": str,
    "at": str, "http_status": int, "body": str, "model": (str, type(None)), "input_tokens": (int, type(None)),
    "output_tokens": (int, type(None)), "price": (str, type(None)), "counters": (str, type(None)),
    "pictures": (int, type(None)),
}  # fmt: skip
_LARGEST = 2**63 - 1
"""SQLite's largest integer."""

Ended = Mapping[str, Any]
"""How an attempt ended, in plain values: `attempt`, its `identity` and columns, `reply` with its columns or None."""


def reserve_room(folder: Path) -> None:
    """Set room aside, if there is some."""
    path = folder / "reserve"
    with contextlib.suppress(OSError):
        if not path.exists() or path.stat().st_size < RESERVED_BYTES:
            path.write_bytes(b"\0" * RESERVED_BYTES)


def release_room(folder: Path) -> bool:
    """Give the room that was set aside; False if there is none."""
    try:
        (folder / "reserve").unlink()
    except OSError:
        return False
    return True


def rescue_folder() -> Path:
    """Where rescue files go whose store's folder cannot be written."""

    return user_data_path("drovik") / "rescued"


def rescue_reply(folder: Path, store_id: str, ended: Iterable[Ended]) -> Path | None:
    """Keep what could not be kept in the store; where, or None where not even that works."""
    text = "".join(json.dumps({"store": store_id, **_plain(one)}) + "\n" for one in ended)
    for place in (folder, rescue_folder()):
        path = place / f"rescued-{store_id}-{os.getpid()}.jsonl"
        with contextlib.suppress(OSError):
            if place != folder:
                place.mkdir(parents=True, exist_ok=True, mode=0o700)
                _require_own(place)
            with open(path, "a", encoding="ascii", opener=_for_one_user) as file:
                file.write(text)
                file.flush()
                os.fsync(file.fileno())
            return path
    return None


def _for_one_user(name: str, flags: int) -> int:
    return os.open(name, flags | getattr(os, "O_NOFOLLOW", 0), 0o600)


def _require_own(place: Path) -> None:
    """See that a folder is this user's alone.

    :raises OSError: where it is not.
    """
    looks = place.lstat()
    if not stat.S_ISDIR(looks.st_mode) or looks.st_uid != os.getuid():
        raise PermissionError(place)
    if looks.st_mode & 0o077:
        place.chmod(0o700)


def import_rescued(connection: sqlite3.Connection, folder: Path, store_id: str) -> tuple[int, list[Problem]]:
    """Take in what was kept beside the store. A file is deleted once all of it is in.

    :return: how many replies there were, and what could not be taken in, a line for each file.
    """
    count = 0
    problems = []
    for path in _files(folder, store_id):
        rows, unfit = _rows_of(path, connection, store_id)
        connection.execute("BEGIN IMMEDIATE")
        for row in rows:
            write_ended(connection, row)
        connection.execute("COMMIT")
        count += len(rows)
        if unfit:
            aside = path.with_suffix(".unfit")
            path.replace(aside)
            what = f"{unfit} of its rows are broken or belong to another store, and were not taken in"
            problems.append(Problem(what, "keep it with the store that it came from, or delete it", str(aside)))
        else:
            path.unlink()
    return count, problems


def _files(folder: Path, store_id: str) -> list[Path]:
    """The rescue files that may be read: regular files of this user, in the store's folder or the user's own."""
    found = sorted(folder.glob("rescued-*.jsonl"))
    elsewhere = rescue_folder()
    with contextlib.suppress(OSError):
        _require_own(elsewhere)
        found += sorted(elsewhere.glob(f"rescued-{store_id}-*.jsonl"))
    return [path for path in found if _is_own_file(path)]


def _is_own_file(path: Path) -> bool:
    try:
        looks = path.lstat()
    except OSError:
        return False
    return stat.S_ISREG(looks.st_mode) and looks.st_uid == os.getuid() and looks.st_size <= MOST_RESCUED_BYTES


def _rows_of(path: Path, connection: sqlite3.Connection, store_id: str) -> tuple[list[dict[str, Any]], int]:
    """The rows of a file that fit the store, and how many do not; a last line that was broken off does not."""
    rows = []
    unfit = 0
    with path.open("rb") as file:
        for line in file:
            row = _row_of(line)
            if row is not None and row["store"] == store_id and _was_asked(connection, row):
                rows.append(row)
            else:
                unfit += 1
    return rows, unfit


def _was_asked(connection: sqlite3.Connection, row: Mapping[str, Any]) -> bool:
    found = connection.execute("SELECT identity FROM attempts WHERE id = ?", (row["attempt"],)).fetchone()
    return found is not None and found[0] == row["identity"]


def _row_of(line: bytes) -> dict[str, Any] | None:
    """A row of a rescue file; None for anything that `rescue_reply` did not write."""
    try:
        row = json.loads(line)
        reply = row["reply"]
        plain = {name: row[name] for name in ("store", "attempt", "identity", *ATTEMPT_COLUMNS)}
        kept = None if reply is None else {name: reply[name] for name in REPLY_COLUMNS}
        for name, value in {**plain, **(kept or {})}.items():
            fits = isinstance(value, _KINDS.get(name, str)) and not isinstance(value, bool)
            if not fits or (isinstance(value, int) and abs(value) > _LARGEST):
                return None
        if kept is not None:
            kept["body"] = base64.b64decode(kept["body"], validate=True)
    except (ValueError, KeyError, TypeError, RecursionError, binascii.Error):
        return None
    return {**plain, "reply": kept}


def write_ended(connection: sqlite3.Connection, ended: Ended) -> None:
    """Put how an attempt ended into the store, with its reply where one came."""
    write_all_ended(connection, [ended])


_END = f"UPDATE attempts SET {', '.join(f'{name} = ?' for name in ATTEMPT_COLUMNS)} WHERE id = ?"
_REPLY = (
    f"INSERT INTO replies (attempt, {', '.join(REPLY_COLUMNS)}) VALUES (?{', ?' * len(REPLY_COLUMNS)})"
    " ON CONFLICT DO NOTHING"
)


def write_all_ended(connection: sqlite3.Connection, rows: Sequence[Ended]) -> list[None]:
    """Put how attempts ended into the store, with the replies that came."""
    connection.executemany(_END, [(*(one[name] for name in ATTEMPT_COLUMNS), one["attempt"]) for one in rows])
    replies = [(one["attempt"], *(one["reply"][name] for name in REPLY_COLUMNS)) for one in rows if one["reply"]]
    connection.executemany(_REPLY, replies)
    return [None] * len(rows)


def _plain(ended: Ended) -> dict[str, Any]:
    reply = ended["reply"]
    coded = None if reply is None else {**reply, "body": base64.b64encode(reply["body"]).decode("ascii")}
    return {**ended, "reply": coded}
