"""A table of a person's own: rows that name pictures, columns that answers are filled into.

Only empty cells are filled; nothing else in the file changes: order, quotes, byte-order mark and line ends stay.
The file is replaced whole by one rename, so that a kill leaves the old one or the new one.
"""

from __future__ import annotations

import csv
import io
import json
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from jsonpointer import JsonPointer, JsonPointerException

from drovik.errors import Problem, UsageError
from drovik.files import read_bytes, write_whole
from drovik.text import visible

MOST_BYTES = 500_000_000
_RISKY = ("=", "+", "-", "@", "\t", "\r")


@dataclass
class _Cell:
    """A cell as it is written in the file, and what it says."""

    raw: str
    value: str


@dataclass
class _Line:
    cells: list[_Cell]
    end: str


class PersonTable:
    """A CSV or TSV file, each cell as it is written; or the first sheet of a workbook.

    :raises UsageError: where the file cannot be read as a table.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        if path.suffix.lower() in (".xlsx", ".xlsm"):
            self._content: _Content = _Workbook(path)
        else:
            self._content = _Separated(path)
        self.columns = self._content.columns

    def __len__(self) -> int:
        return self._content.count()

    def row(self, number: int) -> dict[str, str]:
        """A row by its number from 0: what each column says."""
        return dict(zip(self.columns, self._content.row(number), strict=False))

    def require(self, column: str) -> None:
        """Require a column.

        :raises UsageError: where there is none of that name.
        """
        if column not in self.columns:
            known = ", ".join(self.columns[:20])
            raise UsageError(Problem(f"there is no column '{column}'", f"known here: {known}", str(self.path)))

    def add_columns(self, names: Sequence[str]) -> None:
        """Add the columns that are not there, at the end, empty."""
        new = [one for one in names if one not in self.columns]
        if new:
            self._content.add_columns(new)
            self.columns = self._content.columns

    def fill(self, number: int, values: Mapping[str, Any]) -> int:
        """Put values into the empty cells of a row; how many were filled."""
        there = self.row(number)
        filled = 0
        for name, value in values.items():
            text = cell_text(value)
            if not there.get(name, "").strip() and text:
                self._content.put(number, self.columns.index(name), text)
                filled += 1
        return filled

    def save(self, to: Path | None = None) -> None:
        """Write it, whole, where it came from or elsewhere.

        :raises UsageError: where it cannot be written.
        """
        self._content.save(to or self.path)


def cell_text(value: Any) -> str:
    """A value as a cell: a text as it is, guarded against formulas; lists and objects as JSON."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        text = visible(value)
        return f"'{text}" if text.startswith(_RISKY) and not re.fullmatch(r"-?\d+(?:[.,]\d+)?", text) else text
    return json.dumps(value, ensure_ascii=False)


class _Content:
    """What a file of rows can do."""

    columns: list[str]

    def count(self) -> int:
        raise NotImplementedError

    def row(self, number: int) -> list[str]:
        raise NotImplementedError

    def add_columns(self, names: Sequence[str]) -> None:
        raise NotImplementedError

    def put(self, number: int, column: int, text: str) -> None:
        raise NotImplementedError

    def save(self, to: Path) -> None:
        raise NotImplementedError


# CSV and TSV.


@dataclass
class _Form:
    """How a file of separated values is written."""

    separator: str
    mark: bytes
    coding: str
    quoted: bool = False
    end: str = field(default="\n")


class _Separated(_Content):
    def __init__(self, path: Path) -> None:
        data = read_bytes(path, str(path))
        if len(data) > MOST_BYTES:
            raise UsageError(Problem("is larger than 500 MB", "work with a project: drovik send", str(path)))
        self._name = str(path)
        self._form, text = _form_of(data, path)
        self._lines = list(_lines(text, self._form.separator, self._name))
        if not self._lines:
            raise UsageError(Problem("is empty", "its first line names the columns", self._name))
        self._form.end = self._lines[0].end or "\n"
        cells = [cell for line in self._lines[1:] for cell in line.cells if cell.value]
        self._form.quoted = bool(cells) and all(cell.raw.startswith('"') for cell in cells)
        self.columns = [cell.value for cell in self._lines[0].cells]
        self._width = len(self.columns)
        self._rows = [line for line in self._lines[1:] if not (len(line.cells) == 1 and not line.cells[0].value)]
        twice = next((one for one in self.columns if self.columns.count(one) > 1), None)
        if twice is not None:
            raise UsageError(Problem(f"the column '{twice}' is there twice", "rename one", self._name, "line 1"))
        for number, line in enumerate(self._rows, 2):
            if len(line.cells) > len(self.columns):
                what = f"has {len(line.cells)} cells, and there are {len(self.columns)} columns"
                raise UsageError(Problem(what, "check its quotes and separators", self._name, f"row {number}"))

    def count(self) -> int:
        return len(self._rows)

    def row(self, number: int) -> list[str]:
        values = [cell.value for cell in self._rows[number].cells]
        return values + [""] * (len(self.columns) - len(values))

    def add_columns(self, names: Sequence[str]) -> None:
        self._lines[0].cells += [self._cell(one) for one in names]
        self.columns = [cell.value for cell in self._lines[0].cells]

    def put(self, number: int, column: int, text: str) -> None:
        cells = self._rows[number].cells
        cells += [_Cell("", "") for _ in range(len(self.columns) - len(cells))]
        cells[column] = self._cell(text)

    def _cell(self, text: str) -> _Cell:
        needs = any(char in text for char in (self._form.separator, '"', "\n", "\r")) or text != text.strip()
        quoted = needs or self._form.quoted
        return _Cell('"' + text.replace('"', '""') + '"' if quoted else text, text)

    def save(self, to: Path) -> None:
        parts: list[str] = []
        for line in self._lines:
            raw = [cell.raw for cell in line.cells]
            if len(raw) >= self._width:  # what was whole gets the columns that were added
                raw += [""] * (len(self.columns) - len(raw)) if len(self.columns) > self._width else []
            parts += [self._form.separator.join(raw), line.end]
        write_whole(to, self._form.mark + "".join(parts).encode(self._form.coding))


