"""What keeps a reply that came while the store cannot be written: room set aside, and a file beside the store.

Room: a file of a few megabytes that is deleted when the disk is full, so that what is under way can still be
kept. The file beside: one JSON line for each reply that could not be put into the store for any reason; it is
taken in when the store is opened the next time.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import os
import sqlite3
import tempfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

RESERVED_BYTES = 4_000_000
ATTEMPT_COLUMNS = ("outcome", "concluded", "seconds", "note")
REPLY_COLUMNS = (
    "at", "http_status", "body", "model", "input_tokens", "output_tokens", "price", "counters", "pictures",
)  # fmt: skip

Ended = Mapping[str, Any]
"""How an attempt ended, in plain values: `attempt`, its columns, and `reply` with its columns or None."""


def set_aside(folder: Path) -> None:
    """Set room aside, where there is some."""
    path = folder / "reserve"
    with contextlib.suppress(OSError):
        if not path.exists() or path.stat().st_size < RESERVED_BYTES:
            path.write_bytes(b"\0" * RESERVED_BYTES)


def give_room(folder: Path) -> bool:
    """Give the room that was set aside; False where there is none."""
    try:
        (folder / "reserve").unlink()
    except OSError:
        return False
    return True


def _places(folder: Path) -> list[tuple[Path, str]]:
    """Where what could not be kept is put, and under what names: beside the store, else among temporary files."""
    mark = hashlib.sha256(str(folder.resolve()).encode()).hexdigest()[:12]
    return [(folder, "rescued-*.jsonl"), (Path(tempfile.gettempdir()), f"drovik-{mark}-rescued-*.jsonl")]


def put_beside(folder: Path, ended: Iterable[Ended]) -> Path | None:
    """Keep what could not be kept in the store; where, or None where not even that works."""
    text = "".join(json.dumps(_plain(one)) + "\n" for one in ended)
    for place, pattern in _places(folder):
        path = place / pattern.replace("*", str(os.getpid()))
        with contextlib.suppress(OSError), path.open("a", encoding="ascii") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
            return path
    return None


def take_in(connection: sqlite3.Connection, folder: Path) -> int:
    """Take in what was kept beside the store; how many there were. A file is deleted once all of it is in."""
    count = 0
    for path in sorted(path for place, pattern in _places(folder) for path in place.glob(pattern)):
        rows = [json.loads(line) for line in path.read_text("ascii").splitlines() if line.endswith("}")]
        connection.execute("BEGIN IMMEDIATE")
        for row in rows:
            write_ended(connection, _bytes_again(row))
        connection.execute("COMMIT")
        path.unlink()
        count += len(rows)
    return count


def write_ended(connection: sqlite3.Connection, ended: Ended) -> None:
    """Put how an attempt ended into the store, with its reply where one came."""
    values = [ended[name] for name in ATTEMPT_COLUMNS]
    sets = ", ".join(f"{name} = ?" for name in ATTEMPT_COLUMNS)
    connection.execute(f"UPDATE attempts SET {sets} WHERE id = ?", (*values, ended["attempt"]))
    reply = ended["reply"]
    if reply is not None:
        columns, marks = ", ".join(REPLY_COLUMNS), ", ".join("?" * len(REPLY_COLUMNS))
        connection.execute(
            f"INSERT OR IGNORE INTO replies (attempt, {columns}) VALUES (?, {marks})",
            (ended["attempt"], *(reply[name] for name in REPLY_COLUMNS)),
        )


def _plain(ended: Ended) -> dict[str, Any]:
    reply = ended["reply"]
    coded = None if reply is None else {**reply, "body": base64.b64encode(reply["body"]).decode("ascii")}
    return {**ended, "reply": coded}


def _bytes_again(row: dict[str, Any]) -> dict[str, Any]:
    if row["reply"] is not None:
        row["reply"]["body"] = base64.b64decode(row["reply"]["body"])
    return row
