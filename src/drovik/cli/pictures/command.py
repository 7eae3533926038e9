"""`drovik pictures`: what a prep makes of pictures, what looks wrong with them, and trying a crop."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.cli.arguments import add_project_argument, open_project
from drovik.cli.pictures.crop import crop
from drovik.cli.pictures.table import Shown, caption, cells, inspect_all, kilobytes, picture_record, sources
from drovik.cli.printing import print_json, say, table
from drovik.cli.services import nearest_project
from drovik.errors import DONE, Problem, UsageError, known_words
from drovik.images.decode.formats import inspect_source
from drovik.images.prepare import prepare, thumbnail
from drovik.project.cases import Case, Picture, prep_for
from drovik.project.settings import ProjectFile
from drovik.reporting.contact_sheet import Row, Tile, write_sheet
from drovik.text import shortened
from drovik.workflow.asking import prep_of
from drovik.workflow.services import Services

if TYPE_CHECKING:
    from drovik.images.prepare import Prepared
    from drovik.project.cases import Case
    from drovik.project.preps import Prep
    from drovik.project.reading import Project
    from drovik.project.settings import Model, ProjectFile


EXAMPLE = (
    "drovik pictures\n  drovik pictures lp-001 lp-014 --prep small --sheet small.png\n"
    "  drovik pictures clip.mp4 --prep 'frames={evenly=6},fit=512'\n"
    "  drovik pictures lp-001 --crop 0.5,0,1,1 --region tag --write"
)
MOST_ROWS = 24


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument("words", nargs="*", metavar="CASE|FILE", help="cases by their ids, or files; none: all cases")
    parser.add_argument("--prep", action="append", metavar="PREP", help="a prep by name, or like fit=640,quality=80")
    parser.add_argument("--model", action="append", metavar="MODEL", help="count tokens and money for these models")
    parser.add_argument("--sheet", type=Path, metavar="PNG", help="the contact sheet (default: pictures.png)")
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


def _named(arguments: argparse.Namespace) -> tuple[Project | None, ProjectFile, list[Case]]:
    """The cases that the words mean: those of a project, or one for each file."""

    project = open_project(arguments.project) if nearest_project(arguments.project) else None
    by_id = {case.id: case for case in project.cases} if project else {}
    cases = []
    for word in arguments.words:
        if word in by_id:
            cases.append(by_id[word])
        elif Path(word).is_file():
            pictures = (Picture(str(Path(word).resolve())),)
            cases.append(Case(Path(word).name, pictures, {}, {}, None, "tune", frozenset(), word))
        else:
            what = f"there is no case and no file '{word}'"
            raise UsageError(Problem(what, known_words(word, by_id) if by_id else "give a picture's file"))
    return project, project.settings if project else ProjectFile(), cases


def chosen_preps(settings: ProjectFile, words: Sequence[str] | None) -> dict[str, Prep]:
    """The preps that are meant, by name; all of the project, where none is named."""

    services = Services(Path(), settings, {}, {})
    if not words:
        return dict(settings.preps)
    found = {}
    for word in words:
        found[shortened(word, 40)] = prep_of(services, word)[1]
    return found


def counting_models(settings: ProjectFile, words: Sequence[str] | None) -> dict[str, Model]:
    """The models for which tokens can be told beforehand, or those that are named."""
    for word in words or ():
        if word not in settings.models:
            raise UsageError(Problem(f"there is no model '{word}'", known_words(word, settings.models)))
        if settings.models[word].picture_tokens is None:
            what = f"how '{word}' counts pictures is not known"
            raise UsageError(Problem(what, "add picture_tokens to it", "drovik.toml", f"models.{word}"))
    return {
        name: model
        for name, model in settings.models.items()
        if model.picture_tokens and (not words or name in words)
    }


def _show(project: Project | None, settings: ProjectFile, cases: list[Case], arguments: argparse.Namespace) -> int:

    preps, models = chosen_preps(settings, arguments.prep), counting_models(settings, arguments.model)
    rows, lines, documents = [], [], []
    for one in sources(project, cases):
        facts = inspect_source(one.data, one.path, settings.max_pixels, next(iter(preps.values())))
        after, boxes = [], []
        for name, prep in preps.items():
            made = prepare(one.data, prep_for(prep, one.case, one.number), one.path, settings.max_pixels)
            for part in made:
                after.append(Tile(part.data, tuple(caption(part, name, models, len(made)))))
                lines.append([one.case.id, name, *cells(part, models, len(made))])
                documents.append(
                    {"case": one.case.id, "picture": one.path, "prep": name, **picture_record(part, models)}
                )
            boxes += _boxes(made) if len(preps) == 1 else []
        below = (f"as it is: {facts.width} x {facts.height}", f"{facts.format}, {kilobytes(len(one.data))}")
        before = Tile(_first(one, settings), below, tuple(boxes))
        rows.append(Row(f"{one.case.id}   {Path(one.path).name}", before, tuple(after)))
    where = arguments.sheet or Path("pictures.png")
    write_sheet(rows[:MOST_ROWS], where)
    if arguments.json:
        print_json({"sheet": str(where), "pictures": documents})
        return DONE
    columns = ("case", "prep", "picture", "size", "bytes", *models, "")
    table(columns, lines, numbers=range(3, 5 + len(models)))
    more = f", of the first {MOST_ROWS} pictures" if len(rows) > MOST_ROWS else ""
    say(f"Contact sheet: {where}{more}")
    return DONE


def _boxes(made: Sequence[Prepared]) -> list[tuple[float, float, float, float]]:
    """Where the parts lie in the source, as shares of its sides; nothing where all of it is sent."""
    found = []
    for one in made if len({part.shot for part in made}) == 1 else ():
        width, height = one.layout.upright
        box = one.layout.to_upright(one.part).box((0, 0, one.width, one.height))
        shares = (box[0] / width, box[1] / height, box[2] / width, box[3] / height)
        if max(shares[0], shares[1], 1 - shares[2], 1 - shares[3]) > 0.003:
            found.append(tuple(min(1.0, max(0.0, share)) for share in shares))
    return found  # type: ignore[return-value]


def _first(one: Shown, settings: ProjectFile) -> bytes:

    return thumbnail(one.data, one.path, settings.max_pixels, 800).data
