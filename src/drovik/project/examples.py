"""A folder of pictures, or a table, of somebody's own → cases, with what is right of them as far as it is there."""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from drovik.errors import Problem, UsageError, known_words
from drovik.files import parse_json, read_text
from drovik.project.cases import PICTURE_ENDINGS
from drovik.project.object_pictures import is_object
from drovik.project.schema_inference import values_of_table
from drovik.text import counted

_CELLS = (".csv", ".tsv")
TABLES = frozenset((*_CELLS, ".jsonl", ".ndjson", ".json"))
_PICTURE_NAMES = ("image", "picture", "photo", "file", "filename", "path", "img", "scan", "document")
_RIGHT_NAMES = (
    "label", "class", "category", "kind", "type", "expected", "truth", "answer", "target", "text", "caption",
    "description", "transcript", "title",
)  # fmt: skip
"""What columns are called that say what is right; others are facts."""


@dataclass(frozen=True)
class ExampleCase:
    """A case: its pictures, files or addresses, what is right, and facts."""

    id: str
    pictures: tuple[Path | str, ...]
    expected: Any = None
    given: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Examples:
    """What was found: `kind` in words. `missing` are pictures that a table names and that are not there."""

    kind: str
    cases: tuple[ExampleCase, ...]
    right: tuple[str, ...] = ()
    facts: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()


def read_examples(source: Path, right: Sequence[str] = ()) -> Examples:
    """What is in a folder or a table.

    :param right: the columns that say what is right; empty: those that are called so.
    :raises UsageError: where there is no picture in it.
    """
    if source.is_dir():
        found = _of_folder(source)
    elif source.suffix.lower() in TABLES:
        found = _of_table(source, right)
    elif source.exists():
        remedy = f"give a folder, or a table: {', '.join(sorted(TABLES))}"
        raise UsageError(Problem("is neither a folder nor a table", remedy, str(source)))
    else:
        raise UsageError(Problem("there is no such folder or table", "see whether it is spelled right", str(source)))
    if not found.cases:
        endings = ", ".join(sorted(PICTURE_ENDINGS))
        raise UsageError(Problem("there is no picture in it", f"pictures end with {endings}", str(source)))
    return found


def _pictures(folder: Path) -> Iterator[Path]:
    for path in sorted(folder.rglob("*")):
        hidden = any(part.startswith(".") for part in path.relative_to(folder).parts)
        if path.suffix.lower() in PICTURE_ENDINGS and path.is_file() and not hidden:
            yield path


def _of_folder(folder: Path) -> Examples:
    pictures = list(_pictures(folder))
    beside = {path: _sidecar(path) for path in pictures}
    names = _ids(folder, pictures)
    if sum(one is not None for one in beside.values()) * 2 >= len(pictures) > 0:
        cases = [ExampleCase(names[path], (path,), one) for path, one in beside.items()]
        return Examples("pictures with a file beside each", tuple(cases), right=("what is in the files beside",))
    inside = [path.relative_to(folder).parts for path in pictures]
    labels = [parts[0] if len(parts) > 1 else None for parts in inside]
    if len({one for one in labels if one}) > 1 and labels.count(None) * 2 < len(labels):
        cases = [
            ExampleCase(names[path], (path,), {"label": label} if label else None)
            for path, label in zip(pictures, labels, strict=True)
        ]
        return Examples("a folder for each label", tuple(cases), right=("the folders' names",))
    return Examples("pictures alone", tuple(ExampleCase(names[path], (path,)) for path in pictures))


def _sidecar(path: Path) -> Any:
    """What a file of the same name says of a picture; None where there is none."""
    for ending in (".json", ".txt"):
        beside = path.with_suffix(ending)
        if beside.is_file():
            text = read_text(beside, str(beside))
            return parse_json(text, str(beside)) if ending == ".json" else text.strip()
    return None


def _ids(folder: Path, pictures: Sequence[Path]) -> dict[Path, str]:
    """An id for each picture: its name, with its folder's where two have the same."""
    counts = Counter(path.stem for path in pictures)
    taken: set[str] = set()
    return {
        path: _free(path.stem if counts[path.stem] == 1 else "-".join(path.relative_to(folder).parts), taken)
        for path in pictures
    }  # fmt: skip


