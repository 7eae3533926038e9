"""The rows on the pages of a SQLite file, whichever tables they belong to: what is left where a table's root is lost.

SQLite reads a table from its root page down; where that page, or one between, cannot be read, all below it is out of
reach though it is whole. Here each page is looked at by itself, as SQLite's file format has it (its sections 1.5, the
free list, 1.6, pages of b-trees, and 2.1, records). Anything that does not add up is passed over.

Whether the values of a store can be read: SQLite's own check finds broken pages, not a byte changed in a value.
"""

from __future__ import annotations

import json
import sqlite3
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

Value = str | bytes | int | float | None
_ROWS, _KEYS, _KEYS_ABOVE = 13, 10, 2
"""Kinds of pages that hold records: leaves of tables with row numbers; leaves and inner pages of those without."""
_INTEGER_BYTES = (0, 1, 2, 3, 4, 6, 8)
"""How long an integer is by its serial type, 0 to 6 (SQLite's file format, 2.1)."""
_REAL, _ZERO, _ONE, _FIRST_BYTES = 7, 8, 9, 12
"""The other serial types of the format."""
_HEADER = 100
"""Bytes before the first page's own header."""


class PageRow(NamedTuple):
    """A row: its number (None in a table without row numbers), and the values of its columns as they are kept."""

    number: int | None
    values: tuple[Value, ...]


def rows_on_pages(path: Path) -> Iterator[PageRow]:
    """Every row on every page in use of a SQLite file, in the order of the pages."""
    data = path.read_bytes()
    size = int.from_bytes(data[16:18], "big")
    size = 65536 if size == 1 else size
    if size < 512 or size & (size - 1):
        return
    file = _File(data, size, size - data[20])
    free = file.free_pages()
    for number in range(1, len(data) // size + 1):
        if number not in free:
            yield from file.rows(number)


class _File(NamedTuple):
    data: bytes
    size: int
    usable: int

    def page(self, number: int) -> bytes:
        return self.data[(number - 1) * self.size : number * self.size]

    def free_pages(self) -> set[int]:
        """The numbers of the pages that hold nothing now, though what they held may still be read."""
        found: set[int] = set()
        trunk = int.from_bytes(self.data[32:36], "big")
        while trunk and trunk not in found:
            found.add(trunk)
            page = self.page(trunk)
            following, count = struct.unpack_from(">II", page) if len(page) >= 8 else (0, 0)
            count = min(count, self.size // 4 - 2)
            found.update(struct.unpack_from(f">{count}I", page, 8) if len(page) == self.size else ())
            trunk = following
        return found

    def rows(self, number: int) -> Iterator[PageRow]:
        """The rows of one page; none of a page that holds none, or of a cell that cannot be read."""
        page = self.page(number)
        start = _HEADER if number == 1 else 0
        kind = page[start]
        if kind not in (_ROWS, _KEYS, _KEYS_ABOVE):
            return
        count = int.from_bytes(page[start + 3 : start + 5], "big")
        first = start + (12 if kind == _KEYS_ABOVE else 8)
        for at in range(first, min(first + 2 * count, self.size - 1), 2):
            try:
                yield self._row(page, int.from_bytes(page[at : at + 2], "big"), kind)
            except (ValueError, IndexError, struct.error, UnicodeDecodeError):
                continue

    def _row(self, page: bytes, at: int, kind: int) -> PageRow:
        at += 4 if kind == _KEYS_ABOVE else 0
        length, at = _varint(page, at)
        number = None
        if kind == _ROWS:
            number, at = _varint(page, at)
        return PageRow(number, _record(self._payload(page, at, length, kind)))

    def _payload(self, page: bytes, at: int, length: int, kind: int) -> bytes:
        """A cell's record: what is on its page, and what overflows to others (1.6, "payload that spills")."""
        most = self.usable - 35 if kind == _ROWS else (self.usable - 12) * 64 // 255 - 23
        if length <= most:
            return _exactly(page[at : at + length], length)
        least = (self.usable - 12) * 32 // 255 - 23
        here = least + (length - least) % (self.usable - 4)
        here = here if here <= most else least
        parts = [_exactly(page[at : at + here], here)]
        following = int.from_bytes(page[at + here : at + here + 4], "big")
        left = length - here
        while left > 0 and following:
            more = self.page(following)
            part = _exactly(more[4 : 4 + min(left, self.usable - 4)], min(left, self.usable - 4))
            parts.append(part)
            left -= len(part)
            following = int.from_bytes(more[:4], "big")
        return _exactly(b"".join(parts), length)


def _exactly(data: bytes, length: int) -> bytes:
    if len(data) != length:
        raise ValueError("it is cut short")
    return data


def _varint(data: bytes, at: int) -> tuple[int, int]:
    """A number of one to nine bytes (1.6, "varint"), and where the next thing begins."""
    value = 0
    for _ in range(8):
        byte = data[at]
        at += 1
        value = value << 7 | byte & 0x7F
        if byte < 0x80:
            return value, at
    value = value << 8 | data[at]
    return value - (1 << 64 if value >= 1 << 63 else 0), at + 1


def _record(data: bytes) -> tuple[Value, ...]:
    """A record's values (2.1)."""
    header, at = _varint(data, 0)
    kinds = []
    while at < header:
        kind, at = _varint(data, at)
        kinds.append(kind)
    values = []
    at = header
    for kind in kinds:
        value, at = _value(data, at, kind)
        values.append(value)
    if at != len(data):
        raise ValueError("it is longer than its values")
    return tuple(values)


def _value(data: bytes, at: int, kind: int) -> tuple[Value, int]:
    if kind >= _FIRST_BYTES:
        length = (kind - _FIRST_BYTES) // 2
        part = _exactly(data[at : at + length], length)
        return part.decode("utf-8", "surrogateescape") if kind % 2 else part, at + length
    if kind in (0, _ZERO, _ONE):
        return (None if kind == 0 else kind - _ZERO), at
    if kind == _REAL:
        return float(struct.unpack_from(">d", data, at)[0]), at + 8
    if kind > _ONE:
        raise ValueError("no record has such a value")
    length = _INTEGER_BYTES[kind]
    return int.from_bytes(_exactly(data[at : at + length], length), "big", signed=True), at + length


JSON_COLUMNS = {
    "requests": ("asked",), "attempts": ("bound",), "replies": ("price", "counters"),
    "answers": ("value", "errors", "spent"), "prepared": ("places",), "looks": ("facts",), "handles": ("taken",),
    "quotes": ("quoted",),
}  # fmt: skip
_TEXTS = {
    "asked": ("task", "arm", "case_id", "name", "identity"), "attempts": ("identity", "endpoint", "outcome", "note"),
    "replies": ("model",),
    "answers": ("task", "identity", "endpoint", "reading", "status", "how", "text", "note", "model"),
    "sources": ("path", "digest"), "prepared": ("source", "prep", "digest"), "looks": ("source", "prep"),
}  # fmt: skip
_NUMBERS = {
    "replies": ("http_status", "input_tokens", "output_tokens", "pictures"), "attempts": ("round", "seconds"),
    "answers": ("attempt", "input_tokens", "output_tokens", "seconds"),
}  # fmt: skip


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
