"""`drovik pictures --crop`: trying a crop on one picture, writing it into the case, making cases of parts."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import TypeAdapter, ValidationError

from drovik.cli.pictures.table import preparation_note, sources
from drovik.cli.printing import print_json, say
from drovik.errors import DONE, Problem, UsageError
from drovik.images.decode.formats import inspect_source
from drovik.images.prepare import prepare, thumbnail
from drovik.project.case_writing import write_cases, write_region
from drovik.project.cases import prep_for
from drovik.project.preps import Box, Prep
from drovik.reporting.contact_sheet import Row, Tile, write_sheet

if TYPE_CHECKING:
    from drovik.cli.pictures.table import Shown
    from drovik.images.prepare import Prepared
    from drovik.project.cases import Case
    from drovik.project.reading import Project
    from drovik.project.settings import ProjectFile


def crop(project: Project | None, settings: ProjectFile, cases: list[Case], arguments: argparse.Namespace) -> int:
    """Try crops on one picture, and write what comes of them where that is asked for."""

    every = list(sources(project, cases))
    if len(every) != 1:
        what = f"--crop and --into-cases are for one picture, and {len(every)} are named"
        raise UsageError(Problem(what, "name one case with one picture, or one file"))
    one = every[0]
    boxes = [_box(word) for word in arguments.crop or ()]
    made = [_cropped(one, box, settings) for box in boxes]
    sheet = arguments.sheet or Path("pictures.png")
    if made:
        _draw(one, boxes, made, settings, sheet)
    done = _write(project, one, boxes, arguments) if arguments.write or arguments.into_cases else []
    if arguments.json:
        crops = [{"crop": box, "size": [part.width, part.height]} for box, part in zip(boxes, made, strict=True)]
        print_json({"sheet": str(sheet) if made else None, "crops": crops, "written": done})
        return DONE
    for number, part in enumerate(made, 1):
        share = part.layout.kept_share
        say(f"crop {number}: {part.width} × {part.height} pixels, {share:.0%} of the picture")
    if made:
        say(f"Contact sheet: {sheet}")
    for line in done:
        say(line)
    if not done and len(boxes) == 1:
        say('Write it into the case with: --region NAME --write; a prep crops to it by crop = "NAME".')
    return DONE


def _box(word: str) -> list[float]:

    numbers = word.strip(" []").replace(",", " ").split()
    try:
        box = TypeAdapter[Any](Box).validate_python(numbers)
    except ValidationError as error:
        what = str(error.errors()[0]["msg"]).removeprefix("Value error, ")
        raise UsageError(Problem(f"--crop {word}: {what}", "write it like 40,20,600,400 or 0,0,0.5,1")) from None
    return [float(one) if max(box) <= 1 else int(one) for one in box]


def _cropped(one: Shown, box: list[float], settings: ProjectFile) -> Prepared:

    prep = Prep.model_validate({"crop": box, "format": "png"})
    made = prepare(one.data, prep_for(prep, one.case, one.number), one.path, settings.max_pixels)
    if len(made) > 1:
        remedy = "make cases of the pages first, with --into-cases and no --crop"
        raise UsageError(Problem(f"has {len(made)} pages or frames, and a crop is for one", remedy, one.path))
    return made[0]


def _draw(one: Shown, boxes: list[list[float]], made: list[Prepared], settings: ProjectFile, where: Path) -> None:

    marks = []
    for part in made:
        width, height = part.layout.upright
        at = part.layout.crop
        marks.append((at.left / width, at.top / height, at.right / width, at.bottom / height))
    upright = made[0].layout.upright
    before = Tile(
        thumbnail(one.data, one.path, settings.max_pixels, 800).data,
        (f"as it is: {upright[0]} x {upright[1]}",),
        tuple(marks),
    )
    after = []
    for number, (box, part) in enumerate(zip(boxes, made, strict=True), 1):
        numbers = ", ".join(f"{side:g}" for side in box)
        after.append(
            Tile(part.data, (f"crop {number}: {part.width} x {part.height}", numbers, preparation_note(part)))
        )
    write_sheet([Row(f"{one.case.id}   {Path(one.path).name}", before, tuple(after))], where)


def _write(project: Project | None, one: Shown, boxes: list[list[float]], arguments: argparse.Namespace) -> list[str]:

    if project is None or all(case.id != one.case.id for case in project.cases):
        raise UsageError(Problem("this picture is no case of a project", "name a case in place of a file"))
    if arguments.into_cases:
        return _into_cases(project, one, boxes)
    if len(boxes) != 1 or not arguments.region:
        what = "--write puts one crop into the case under a name"
        raise UsageError(Problem(what, "give one --crop and --region NAME, or --into-cases for several"))
    write_region(project.folder, project.settings.cases, one.case.id, one.number, arguments.region, boxes[0])
    return [f"{project.settings.cases}: case {one.case.id} has the region '{arguments.region}' now."]


def _into_cases(project: Project, one: Shown, boxes: list[list[float]]) -> list[str]:
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
        f"{project.settings.cases}: {len(rows)} cases, {first} to {last}, stand behind {case.id} now.",
        f"They expect nothing yet; {case.id} stays, take it out if they are in its place.",
    ]


def _cut_out(project: Project, one: Shown, boxes: list[list[float]]) -> list[Any]:
    images = []
    for number, box in enumerate(boxes, 1):
        part = _cropped(one, box, project.settings)
        path = Path(one.path).with_name(f"{Path(one.path).stem}-{number}.png")
        if (project.folder / path).exists():
            raise UsageError(Problem("is there already, and is not written over", "move it away", str(path)))
        (project.folder / path).write_bytes(part.data)
        images.append(str(path))
    return images


def _pages(one: Shown, settings: ProjectFile) -> list[Any]:

    facts = inspect_source(one.data, one.path, settings.max_pixels, Prep(pages="all"))
    if facts.count < 2 or facts.format not in ("PDF", "TIFF"):
        remedy = "give the parts: --crop 0,0,0.5,1 --crop 0.5,0,1,1"
        raise UsageError(Problem("is one picture, and no --crop says what to cut", remedy, one.path))
    return [{"path": one.path, "page": number} for number in range(1, facts.count + 1)]
