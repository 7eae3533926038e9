"""Cases: pictures, facts `given` to the prompt, and expected outputs, whichever file they come from.

`read_cases` looks at what `cases` in drovik.toml names: a .jsonl file, a .csv file, or a folder with
one folder of pictures per label.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field, StrictFloat, StrictInt, StrictStr, StringConstraints, ValidationError

from drovik.errors import Problem
from drovik.project.case_sources import Row
from drovik.project.preps import Box, Prep
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen, problems_of

Split = Literal["tune", "held_out"]
Fact = StrictStr | StrictInt | StrictFloat | bool | list[Any] | None


class Picture(NamedTuple):
    """A picture of a case: where it is, from the project's folder, and the tag a prompt may name it by.

    `address` is where it stands on the web, for services that fetch pictures themselves. `page` is the one page
    of a document that is meant; `regions` are boxes that a prep may crop to.
    """

    path: str
    tag: str | None = None
    address: str | None = None
    page: int | None = None
    regions: Mapping[str, Any] = MappingProxyType({})


class Case(NamedTuple):
    """One or more pictures, facts for the prompt, and the expected outputs by task.

    `group` names what cases have in common, such as their source: they are resampled together.
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


def read_cases(folder: Path, source: str, tasks: Sequence[Task], problems: list[Problem]) -> list[Case]:
    """Every case of a project; what is wrong is added to `problems` and left out.

    :param source: what `cases` in drovik.toml says, from the project's folder.
    :param tasks: their schemas give the types of CSV columns, their label measures the place of a
        folder's label.
    """
    cases: list[Case] = []
    first_places: dict[str, str] = {}
    before = len(problems)
    for row in _rows(folder, source, tasks, problems):
        case = _case_of(row, source, problems)
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


def _rows(folder: Path, source: str, tasks: Sequence[Task], problems: list[Problem]) -> Iterator[Row]:
    from drovik.project import case_sources

    path = folder / source
    if path.is_dir():
        return case_sources.folder_rows(folder, path, tasks)
    if path.suffix.lower() == ".csv":
        return case_sources.csv_rows(path, source, tasks, problems)
    if path.suffix.lower() in (".jsonl", ".ndjson"):
        return case_sources.jsonl_rows(path, source, problems)
    remedy = "name a .jsonl or .csv file, or a folder of pictures per label"
    what = "the cases are of no known kind" if path.exists() else "there are no cases here"
    problems.append(Problem(what, remedy, source))
    return iter(())


def _case_of(row: Row, source: str, problems: list[Problem]) -> Case | None:
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
        found.id,
        tuple(pictures),
        found.given,
        found.expected,
        found.group,
        found.split,
        frozenset(found.refusal),
        row.place,
        found.regions,
    )
