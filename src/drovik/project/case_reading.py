"""The cases that drovik.toml names, a .jsonl file, a .csv file, or a folder with one folder of pictures per label.

Expected outputs against the tasks they are for: known tasks, and the tasks' own schemas.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cache
from pathlib import Path
from types import MappingProxyType
from typing import Annotated, Any, NotRequired

from pydantic import (
    Field,
    StrictFloat,
    StrictInt,
    StrictStr,
    StringConstraints,
    TypeAdapter,
    ValidationError,
    with_config,
)
from typing_extensions import TypedDict

from drovik.errors import Problem, known_words
from drovik.project.case_sources import SourceRow, csv_rows, folder_rows, jsonl_rows
from drovik.project.cases import Case, Picture, Split
from drovik.project.preps import Box
from drovik.project.record_problems import problems_of
from drovik.project.schemas import SchemaChecker
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen

_NONE: frozenset[str] = frozenset()
_NO_FACTS: Mapping[str, Any] = MappingProxyType({})
_MOST_ERRORS = 100
"""Of one expected output."""
_MANY = 100
"""Rows that are worth a checker of their own."""

Fact = StrictStr | StrictInt | StrictFloat | bool | list[Any] | None


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


@cache
def _many_rows() -> Callable[[bytes], list[dict[str, Any]]]:
    """Checks a JSON list of cases as `CaseRow` does, and gives their members as they are: a third of the time."""
    members: dict[str, Any] = {}
    for name, one in CaseRow.model_fields.items():
        kind: Any = Annotated[(one.annotation, *one.metadata)] if one.metadata else one.annotation
        members[name] = kind if one.is_required() else NotRequired[kind]
    row = with_config(extra="forbid")(TypedDict("CaseMembers", members))  # type: ignore[operator]
    return TypeAdapter(list[row]).validate_json  # type: ignore[valid-type]


def read_cases(
    folder: Path, source: str, tasks: Sequence[Task], problems: list[Problem], null_word: str | None = None
) -> list[Case]:
    """Every case of a project; what is wrong is added to `problems` and left out.

    :param source: what `cases` in drovik.toml says, from the project's folder.
    :param tasks: their schemas give the types of CSV columns, their label measures the place of a
        folder's label.
    :param null_word: what a cell of a CSV file says where null is the expected value.
    """
    before = len(problems)
    cases = list(_every_case(_rows(folder, source, tasks, problems, null_word), source, problems))
    if not cases and len(problems) == before:
        problems.append(Problem("there is no case in it", "add at least one", source))
    return cases if len({case.id for case in cases}) == len(cases) else _once_each(cases, source, problems)


def _once_each(cases: Iterable[Case], source: str, problems: list[Problem]) -> list[Case]:
    """The first case of each id; others of the same id add to `problems`."""
    found: dict[str, Case] = {}
    for case in cases:
        first = found.setdefault(case.id, case)
        if first is not case:
            what = f"the id '{case.id}' is used twice, first at {first.place}"
            problems.append(Problem(what, "give each case its own id", source, case.place))
    return list(found.values())


def _rows(
    folder: Path, source: str, tasks: Sequence[Task], problems: list[Problem], null_word: str | None
) -> Iterator[list[SourceRow]]:
    path = folder / source
    if path.is_dir():
        return ([row] for row in folder_rows(folder, path, tasks))
    if path.suffix.lower() == ".csv":
        return ([row] for row in csv_rows(path, source, tasks, problems, null_word))
    if path.suffix.lower() in (".jsonl", ".ndjson"):
        return jsonl_rows(path, source, problems)
    remedy = "name a .jsonl or .csv file, or a folder of pictures per label"
    what = "the cases are of an unknown kind" if path.exists() else "there are no cases here"
    problems.append(Problem(what, remedy, source))
    return iter(())


def _every_case(batches: Iterable[list[SourceRow]], source: str, problems: list[Problem]) -> Iterator[Case]:
    """The cases of rows; those that are wrong add to `problems`, and are left out."""
    for rows in batches:
        found: list[dict[str, Any]] = []
        # A line with half of an object goes together with the next one in a list, and is none by itself.
        lines = [one for one, _ in rows if isinstance(one, bytes) and one.count(b"{") == one.count(b"}")]
        if len(lines) == len(rows) >= _MANY:
            with contextlib.suppress(ValidationError):  # which of them is wrong, and how, is seen line by line
                found = _many_rows()(b"[" + b",".join(lines) + b"]")
        if len(found) == len(rows):
            yield from [_made(members, row.place) for members, row in zip(found, rows, strict=True)]
        else:
            yield from [case for row in rows if (case := case_of(row, source, problems)) is not None]


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
    return _made(dict(found), row.place)


def _made(members: Mapping[str, Any], place: str) -> Case:
    """The case of a row that was checked."""
    refusal = members.get("refusal")
    pictures = [
        Picture(one) if isinstance(one, str) else Picture(one.path, one.tag, one.address, one.page, one.regions)
        for one in members["images"]
    ]
    return Case(
        members["id"],
        tuple(pictures),
        members.get("given") or _NO_FACTS,
        members.get("expected") or {},
        members.get("group"),
        members.get("split", "tune"),
        frozenset(refusal) if refusal else _NONE,
        place,
        members.get("regions") or _NO_FACTS,
    )


def check_expected(cases: Sequence[Case], tasks: Sequence[Task], names: Sequence[str], source: str) -> list[Problem]:
    """Expected outputs that are for no task, or that the task's own schema would not let through.

    :param names: of all tasks, also of those that could not be read.
    """
    checkers = {task.name: SchemaChecker(task.schema) for task in tasks if task.schema is not None}
    problems = []
    for case in cases:
        if not case.expected and not case.refusal:
            continue
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
