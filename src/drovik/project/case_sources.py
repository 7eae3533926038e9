"""The three sources of cases, each as rows: JSON Lines, CSV, and a folder of pictures per label."""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from jsonpointer import JsonPointer

from drovik.errors import DrovikError, Problem, ProjectError, known_words
from drovik.files import open_regular
from drovik.project.cases import PICTURE_ENDINGS
from drovik.project.tasks import Task

MOST_LINE_BYTES = 50_000_000
"""Of one case: what it gives and what is expected, no picture."""

_PLAIN_COLUMNS = ("id", "image", "group", "split")
_PREFIXES = ("image", "given", "expected", "region")


class SourceRow(NamedTuple):
    """What a source yields: a case not yet checked, and where it was written."""

    values: Mapping[str, Any] | bytes
    place: str


_AT_ONCE, _BYTES_AT_ONCE = 1_000, 1_000_000
"""Lines that are handed on together, and their bytes."""


def jsonl_rows(path: Path, source: str, problems: list[Problem]) -> Iterator[list[SourceRow]]:
    """A row a line, many at a time; empty lines are passed over."""
    rows: list[SourceRow] = []
    size = 0
    try:
        with open_regular(path, source) as file:
            for number in itertools.count(1):
                line = file.readline(MOST_LINE_BYTES + 1)
                if not line:
                    break
                if len(line) > MOST_LINE_BYTES:
                    what = f"is longer than {MOST_LINE_BYTES // 1_000_000} MB"
                    raise ProjectError(Problem(what, "each line is one case", source, f"line {number}"))
                stripped = line.removeprefix(b"\xef\xbb\xbf").strip()
                if stripped:
                    rows.append(SourceRow(stripped, f"line {number}"))
                    size += len(stripped)
                if len(rows) == _AT_ONCE or size > _BYTES_AT_ONCE:
                    yield rows
                    rows, size = [], 0
        yield rows
    except DrovikError as error:
        yield rows
        problems.extend(error.problems)


def folder_rows(root: Path, path: Path, tasks: Sequence[Task]) -> Iterator[SourceRow]:
    """A row a picture: the id from its file's name, the label from its folder's.

    The label becomes the expected output of every task that has a label measure, at that measure's
    place. Pictures that lie in no label's folder are cases without an expected output.
    """
    for file in sorted(path.rglob("*")):
        if file.suffix.lower() not in PICTURE_ENDINGS or not file.is_file():
            continue
        inside = file.relative_to(path)
        if any(part.startswith(".") for part in inside.parts):
            continue
        expected = _expected_by_label(inside.parts[0], tasks) if len(inside.parts) > 1 else {}
        picture = str(file.relative_to(root)) if file.is_relative_to(root) else str(file)
        yield SourceRow({"id": file.stem, "images": [picture], "expected": expected}, str(inside))


def _expected_by_label(label: str, tasks: Sequence[Task]) -> dict[str, Any]:
    expected: dict[str, Any] = {}
    for task in tasks:
        for measure in task.measures:
            at = measure.table.get("at", "")
            if measure.type == "label" and isinstance(at, str):
                put(expected, [task.name, *JsonPointer(at).parts], label)
                break
    return expected


def csv_rows(
    path: Path, source: str, tasks: Sequence[Task], problems: list[Problem], null_word: str | None = None
) -> Iterator[SourceRow]:
    """A row a line after the header; an empty cell is an absent value.

    :param null_word: what a cell says where null is the expected value.
    """
    try:
        with open_regular(path, source) as binary, io.TextIOWrapper(binary, encoding="utf-8-sig", newline="") as file:
            reader = csv.DictReader(file, strict=True)
            columns = list(reader.fieldnames or ())
            wrong = _check_columns(columns, source)
            problems.extend(wrong)
            if wrong:
                return
            types = {column: type_at(column, tasks) for column in columns if column.startswith("expected.")}
            for cells in reader:
                row = _csv_row(cells, types, source, reader.line_num, problems, null_word)
                if row:
                    yield row
    except csv.Error as error:
        problems.append(Problem(f"is not proper CSV: {error}", "fix its quotes", source))
    except UnicodeDecodeError as error:
        problems.append(Problem(f"is not UTF-8 at byte {error.start}", "save it as UTF-8", source))
    except DrovikError as error:
        problems.extend(error.problems)