def _form_of(data: bytes, path: Path) -> tuple[_Form, str]:
    """How a file is written, and its text."""
    mark, coding = b"", "utf-8"
    for known, name in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(known):
            mark, coding = known, name
            break
    try:
        text = data[len(mark) :].decode(coding)
    except UnicodeDecodeError as error:
        what = f"is not UTF-8 at byte {error.start}"
        raise UsageError(Problem(what, "save it as UTF-8", str(path))) from None
    first = text.partition("\n")[0]
    separator = "\t" if path.suffix.lower() in (".tsv", ".tab") else max(",;\t", key=first.count)
    return _Form(separator, mark, coding), text


_LINE_END = re.compile(r"\r\n|\n|\r")


def _lines(text: str, separator: str, name: str) -> Iterator[_Line]:
    """The lines of a file with their cells (RFC 4180), each as it is written."""
    cell = re.compile(rf'"(?:[^"]|"")*"|[^{re.escape(separator)}\r\n]*')
    at, number = 0, 1
    cells: list[_Cell] = []
    while at < len(text) or cells:
        match = cell.match(text, at)
        assert match is not None
        raw = match[0]
        if text[at : at + 1] == '"' and not (len(raw) > 1 and raw.endswith('"')):
            raise UsageError(Problem("a quote is not closed", "close it", name, f"line {number}"))
        cells.append(_Cell(raw, raw[1:-1].replace('""', '"') if raw.startswith('"') else raw))
        at = match.end()
        if text.startswith(separator, at):
            at += 1
            if at == len(text):
                cells.append(_Cell("", ""))
                yield _Line(cells, "")
                return
            continue
        end = _LINE_END.match(text, at)
        if end is None and at < len(text):
            what = "something follows a closing quote"
            raise UsageError(Problem(what, "double the quotes within a cell", name, f"line {number}"))
        yield _Line(cells, end[0] if end else "")
        cells, number = [], number + 1
        at = end.end() if end else len(text)


# Workbooks.


class _Workbook(_Content):
    def __init__(self, path: Path) -> None:
        try:
            import openpyxl
        except ImportError:
            what = "a workbook needs the extra 'xlsx'"
            raise UsageError(Problem(what, "pip install 'drovik[xlsx]', or save it as CSV", str(path))) from None
        try:
            self._book = openpyxl.load_workbook(io.BytesIO(read_bytes(path, str(path))))
        except Exception as error:
            raise UsageError(Problem(f"cannot be read: {error}", "save it again, or as CSV", str(path))) from None
        self._sheet: Any = self._book.worksheets[0]
        self.columns = [str(cell.value or "") for cell in self._sheet[1]]

    def count(self) -> int:
        return max(0, int(self._sheet.max_row) - 1)

    def row(self, number: int) -> list[str]:
        return ["" if cell.value is None else str(cell.value) for cell in self._sheet[number + 2]]

    def add_columns(self, names: Sequence[str]) -> None:
        for name in names:
            self._sheet.cell(row=1, column=len(self.columns) + 1, value=name)
            self.columns.append(name)

    def put(self, number: int, column: int, text: str) -> None:
        self._sheet.cell(row=number + 2, column=column + 1, value=text)

    def save(self, to: Path) -> None:
        made = to.with_name(f".{to.name}.{os.getpid()}")
        try:
            self._book.save(made)
            made.replace(to)
        except OSError as error:
            made.unlink(missing_ok=True)
            raise UsageError(Problem(f"cannot be written: {error.strerror}", "check its folder", str(to))) from None


def exploded(value: Any, at: str) -> list[dict[str, Any]]:
    """The objects of a list in an answer, each as a row; nested members are columns `outer.inner`.

    :param at: a JSON Pointer to the list.
    :raises UsageError: where no list is there.
    """
    try:
        found = JsonPointer(at).resolve(value)
    except JsonPointerException:
        found = None
    if not isinstance(found, list):
        raise UsageError(Problem(f"--explode: there is no list at '{at or '/'}'", "write it like --explode /courses"))
    return [dict(_flat(one, "")) if isinstance(one, dict) else {"value": one} for one in found]


def _flat(value: Mapping[str, Any], before: str) -> Iterator[tuple[str, Any]]:
    for name, one in value.items():
        if isinstance(one, dict) and one:
            yield from _flat(one, f"{before}{name}.")
        else:
            yield f"{before}{name}", one


def write_rows(path: Path, columns: Sequence[str], rows: Sequence[Mapping[str, Any]]) -> None:
    """Write rows as CSV: the given columns, then those that the rows bring, in the order in which they come.

    :raises UsageError: where the file cannot be written.
    """
    names = list(dict.fromkeys([*columns, *(name for row in rows for name in row)]))
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([cell_text(one) for one in names])
    writer.writerows([[row[name] if name in columns else cell_text(row.get(name)) for name in names] for row in rows])
    write_whole(path, out.getvalue())
