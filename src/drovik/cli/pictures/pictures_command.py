"""`drovik pictures`: what a prep makes of pictures, what looks wrong with them, and trying a crop."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import add_project_argument, all_services, nearest_project, open_project
from drovik.cli.outputs import add_force_argument
from drovik.cli.pictures.crop import crop, sheet_of
from drovik.cli.pictures.table import caption, cells, inspect_all, kilobytes
from drovik.cli.printing import print_json, say, table
from drovik.errors import DONE, Problem, UsageError, known_words
from drovik.reporting.contact_sheet import SheetRow, SheetTile, write_sheet

if TYPE_CHECKING:
    from drovik.project.reading import Project


EXAMPLE = (
    "drovik pictures\n  drovik pictures lp-001 lp-014 --prep small --sheet small.png\n"
    "  drovik pictures clip.mp4 --prep 'frames={evenly=6},fit=512'\n"
    "  drovik pictures lp-001 --crop 0.5,0,1,1 --region tag --write"
)
MOST_ROWS = 24
"""Pictures on one contact sheet: more of them are too small to see."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument("words", nargs="*", metavar="CASE|FILE", help="cases by their ids, or files; none: all cases")
    parser.add_argument(
        "--prep",
        action="append",
        metavar="PREP",
        help="a prep (how pictures are prepared) by name, or like fit=640,quality=80",
    )
    parser.add_argument("--model", action="append", metavar="MODEL", help="count tokens and money for these models")
    parser.add_argument("--sheet", type=Path, metavar="PNG", help="the contact sheet (default: contact-sheet.png)")
    add_force_argument(parser)
    parser.add_argument("--crop", action="append", metavar="L,T,R,B", help="try a crop: pixels or fractions")
    parser.add_argument("--region", metavar="NAME", help="the name under which --write puts the crop into the case")
    parser.add_argument("--write", action="store_true", help="write the crop into the case as a region")
    parser.add_argument("--into-cases", action="store_true", help="make a case of each crop, or of each page")
    parser.add_argument("--all", action="store_true", help="list every picture, also where nothing looks wrong")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Show pictures."""

    if not arguments.words:
        if arguments.crop or arguments.write or arguments.into_cases:
            raise UsageError(Problem("--crop is for one picture", "name its case: drovik pictures lp-001 --crop …"))
        return inspect_all(open_project(arguments.project), arguments)
    project, settings, cases = _named(arguments)
    if arguments.crop or arguments.write or arguments.into_cases:
        return crop(project, settings, cases, arguments)
    return _show(project, settings, cases, arguments)


def _named(arguments: argparse.Namespace) -> tuple[Project | None, workflow.ProjectFile, list[workflow.Case]]:
    """The cases that the words mean: those of a project, or one for each file."""

    project = open_project(arguments.project) if nearest_project(arguments.project) else None
    by_id = {case.id: case for case in project.cases} if project else {}
    cases = []
    for word in arguments.words:
        if word in by_id:
            cases.append(by_id[word])
        elif Path(word).is_file():
            pictures = (workflow.Picture(str(Path(word).resolve())),)
            cases.append(workflow.Case(Path(word).name, pictures, {}, {}, None, "tune", frozenset(), word))
        else:
            what = f"there is no case and no file '{word}'"
            raise UsageError(Problem(what, known_words(word, by_id) if by_id else "give a picture's file"))
    return project, project.settings if project else all_services(None).settings, cases


def _show(
    project: Project | None, settings: workflow.ProjectFile, cases: list[workflow.Case], arguments: argparse.Namespace
) -> int:

    preps, models = (
        workflow.chosen_preps(settings, arguments.prep),
        workflow.counting_models(settings, arguments.model),
    )
    rows, lines, documents = [], [], []
    for one in workflow.sources(project, cases):
        facts = workflow.inspect_source(one.data, one.path, settings.max_pixels, next(iter(preps.values())))
        after, boxes = [], []
        for name, prep in preps.items():
            made = workflow.prepare(
                one.data, workflow.prep_for(prep, one.case, one.number), one.path, settings.max_pixels
            )
            for part in made:
                after.append(SheetTile(part.data, tuple(caption(part, name, models, len(made)))))
                lines.append([one.case.id, name, *cells(part, models, len(made))])
                documents.append(
                    {"case": one.case.id, "picture": one.path, "prep": name, **workflow.picture_record(part, models)}
                )
            boxes += workflow.sent_boxes(made) if len(preps) == 1 else []
        below = (f"as it is: {facts.width} x {facts.height}", f"{facts.format}, {kilobytes(len(one.data))}")
        before = SheetTile(_first(one, settings), below, tuple(boxes))
        rows.append(SheetRow(f"{one.case.id}   {Path(one.path).name}", before, tuple(after)))
    where = sheet_of(arguments)
    write_sheet(rows[:MOST_ROWS], where)
    if arguments.json:
        print_json({"sheet": str(where), "pictures": documents})
        return DONE
    columns = ("case", "prep", "picture", "size", "bytes", *models, "")
    table(columns, lines, numbers=range(3, 5 + len(models)))
    more = f", of the first {MOST_ROWS} pictures" if len(rows) > MOST_ROWS else ""
    say(f"Contact sheet: {where}{more}")
    return DONE


def _first(one: workflow.SourcePicture, settings: workflow.ProjectFile) -> bytes:

    return workflow.thumbnail(one.data, one.path, settings.max_pixels, 800).data
