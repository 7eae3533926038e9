"""Cases: pictures, facts `given` to the prompt, and expected outputs, whichever file they come from.

`read_cases` looks at what `cases` in drovik.toml names: a .jsonl file, a .csv file, or a folder with
one folder of pictures per label.

Expected outputs against the tasks they are for: known tasks, and the tasks' own schemas.

The three sources of cases, each as rows: JSON Lines, CSV, and a folder of pictures per label.
"""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Annotated, Any, Literal, NamedTuple

from jsonpointer import JsonPointer
from pydantic import Field, StrictFloat, StrictInt, StrictStr, StringConstraints, ValidationError

from drovik.errors import DrovikError, Problem, ProjectError, known_words
from drovik.files import open_regular
from drovik.project.preps import Box, Prep
from drovik.project.schemas import SchemaChecker
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen, problems_of

_NONE: frozenset[str] = frozenset()
_NO_FACTS: Mapping[str, Any] = MappingProxyType({})
_MOST_ERRORS = 100
"""Of one expected output."""


def check_expected(cases: Sequence[Case], tasks: Sequence[Task], names: Sequence[str], source: str) -> list[Problem]:
    """Expected outputs that are for no task, or that the task's own schema would not let through.

    :param names: of all tasks, also of those that could not be read.
    """
    checkers = {task.name: SchemaChecker(task.schema) for task in tasks if task.schema is not None}
    problems = []
    for case in cases:
        for name in (*case.expected, *case.refusal):
            if name not in names:
                place = f"{case.place}: expected" if name in case.expected else f"{case.place}: refusal"
                problems.append(Problem(f"unknown task '{name}'", known_words(name, names), source, place))
        for name, checker in checkers.items():
            if name not in case.expected:
                continue
            for error in checker.mismatches(case.expected[name], _MOST_ERRORS):
                steps = "".join(f"/{step}" for step in error.steps)
                what = f"does not fit the task's own schema: {error.words[:160]}"
                remedy = f"correct it, or tasks/{name}'s schema"
                problems.append(Problem(what, remedy, source, f"{case.place}: expected.{name}{steps}"))
    return problems


