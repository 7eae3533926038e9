"""Tables → files: CSV that a spreadsheet opens safely, JSON Lines, SQLite, and Parquet or Arrow by pyarrow."""

from __future__ import annotations

import csv
import itertools
import json
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from drovik.errors import Problem, UsageError
from drovik.reporting.cells import guarded

BATCH = 10_000
"""Rows that are held at a time: a table of a million is written in little memory."""


class FileTable(Protocol):
    """What is written: a name, columns with their types, and rows."""

    @property
    def name(self) -> str:
        """Of the table, and of its file."""

    @property
    def columns(self) -> Sequence[tuple[str, str]]:
        """Each column's name and type: text, whole, number or yes."""

    @property
    def rows(self) -> Callable[[], Iterator[tuple[Any, ...]]]:
        """Makes the rows."""


def write_tables(tables: Sequence[FileTable], target: Path, kind: str) -> dict[Path, int]:
    """Write tables into a folder, a file each; in SQLite into one file. The number of rows of each file.

    :param kind: one of `KINDS`.
    :raises DrovikError: where it cannot be written, or pyarrow is not installed.
    """
    try:
        target.mkdir(parents=True, exist_ok=True)
        if kind == "sqlite":
            return {target / "drovik.sqlite": _write_sqlite(tables, target / "drovik.sqlite")}
        return {
            (path := target / f"{table.name}.{kind}"): _WRITERS[kind](table, path) for table in tables
        }  # fmt: skip
    except (OSError, sqlite3.Error) as error:
        words = error.strerror if isinstance(error, OSError) else str(error)
        raise UsageError(Problem(f"{target}: cannot be written: {words}", "name another folder")) from None


def _batches(table: FileTable) -> Iterator[list[tuple[Any, ...]]]:
    rows = table.rows()
    while batch := list(itertools.islice(rows, BATCH)):
        yield batch


def _write_csv(table: FileTable, path: Path) -> int:
    count = 0
    with path.open("w", encoding="utf-8", errors="replace", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow([name for name, _ in table.columns])
        for row in table.rows():
            writer.writerow([guarded(cell) for cell in row])
            count += 1
    return count


def _write_lines(table: FileTable, path: Path) -> int:
    names, count = [name for name, _ in table.columns], 0
    with path.open("w", encoding="utf-8", newline="") as file:
        for row in table.rows():
            # Escaped to ASCII: a text may hold halves of characters, which UTF-8 cannot.
            file.write(json.dumps(dict(zip(names, row, strict=True))) + "\n")
            count += 1
    return count


_SQL_TYPES = {"text": "TEXT", "whole": "INTEGER", "number": "REAL", "yes": "INTEGER"}


def _write_sqlite(tables: Sequence[FileTable], path: Path) -> int:
    path.unlink(missing_ok=True)
    count = 0
    connection = sqlite3.connect(path)
    try:
        for table in tables:
            columns = ", ".join(f'"{name}" {_SQL_TYPES[kind]}' for name, kind in table.columns)
            connection.execute(f'CREATE TABLE "{table.name}" ({columns})')
            marks = ", ".join("?" * len(table.columns))
            for batch in _batches(table):
                clean = ([_utf8(cell) for cell in row] for row in batch)
                connection.executemany(f'INSERT INTO "{table.name}" VALUES ({marks})', clean)
                count += len(batch)
        connection.commit()
    finally:
        connection.close()
    return count


def _utf8(cell: Any) -> Any:
    """A text without halves of characters."""
    return cell.encode("utf-8", "replace").decode() if isinstance(cell, str) else cell


def arrow() -> Any:
    """Pyarrow.

    :raises UsageError: where it is not installed.
    """
    try:
        import pyarrow as pa
    except ImportError:
        remedy = "install it: pip install 'drovik[arrow]'"
        raise UsageError(Problem("Parquet and Arrow need pyarrow, which is not installed", remedy)) from None
    return pa


def _arrow_batches(table: FileTable, pa: Any) -> tuple[Any, Iterator[Any]]:
    """The schema, and the rows in batches."""
    types = {"text": pa.string(), "whole": pa.int64(), "number": pa.float64(), "yes": pa.bool_()}
    schema = pa.schema([(name, types[kind]) for name, kind in table.columns])

    def batches() -> Iterator[Any]:
        for batch in _batches(table):
            columns = zip(*([_utf8(cell) for cell in row] for row in batch), strict=True)
            arrays = [pa.array(list(one), type=field.type) for one, field in zip(columns, schema, strict=True)]
            yield pa.record_batch(arrays, schema=schema)

    return schema, batches()


def _write_parquet(table: FileTable, path: Path) -> int:
    pa = arrow()
    import pyarrow.parquet as pq

    schema, batches = _arrow_batches(table, pa)
    count = 0
    with pq.ParquetWriter(path, schema) as writer:
        for batch in batches:
            writer.write_batch(batch)
            count += batch.num_rows
    return count


def _write_arrow(table: FileTable, path: Path) -> int:
    pa = arrow()
    schema, batches = _arrow_batches(table, pa)
    count = 0
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, schema) as writer:
        for batch in batches:
            writer.write_batch(batch)
            count += batch.num_rows
    return count


_WRITERS: Mapping[str, Callable[[FileTable, Path], int]] = {
    "csv": _write_csv, "jsonl": _write_lines, "parquet": _write_parquet, "arrow": _write_arrow,
}  # fmt: skip
KINDS = (*_WRITERS, "sqlite")
"""The kinds of files; all but the last by their ending."""