def _check_columns(columns: Sequence[str], source: str) -> list[Problem]:
    problems = []
    for needed in ("id", "image"):
        if needed not in columns and not (needed == "image" and any(one.startswith("image.") for one in columns)):
            problems.append(Problem(f"there is no column '{needed}'", "add it to the first line", source, "line 1"))
    for column in columns:
        if columns.count(column) > 1:
            problems.append(Problem(f"the column '{column}' is there twice", "take one out", source, "line 1"))
        head, _, rest = column.partition(".")
        if column not in _PLAIN_COLUMNS and not (head in _PREFIXES and rest):
            known = (*_PLAIN_COLUMNS, "image.TAG", "given.NAME", "expected.TASK.NAME", "region.NAME")
            problems.append(Problem(f"unknown column '{column}'", known_words(column, known), source, "line 1"))
        if any(other.startswith(f"{column}.") for other in columns) and head == "expected":
            what = f"the column '{column}' is one value, and other columns are members of it"
            problems.append(Problem(what, "keep one or the other", source, "line 1"))
    return list(dict.fromkeys(problems))


def _csv_row(
    cells: Mapping[str | Any, Any],
    types: Mapping[str, str],
    source: str,
    line: int,
    problems: list[Problem],
    null_word: str | None,
) -> SourceRow | None:
    place = f"line {line}"
    if None in cells or None in cells.values():
        problems.append(Problem("has another number of cells than the first line", "count the commas", source, place))
        return None
    values: dict[str, Any] = {"images": []}
    for column, cell in cells.items():
        head, _, rest = column.partition(".")
        if cell == "":
            continue
        if head == "image":
            values["images"].append({"path": cell, "tag": rest or None})
        elif head == "region":
            values.setdefault("regions", {})[rest] = _box(cell)
        elif head == "given":
            values.setdefault("given", {})[rest] = cell
        elif head == "expected" and cell == null_word:
            put(values.setdefault("expected", {}), rest.split("."), None)
        elif head == "expected":
            try:
                value = typed(cell, types[column])
            except ValueError:
                kind = types[column]
                article = "an" if kind[0] in "aeiou" else "a"
                what = f"'{cell}' is not {article} {kind}, which the task's schema asks for"
                problems.append(Problem(what, "fix the cell", source, f"{place}: {column}"))
                return None
            put(values.setdefault("expected", {}), rest.split("."), value)
        else:
            values[column] = cell
    return SourceRow(values, place)


def _box(cell: str) -> list[str]:
    """Four numbers, with or without brackets, parted by commas or spaces; what they are is checked with the case."""
    return cell.strip(" []").replace(",", " ").split()


def put(tree: dict[str, Any], path: Sequence[str], value: object) -> None:
    """Put a value into a tree of objects, at a path of members."""
    for step in path[:-1]:
        tree = tree.setdefault(step, {})
    tree[path[-1]] = value


def type_at(column: str, tasks: Sequence[Task]) -> str:
    """The JSON type that the task's schema wants at a column such as `expected.sort.kind`."""
    _, name, *steps = column.split(".")
    schema: Any = next((task.schema for task in tasks if task.name == name), None)
    for step in steps:
        schema = schema.get("properties", {}).get(step) if isinstance(schema, dict) else None
    kinds = schema.get("type") if isinstance(schema, dict) else None
    wanted = [kind for kind in (kinds if isinstance(kinds, list) else [kinds]) if kind != "null"]
    return str(wanted[0]) if wanted and wanted[0] else "string"


def typed(cell: str, kind: str) -> object:
    """A cell as its type; lists and objects are written as JSON.

    :raises ValueError: where it is none.
    """
    if kind == "string":
        return cell
    if kind == "boolean":
        words = {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}
        if cell.strip().lower() not in words:
            raise ValueError(cell)
        return words[cell.strip().lower()]
    if kind == "integer":
        return int(cell)
    if kind == "number":
        value = json.loads(cell)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueError(cell)
        return value
    return json.loads(cell)
