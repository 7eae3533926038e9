"""`drovik pictures --crop`: trying a crop on one picture, writing it into the case, making cases of parts."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.outputs import require_own
from drovik.cli.pictures.table import preparation_note
from drovik.cli.printing import print_json, say
from drovik.errors import DONE, Problem, UsageError
from drovik.reporting.contact_sheet import SheetRow, SheetTile, write_sheet

if TYPE_CHECKING:
    from drovik.images.prepare import Prepared
    from drovik.project.cases import Case
    from drovik.project.reading import Project
    from drovik.project.settings import ProjectFile
    from drovik.workflow.pictures import SourcePicture


def crop(project: Project | None, settings: ProjectFile, cases: list[Case], arguments: argparse.Namespace) -> int:
    """Try crops on one picture, and write what comes of them where that is asked for."""

    every = list(workflow.sources(project, cases))
    if len(every) != 1:
        what = f"--crop and --into-cases are for one picture, and {len(every)} are named"
        raise UsageError(Problem(what, "name one case with one picture, or one file"))
    one = every[0]
    boxes = [workflow.read_box(word) for word in arguments.crop or ()]
    made = [workflow.cropped(one, box, settings) for box in boxes]
    sheet = sheet_of(arguments)
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


def sheet_of(arguments: argparse.Namespace) -> Path:
    """Where the contact sheet goes.

    :raises UsageError: where a file of somebody else's is there.
    """
    sheet: Path = arguments.sheet or Path("contact-sheet.png")
    require_own(sheet, "--sheet", arguments.force)
    return sheet


def _draw(
    one: SourcePicture, boxes: list[list[float]], made: list[Prepared], settings: ProjectFile, where: Path
) -> None:

    marks = []
    for part in made:
        width, height = part.layout.upright
        at = part.layout.crop
        marks.append((at.left / width, at.top / height, at.right / width, at.bottom / height))
    upright = made[0].layout.upright
    before = SheetTile(
        workflow.thumbnail(one.data, one.path, settings.max_pixels, 800).data,
        (f"as it is: {upright[0]} x {upright[1]}",),
        tuple(marks),
    )
    after = []
    for number, (box, part) in enumerate(zip(boxes, made, strict=True), 1):
        numbers = ", ".join(f"{side:g}" for side in box)
        after.append(
            SheetTile(part.data, (f"crop {number}: {part.width} x {part.height}", numbers, preparation_note(part)))
        )
    write_sheet([SheetRow(f"{one.case.id}   {Path(one.path).name}", before, tuple(after))], where)


def _write(
    project: Project | None, one: SourcePicture, boxes: list[list[float]], arguments: argparse.Namespace
) -> list[str]:

    if project is None or all(case.id != one.case.id for case in project.cases):
        raise UsageError(Problem("this picture is not a case of a project", "name a case in place of a file"))
    if arguments.into_cases:
        return workflow.crops_into_cases(project, one, boxes)
    if len(boxes) != 1 or not arguments.region:
        what = "--write puts one crop into the case under a name"
        raise UsageError(Problem(what, "give one --crop and --region NAME, or --into-cases for several"))
    workflow.write_region(project.folder, project.settings.cases, one.case.id, one.number, arguments.region, boxes[0])
    return [f"{project.settings.cases}: case {one.case.id} has the region '{arguments.region}' now."]
