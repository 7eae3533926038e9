"""Files of a table → its rows: what `drovik export` wrote, by the kind of file."""

from __future__ import annotations

import csv
import io
import json
import sqlite3
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from drovik.errors import Problem, UsageError
from drovik.files import read_text
from drovik.reporting.cells import unguarded
from drovik.reporting.table_files import arrow

MOST_BYTES = 1_000_000_000
"""Of a text file, which is read as a whole."""
Rows = Iterator[tuple[str, dict[str, Any]]]
"""The place of each row in its file, and its cells by column."""


def table_rows(path: Path, table: str) -> Rows:
    """The rows of a table.

    :param table: its name, in a file that holds several.
    :raises DrovikError: where it cannot be read.
    """
    if not path.is_file():
        raise UsageError(Problem("this file does not exist", "see whether it is spelled right", str(path)))
    reader = _READERS.get(path.suffix.lower())
    if reader is None:
        raise UsageError(Problem("is not a table", f"give one of: {', '.join(sorted(_READERS))}", str(path)))
    try:
        yield from reader(path, table)
    except (OSError, ValueError, sqlite3.Error, csv.Error) as error:
        raise UsageError(Problem(f"cannot be read: {str(error)[:200]}", "export it again", str(path))) from None


def _csv(path: Path, table: str) -> Rows:
    text = read_text(path, path.name, MOST_BYTES).removeprefix("\ufeff")
    reader = csv.DictReader(io.StringIO(text, newline=""), strict=True)
    for row in reader:
        yield f"line {reader.line_num}", {name: unguarded(cell) for name, cell in row.items() if name and cell}


def _lines(path: Path, table: str) -> Rows:
    for number, line in enumerate(read_text(path, path.name, MOST_BYTES).splitlines(), 1):
        if line.strip():
            row = json.loads(line.removeprefix("\ufeff"))
            if not isinstance(row, dict):
                raise ValueError(f"line {number} is not a JSON object")
            yield f"line {number}", row


def _sqlite(path: Path, table: str) -> Rows:
    connection = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
    try:
        connection.row_factory = sqlite3.Row
        for number, row in enumerate(connection.execute(f'SELECT * FROM "{table}"'), 1):
            yield f"row {number}", dict(row)
    finally:
        connection.close()


def _parquet(path: Path, table: str) -> Rows:
    arrow()
    import pyarrow.parquet as pq

    yield from _arrow_rows(pq.ParquetFile(path).iter_batches())


def _arrow(path: Path, table: str) -> Rows:
    pa = arrow()
    with pa.memory_map(str(path)) as file:
        reader = pa.ipc.open_file(file)
        yield from _arrow_rows(reader.get_batch(number) for number in range(reader.num_record_batches))


def _arrow_rows(batches: Any) -> Rows:
    rows = (row for batch in batches for row in batch.to_pylist())
    yield from ((f"row {number}", row) for number, row in enumerate(rows, 1))


_READERS: Mapping[str, Callable[[Path, str], Rows]] = {
    ".csv": _csv, ".jsonl": _lines, ".ndjson": _lines, ".sqlite": _sqlite, ".parquet": _parquet, ".arrow": _arrow,
}  # fmt: skip