def _of_table(path: Path, right: Sequence[str]) -> Examples:
    rows = _rows(path)
    columns = list(dict.fromkeys(name for row in rows for name in row))
    picture = _picture_column(path, rows, columns)
    for one in right:
        if one not in columns:
            raise UsageError(Problem(f"--right {one}: there is no such column", known_words(one, columns), str(path)))
    others = [name for name in columns if name not in (picture, "id")]
    said = list(right) or [name for name in others if name.lower() in _RIGHT_NAMES]
    cases, missing, taken = [], [], set[str]()
    for number, row in enumerate(rows, 1):
        value = row.get(picture)
        named = [str(one) for one in (value if isinstance(value, list) else [value]) if one]
        files = [one if is_object(one) else path.parent / one for one in named]
        gone = [one for one in named if not is_object(one) and not (path.parent / one).is_file()]
        if gone or not files:
            missing += gone
            continue
        case_id = _free(str(row.get("id") or Path(_path_in(named[0])).stem or f"row-{number}"), taken)
        wanted = {key: row[key] for key in said if row.get(key) is not None}
        if len(said) == 1 and isinstance(wanted.get(said[0]), dict):
            wanted = wanted[said[0]]  # the whole of what is right, and no member of it
        given = {key: row[key] for key in others if key not in said and isinstance(row.get(key), str | int | float)}
        cases.append(ExampleCase(case_id, tuple(files), wanted or None, given))
    facts = tuple(name for name in others if name not in said)
    return Examples(f"a table of {counted(len(rows), 'row')}", tuple(cases), tuple(said), facts, tuple(missing))


def _free(name: str, taken: set[str]) -> str:
    """An id that no other case has; it is taken from now on."""
    found, number = name, 1
    while found in taken:
        number += 1
        found = f"{name}-{number}"
    taken.add(found)
    return found


def _path_in(name: str) -> str:
    """The path in an address, or a path as it is."""
    return urlsplit(name).path if is_object(name) else name


def values_of_file(path: Path) -> list[Any]:
    """The values of a file: the elements of a JSON list, a value in each line, or the rows of a table.

    :raises DrovikError: where it cannot be read, or is not what its ending says.
    """
    shown = str(path)
    text = read_text(path, shown)
    if path.suffix.lower() in _CELLS:
        return list(values_of_table(_cells(text, shown)))
    if path.suffix.lower() in (".jsonl", ".ndjson"):
        lines = [(number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip()]
        return [parse_json(line, f"{shown}: line {number}") for number, line in lines]
    value = parse_json(text, shown)
    return value if isinstance(value, list) else [value]


def _cells(text: str, shown: str) -> list[dict[str, str]]:
    """The rows of a table by its columns; those without a name are left out, and a row may end early.

    :raises UsageError: where a row has too many cells, or two columns have one name.
    """
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=_delimiter(text))
    found = []
    try:
        head = next(reader, [])
        if twice := [one for one, count in Counter(head).items() if one and count > 1]:
            raise UsageError(Problem(f"the column '{twice[0]}' is there twice", "rename one of them", shown))
        for cells in reader:
            if any(cells[len(head) :]):
                remedy = "put quotes around a cell that holds what is between cells"
                place = f"line {reader.line_num}"
                raise UsageError(Problem("has more cells than the table has columns", remedy, shown, place))
            found.append({name: cell for name, cell in zip(head, cells, strict=False) if name})
    except csv.Error as error:
        raise UsageError(
            Problem(f"cannot be read: {error}", "correct it", shown, f"line {reader.line_num}")
        ) from None
    return [row for row in found if any(row.values())]


def _delimiter(text: str) -> str:
    """What is between the cells of a table: where decimals have a comma, spreadsheets write semicolons."""
    head = text.split("\n", 1)[0]
    return max((",", ";", "\t"), key=head.count)


def _rows(path: Path) -> list[dict[str, Any]]:
    found = values_of_file(path)
    if not all(isinstance(one, dict) for one in found):
        raise UsageError(Problem("its rows are not objects", 'each is one case: {"image": …}', str(path)))
    return found


def _picture_column(path: Path, rows: Sequence[Mapping[str, Any]], columns: Sequence[str]) -> str:
    """The column that names pictures: where most values are files, of equals the one that is called so."""

    def files(name: str) -> int:
        values = [row.get(name) for row in rows[:200]]
        firsts = [one[0] if isinstance(one, list) and one else one for one in values]
        paths = [_path_in(one) for one in firsts if isinstance(one, str)]
        return sum(Path(one).suffix.lower() in PICTURE_ENDINGS for one in paths)

    best = max(columns, key=lambda name: (files(name), name.lower() in _PICTURE_NAMES), default=None)
    if best is None or not files(best):
        remedy = "give a column with the pictures' paths, from the table's folder"
        raise UsageError(Problem("no column of it names pictures", remedy, str(path)))
    return best


def as_json_line(value: Mapping[str, Any]) -> str:
    """A line of JSON Lines."""
    return json.dumps(value, ensure_ascii=False) + "\n"
