"""The three sources of cases, each as rows: JSON Lines, CSV, and a folder of pictures per label."""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jsonpointer import JsonPointer

from drovik.errors import DrovikError, Problem, ProjectError, known_words
from drovik.files import opened
from drovik.project.tasks import Task

_PICTURES = (".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".webp", ".gif", ".bmp", ".tif", ".tiff", ".heic", ".heif")
_CLIPS = (".mp4", ".m4v", ".mov", ".webm", ".mkv", ".avi")
PICTURE_ENDINGS = frozenset((*_PICTURES, *_CLIPS, ".pdf"))
"""Which files of a folder are taken for pictures; what they are is then read from their content."""

MOST_LINE_BYTES = 50_000_000
"""Of one case: what it gives and what is expected, no picture."""

_PLAIN_COLUMNS = ("id", "image", "group", "split")
_PREFIXES = ("image", "given", "expected", "region")


@dataclass(frozen=True)
class Row:
    """What a source yields: a case not yet checked, and where it was written."""

    values: Mapping[str, Any] | bytes
    place: str


def jsonl_rows(path: Path, source: str, problems: list[Problem]) -> Iterator[Row]:
    """A row a line; empty lines are passed over."""
    try:
        with opened(path, source) as file:
            for number in itertools.count(1):
                line = file.readline(MOST_LINE_BYTES + 1)
                if not line:
                    return
                if len(line) > MOST_LINE_BYTES:
                    what = f"is longer than {MOST_LINE_BYTES // 1_000_000} MB"
                    raise ProjectError(Problem(what, "each line is one case", source, f"line {number}"))
                stripped = line.removeprefix(b"\xef\xbb\xbf").strip()
                if stripped:
                    yield Row(stripped, f"line {number}")
    except DrovikError as error:
        problems.extend(error.problems)


def folder_rows(root: Path, path: Path, tasks: Sequence[Task]) -> Iterator[Row]:
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
        yield Row({"id": file.stem, "images": [picture], "expected": expected}, str(inside))


def _expected_by_label(label: str, tasks: Sequence[Task]) -> dict[str, Any]:
    expected: dict[str, Any] = {}
    for task in tasks:
        for measure in task.measures:
            at = measure.table.get("at", "")
            if measure.type == "label" and isinstance(at, str):
                _put(expected, [task.name, *JsonPointer(at).parts], label)
                break
    return expected


def csv_rows(path: Path, source: str, tasks: Sequence[Task], problems: list[Problem]) -> Iterator[Row]:
    """A row a line after the header; an empty cell is an absent value."""
    try:
        with opened(path, source) as binary, io.TextIOWrapper(binary, encoding="utf-8-sig", newline="") as file:
            reader = csv.DictReader(file, strict=True)
            columns = list(reader.fieldnames or ())
            wrong = _check_columns(columns, source)
            problems.extend(wrong)
            if wrong:
                return
            types = {column: _type_at(column, tasks) for column in columns if column.startswith("expected.")}
            for cells in reader:
                row = _csv_row(cells, types, source, reader.line_num, problems)
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
            problems.append(Problem(f"the column '{column}' stands there twice", "take one out", source, "line 1"))
        head, _, rest = column.partition(".")
        if column not in _PLAIN_COLUMNS and not (head in _PREFIXES and rest):
            known = (*_PLAIN_COLUMNS, "image.TAG", "given.NAME", "expected.TASK.NAME", "region.NAME")
            problems.append(Problem(f"unknown column '{column}'", known_words(column, known), source, "line 1"))
        if any(other.startswith(f"{column}.") for other in columns) and head == "expected":
            what = f"the column '{column}' is one value, and other columns are members of it"
            problems.append(Problem(what, "keep one or the other", source, "line 1"))
    return list(dict.fromkeys(problems))


def _csv_row(
    cells: Mapping[str | Any, Any], types: Mapping[str, str], source: str, line: int, problems: list[Problem]
) -> Row | None:
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
        elif head == "expected":
            try:
                value = _typed(cell, types[column])
            except ValueError:
                what = f"'{cell}' is no {types[column]}, which the task's schema asks for"
                problems.append(Problem(what, "fix the cell", source, f"{place}: {column}"))
                return None
            _put(values.setdefault("expected", {}), rest.split("."), value)
        else:
            values[column] = cell
    return Row(values, place)


def _box(cell: str) -> list[str]:
    """Four numbers, with or without brackets, parted by commas or spaces; what they are is checked with the case."""
    return cell.strip(" []").replace(",", " ").split()


def _put(tree: dict[str, Any], path: Sequence[str], value: object) -> None:
    for step in path[:-1]:
        tree = tree.setdefault(step, {})
    tree[path[-1]] = value


def _type_at(column: str, tasks: Sequence[Task]) -> str:
    """The JSON type that the task's schema wants at a column such as `expected.sort.kind`."""
    _, name, *steps = column.split(".")
    schema: Any = next((task.schema for task in tasks if task.name == name), None)
    for step in steps:
        schema = schema.get("properties", {}).get(step) if isinstance(schema, dict) else None
    kinds = schema.get("type") if isinstance(schema, dict) else None
    wanted = [kind for kind in (kinds if isinstance(kinds, list) else [kinds]) if kind != "null"]
    return str(wanted[0]) if wanted and wanted[0] else "string"


def _typed(cell: str, kind: str) -> object:
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
