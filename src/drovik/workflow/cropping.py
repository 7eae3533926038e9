"""Crops tried on one picture, written into its case, or made into cases of their own."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import TypeAdapter, ValidationError

from drovik.errors import Problem, UsageError
from drovik.images.decode.formats import inspect_source
from drovik.images.prepare import prepare
from drovik.project.case_writing import write_cases
from drovik.project.cases import prep_for
from drovik.project.preps import Box, Prep
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.images.prepare import Prepared
    from drovik.project.reading import Project
    from drovik.project.settings import ProjectFile
    from drovik.workflow.pictures import SourcePicture


def read_box(word: str) -> list[float]:
    """A box as it is written on a command line: four numbers, pixels or fractions.

    :raises UsageError: if it is not a box.
    """

    numbers = word.strip(" []").replace(",", " ").split()
    try:
        box = TypeAdapter[Any](Box).validate_python(numbers)
    except ValidationError as error:
        what = str(error.errors()[0]["msg"]).removeprefix("Value error, ")
        raise UsageError(Problem(f"--crop {word}: {what}", "write it like 40,20,600,400 or 0,0,0.5,1")) from None
    return [float(one) if max(box) <= 1 else int(one) for one in box]


def cropped(one: SourcePicture, box: list[float], settings: ProjectFile) -> Prepared:
    """One picture, cropped to a box.

    :raises UsageError: if it has several pages or frames.
    """

    prep = Prep.model_validate({"crop": box, "format": "png"})
    made = prepare(one.data, prep_for(prep, one.case, one.number), one.path, settings.max_pixels)
    if len(made) > 1:
        remedy = "make cases of the pages first, with --into-cases and no --crop"
        raise UsageError(
            Problem(f"has {counted(len(made), 'page')} or frames, and a crop is for one", remedy, one.path)
        )
    return made[0]


def crops_into_cases(project: Project, one: SourcePicture, boxes: list[list[float]]) -> list[str]:
    """A case for each crop, its picture cut out beside the first; or one for each page of a document.

    They have the first case's facts and, as their group, its id; what is expected of each only a person knows.
    """

    case = one.case
    rest = {"given": dict(case.given)} if case.given else {}
    rest["group"] = case.group or case.id  # type: ignore[assignment]
    ids = {other.id for other in project.cases}
    images = _cut_out(project, one, boxes) if boxes else _pages(one, project.settings)
    rows = []
    for number, image in enumerate(images, 1):
        name = f"{case.id}-{number}"
        if name in ids:
            raise UsageError(Problem(f"there is a case '{name}' already", "rename it, or take it out"))
        rows.append({"id": name, "images": [image], **rest})
    write_cases(project.folder, project.settings.cases, case.id, rows)
    first, last = rows[0]["id"], rows[-1]["id"]
    return [
        f"{project.settings.cases}: {counted(len(rows), 'case')}, {first} to {last}, are behind {case.id} now.",
        f"They expect nothing yet; {case.id} stays, take it out if they are in its place.",
    ]


def _cut_out(project: Project, one: SourcePicture, boxes: list[list[float]]) -> list[Any]:
    images = []
    for number, box in enumerate(boxes, 1):
        part = cropped(one, box, project.settings)
        path = Path(one.path).with_name(f"{Path(one.path).stem}-{number}.png")
        if (project.folder / path).exists():
            raise UsageError(Problem("is there already, and is not written over", "move it away", str(path)))
        (project.folder / path).write_bytes(part.data)
        images.append(str(path))
    return images


def _pages(one: SourcePicture, settings: ProjectFile) -> list[Any]:

    facts = inspect_source(one.data, one.path, settings.max_pixels, Prep(pages="all"))
    if facts.count < 2 or facts.format not in ("PDF", "TIFF"):
        remedy = "give the parts: --crop 0,0,0.5,1 --crop 0.5,0,1,1"
        raise UsageError(Problem("is one picture, and no --crop says what to cut", remedy, one.path))
    return [{"path": one.path, "page": number} for number in range(1, facts.count + 1)]
