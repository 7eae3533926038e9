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
from drovik.files import written_whole
from drovik.following import followed
from drovik.reporting.cells import guarded

_HEAD = 1_000_000
"""Bytes of a first line that are looked at."""
_TELLING = 3
"""Columns that tell a table of ours from somebody's own."""
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

    Each file is there whole in the end, or as it was before.

    :param kind: one of `KINDS`.
    :raises DrovikError: where it cannot be written, or pyarrow is not installed.
    """
    written = {}
    for path, some in files_of(tables, target, kind).items():
        with written_whole(path) as place:
            try:
                written[path] = _WRITERS[kind](some, place)
            except sqlite3.Error as error:
                raise UsageError(Problem(f"cannot be written: {error}", "name another folder", str(path))) from None
    return written


def foreign_files(tables: Sequence[FileTable], target: Path, kind: str) -> list[Path]:
    """The files that are where tables are to be written, and hold something else than such tables."""
    return [
        path
        for path, some in files_of(tables, target, kind).items()
        if path.exists() and not _holds(path, some, kind)
    ]


def files_of(tables: Sequence[FileTable], target: Path, kind: str) -> dict[Path, Sequence[FileTable]]:
    """The files that tables are written to, and which go into each."""
    if kind == "sqlite":
        return {target / "drovik.sqlite": tables}
    return {target / f"{table.name}.{kind}": [table] for table in tables}


def _holds(path: Path, tables: Sequence[FileTable], kind: str) -> bool:
    """Whether a file has the columns of a table that is written here, or those it had: new ones come at the end."""
    known = [[name for name, _ in table.columns] for table in tables]
    try:
        found = _COLUMNS[kind](path)
    except Exception:  # whatever it is, it is no such table
        return False
    return found is None or (len(found) >= _TELLING and any(one[: len(found)] == found for one in known))


def _rows(table: FileTable) -> Iterator[tuple[Any, ...]]:
    return followed(f"writing {table.name}, in rows", table.rows())


def _batches(table: FileTable) -> Iterator[list[tuple[Any, ...]]]:
    rows = _rows(table)
    while batch := list(itertools.islice(rows, BATCH)):
        yield batch


def _write_csv(tables: Sequence[FileTable], path: Path) -> int:
    (table,), count = tables, 0
    with path.open("w", encoding="utf-8", errors="replace", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow([name for name, _ in table.columns])
        for row in _rows(table):
            writer.writerow([guarded(cell) for cell in row])
            count += 1
    return count


def _write_lines(tables: Sequence[FileTable], path: Path) -> int:
    (table,) = tables
    names, count = [name for name, _ in table.columns], 0
    with path.open("w", encoding="utf-8", newline="") as file:
        for row in _rows(table):
            # Escaped to ASCII: a text may hold halves of characters, which UTF-8 cannot.
            file.write(json.dumps(dict(zip(names, row, strict=True))) + "\n")
            count += 1
    return count


_SQL_TYPES = {"text": "TEXT", "whole": "INTEGER", "number": "REAL", "yes": "INTEGER"}


def _write_sqlite(tables: Sequence[FileTable], path: Path) -> int:
    path.unlink(missing_ok=True)  # of a run that was ended
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


def _write_parquet(tables: Sequence[FileTable], path: Path) -> int:
    (table,), pa = tables, arrow()
    import pyarrow.parquet as pq

    schema, batches = _arrow_batches(table, pa)
    count = 0
    with pq.ParquetWriter(path, schema) as writer:
        for batch in batches:
            writer.write_batch(batch)
            count += batch.num_rows
    return count


def _write_arrow(tables: Sequence[FileTable], path: Path) -> int:
    (table,), pa = tables, arrow()
    schema, batches = _arrow_batches(table, pa)
    count = 0
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, schema) as writer:
        for batch in batches:
            writer.write_batch(batch)
            count += batch.num_rows
    return count


def _csv_columns(path: Path) -> list[str] | None:
    with path.open(encoding="utf-8", newline="") as file:
        return next(csv.reader([file.readline(_HEAD)]), None)


def _lines_columns(path: Path) -> list[str] | None:
    """None of a table without rows."""
    with path.open("rb") as file:
        first = file.readline(_HEAD)
    return list(json.loads(first)) if first else None


def _parquet_columns(path: Path) -> list[str]:
    arrow()
    import pyarrow.parquet as pq

    return list(pq.read_schema(path).names)


def _arrow_columns(path: Path) -> list[str]:
    pa = arrow()
    with pa.OSFile(str(path), "rb") as file, pa.ipc.open_file(file) as reader:
        return list(reader.schema.names)


def _sqlite_columns(path: Path) -> list[str]:
    """Of its first table."""
    connection = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
    try:
        (name,) = connection.execute("SELECT name FROM sqlite_master WHERE type = 'table' LIMIT 1").fetchone()
        return [row[1] for row in connection.execute(f'PRAGMA table_info("{name}")')]
    finally:
        connection.close()


_WRITERS: Mapping[str, Callable[[Sequence[FileTable], Path], int]] = {
    "csv": _write_csv, "jsonl": _write_lines, "parquet": _write_parquet, "arrow": _write_arrow,
    "sqlite": _write_sqlite,
}  # fmt: skip
_COLUMNS: Mapping[str, Callable[[Path], list[str] | None]] = {
    "csv": _csv_columns, "jsonl": _lines_columns, "parquet": _parquet_columns, "arrow": _arrow_columns,
    "sqlite": _sqlite_columns,
}  # fmt: skip
KINDS = tuple(_WRITERS)
"""The kinds of files; all but the last by their ending."""