_PICTURES = (".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".webp", ".gif", ".bmp", ".tif", ".tiff", ".heic", ".heif")
_CLIPS = (".mp4", ".m4v", ".mov", ".webm", ".mkv", ".avi")
PICTURE_ENDINGS = frozenset((*_PICTURES, *_CLIPS, ".pdf"))
"""Which files of a folder are taken for pictures; what they are is then read from their content."""

MOST_LINE_BYTES = 50_000_000
"""Of one case: what it gives and what is expected, no picture."""

_PLAIN_COLUMNS = ("id", "image", "group", "split")
_PREFIXES = ("image", "given", "expected", "region")


@dataclass(frozen=True)
class SourceRow:
    """What a source yields: a case not yet checked, and where it was written."""

    values: Mapping[str, Any] | bytes
    place: str


def jsonl_rows(path: Path, source: str, problems: list[Problem]) -> Iterator[SourceRow]:
    """A row a line; empty lines are passed over."""
    try:
        with open_regular(path, source) as file:
            for number in itertools.count(1):
                line = file.readline(MOST_LINE_BYTES + 1)
                if not line:
                    return
                if len(line) > MOST_LINE_BYTES:
                    what = f"is longer than {MOST_LINE_BYTES // 1_000_000} MB"
                    raise ProjectError(Problem(what, "each line is one case", source, f"line {number}"))
                stripped = line.removeprefix(b"\xef\xbb\xbf").strip()
                if stripped:
                    yield SourceRow(stripped, f"line {number}")
    except DrovikError as error:
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


Split = Literal["tune", "held_out"]
Fact = StrictStr | StrictInt | StrictFloat | bool | list[Any] | None


class Picture(NamedTuple):
    """A picture of a case: where it is, from the project's folder, and the tag a prompt may name it by.

    `address` is where it is on the web, for services that fetch pictures themselves. `page` is the one page
    of a document that is meant; `regions` are boxes that a prep may crop to.
    """

    path: str
    tag: str | None = None
    address: str | None = None
    page: int | None = None
    regions: Mapping[str, Any] = MappingProxyType({})


class Case(NamedTuple):
    """One or more pictures, facts for the prompt, and the expected outputs by task.

    `group` names what cases have in common, such as their source: how sure a score is goes by groups.
    `refusal` names the tasks where declining is the right answer. `place` says where it was written.
    `regions` hold for all of its pictures, unless one has a region of the same name.
    """

    id: str
    pictures: tuple[Picture, ...]
    given: Mapping[str, Any]
    expected: Mapping[str, Any]
    group: str | None
    split: Split
    refusal: frozenset[str]
    place: str
    regions: Mapping[str, Any] = MappingProxyType({})


def prep_for(prep: Prep, case: Case, number: int) -> Prep:
    """A prep as it is for one picture of a case: with the box of a region, and the page that is meant.

    :raises DrovikError: where the case has no region of the name that the prep crops to.
    """
    picture = case.pictures[number]
    if isinstance(prep.crop, str):
        prep = prep.for_region({**case.regions, **picture.regions}, f"case '{case.id}'")
    return prep if picture.page is None else prep.model_copy(update={"pages": (picture.page,)})


class PictureRow(Frozen):
    """A picture that has a tag, or an address on the web."""

    path: str = Field(min_length=1)
    tag: str | None = None
    address: Annotated[str, StringConstraints(pattern=r"^https?://")] | None = None
    page: int | None = Field(default=None, ge=1)
    regions: dict[str, Box] = {}


class CaseRow(Frozen):
    """A case as one JSON object. Empty defaults are made, and not copied: that is quicker, and there may be many."""

    id: str = Field(min_length=1, max_length=200)
    images: list[str | PictureRow] = Field(min_length=1)
    given: dict[str, Fact] = Field(default_factory=dict)
    expected: dict[str, Any] = Field(default_factory=dict)
    group: str | None = None
    split: Split = "tune"
    refusal: list[str] = Field(default_factory=list)
    regions: dict[str, Box] = Field(default_factory=dict)
    filled: dict[str, Any] = Field(default_factory=dict)
    """By task, who filled in the expected output and from what (`drovik review --fill`)."""


def read_cases(
    folder: Path, source: str, tasks: Sequence[Task], problems: list[Problem], null_word: str | None = None
) -> list[Case]:
    """Every case of a project; what is wrong is added to `problems` and left out.

    :param source: what `cases` in drovik.toml says, from the project's folder.
    :param tasks: their schemas give the types of CSV columns, their label measures the place of a
        folder's label.
    :param null_word: what a cell of a CSV file says where null is the expected value.
    """
    cases: list[Case] = []
    first_places: dict[str, str] = {}
    before = len(problems)
    for row in _rows(folder, source, tasks, problems, null_word):
        case = case_of(row, source, problems)
        if case is None:
            continue
        if case.id in first_places:
            what = f"the id '{case.id}' is used twice, first at {first_places[case.id]}"
            problems.append(Problem(what, "give each case its own id", source, case.place))
            continue
        first_places[case.id] = case.place
        cases.append(case)
    if not cases and len(problems) == before:
        problems.append(Problem("there is no case in it", "add at least one", source))
    return cases


def _rows(
    folder: Path, source: str, tasks: Sequence[Task], problems: list[Problem], null_word: str | None
) -> Iterator[SourceRow]:
    path = folder / source
    if path.is_dir():
        return folder_rows(folder, path, tasks)
    if path.suffix.lower() == ".csv":
        return csv_rows(path, source, tasks, problems, null_word)
    if path.suffix.lower() in (".jsonl", ".ndjson"):
        return jsonl_rows(path, source, problems)
    remedy = "name a .jsonl or .csv file, or a folder of pictures per label"
    what = "the cases are of an unknown kind" if path.exists() else "there are no cases here"
    problems.append(Problem(what, remedy, source))
    return iter(())


def case_of(row: SourceRow, source: str, problems: list[Problem]) -> Case | None:
    """The case of a row; None after adding to `problems`."""
    try:
        if isinstance(row.values, bytes):
            found = CaseRow.model_validate_json(row.values)
        else:
            found = CaseRow.model_validate(row.values)
    except ValidationError as error:
        if error.errors()[0]["type"] == "json_invalid":
            what = f"is not JSON: {error.errors()[0]['msg'].removeprefix('Invalid JSON: ')}"
            problems.append(Problem(what, "each line is one JSON object", source, row.place))
        else:
            problems.extend(problems_of(error, CaseRow, source, row.place))
        return None
    pictures = [
        Picture(one) if isinstance(one, str) else Picture(one.path, one.tag, one.address, one.page, one.regions)
        for one in found.images
    ]
    return Case(
        id=found.id,
        pictures=tuple(pictures),
        given=found.given or _NO_FACTS,
        expected=found.expected,
        group=found.group,
        split=found.split,
        refusal=frozenset(found.refusal) if found.refusal else _NONE,
        place=row.place,
        regions=found.regions or _NO_FACTS,
    )
