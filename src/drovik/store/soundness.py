"""Whether the values of a store can be read: SQLite's own check finds broken pages, not a byte changed in a value."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator

JSON_COLUMNS = {
    "requests": ("asked",), "attempts": ("bound",), "replies": ("price", "counters"), "answers": ("value", "errors"),
    "prepared": ("places",), "looks": ("facts",), "handles": ("taken",), "quotes": ("quoted",),
}  # fmt: skip
_TEXTS = {
    "asked": ("task", "arm", "case_id", "name", "identity"), "attempts": ("identity", "endpoint", "outcome", "note"),
    "replies": ("model",), "answers": ("task", "identity", "reading", "status", "how", "text", "note"),
    "sources": ("path", "digest"), "prepared": ("source", "prep", "digest"), "looks": ("source", "prep"),
}  # fmt: skip
_NUMBERS = {"replies": ("http_status", "input_tokens", "output_tokens", "pictures"), "attempts": ("round", "seconds")}


def unreadable_values(connection: sqlite3.Connection) -> list[str]:
    """In words, in which tables there are values that cannot be read, and in how many rows."""
    found = []
    for table in dict.fromkeys((*JSON_COLUMNS, *_TEXTS)):
        count = 0
        try:
            for row in _rows(connection, table):
                count += any(not fits(kind, value) for kind, value in row)
        except (sqlite3.Error, UnicodeDecodeError) as error:
            found.append(f"{table}: {error}")
        if count:
            found.append(f"{table}: {count} rows hold values that cannot be read")
    return found


def _rows(connection: sqlite3.Connection, table: str) -> Iterator[list[tuple[str, object]]]:
    kinds = [(name, "json") for name in JSON_COLUMNS.get(table, ())]
    kinds += [(name, "text") for name in _TEXTS.get(table, ())]
    kinds += [(name, "number") for name in _NUMBERS.get(table, ())]
    chosen = ", ".join(name if kind == "number" else f"CAST({name} AS BLOB)" for name, kind in kinds)
    for row in connection.execute(f"SELECT {chosen} FROM {table}"):
        yield [(kind, value) for (_, kind), value in zip(kinds, row, strict=True)]


def fits(kind: str, value: object) -> bool:
    """Whether a value is what its column holds; nothing fits everywhere."""
    if value is None:
        return True
    if kind == "number":
        return isinstance(value, int | float)
    data = value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
    if not isinstance(data, bytes):
        return False
    try:
        text = data.decode("utf-8")
        if kind == "json" and text:
            json.loads(text)
    except (ValueError, RecursionError):
        return False
    return True
