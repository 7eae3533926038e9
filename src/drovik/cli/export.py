"""`drovik export`: answers, scores, findings, attempts and money as tables; or the whole project as one file."""

from __future__ import annotations

import argparse
import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import (
    add_choice_arguments,
    add_own_argument,
    add_project_argument,
    add_split_argument,
    open_project,
    open_store,
)
from drovik.cli.held_out import Looks
from drovik.cli.outputs import add_force_argument, require_own
from drovik.cli.printing import print_json, say
from drovik.errors import DONE, Problem, UsageError
from drovik.reporting.table_files import KINDS, FileTable, files_of, foreign_files, write_tables
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.project.reading import Project

EXAMPLE = "drovik export tables --as parquet"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("folder", nargs="?", type=Path, metavar="DIR", help="where the tables go")
    add_project_argument(parser)
    add_choice_arguments(parser)
    add_own_argument(parser)
    add_split_argument(parser)
    parser.add_argument("--as", dest="kind", choices=KINDS, default="csv", help="the kind of files (default: csv)")
    parser.add_argument(
        "--table", action="append", default=[], metavar="NAME",
        help="only this one of answers, scores, measures, findings, attempts, money, cases (may be repeated)",
    )  # fmt: skip
    parser.add_argument("--pictures", action="store_true", help="the pictures too, as they were sent (in pictures/)")
    parser.add_argument(
        "--bundle", type=Path, metavar="FILE", help="the project with its pictures and its store as one zip, no keys"
    )
    add_force_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Write tables, or a bundle; nothing is sent."""
    if (arguments.folder is None) == (arguments.bundle is None):
        raise UsageError(Problem("give a folder for tables, or --bundle FILE", "see: drovik export --help"))
    project = open_project(arguments.project)
    if arguments.bundle is not None:
        require_own(arguments.bundle, "--bundle", arguments.force)
        count, size = workflow.write_bundle(project, arguments.bundle)
        if arguments.json:
            print_json({"bundle": str(arguments.bundle), "files": count, "bytes": size})
        else:
            say(f"{arguments.bundle} has {counted(count, 'file')} ({size / 1e6:.1f} MB), and no keys.")
        return DONE
    with open_store(project.store_place, create=False) as store:
        views = workflow.gather(project, store, arguments.task, arguments.arm, arguments.split, arguments.trust)
        looks = Looks(store, views, arguments.split)
        tables = workflow.tables_to_export(store, views, arguments.table)
        _require_own(project, tables, arguments)
        written = write_tables(tables, arguments.folder, arguments.kind)
    sent = workflow.write_sent_pictures(project, views, arguments.folder / "pictures") if arguments.pictures else 0
    if arguments.json:
        files = {str(path): count for path, count in written.items()}
        print_json({"files": files, "pictures": sent, **looks.document()})
        return DONE
    for path, count in written.items():
        say(f"{path}: {counted(count, 'row')}")
    if (held := sum(one.split == "held_out" for one in project.cases)) and arguments.split == "tune":
        say(f"Left out: {counted(held, 'case')} held out; --split all takes all.")
    if arguments.pictures:
        say(f"{arguments.folder / 'pictures'}: {counted(sent, 'picture')} as they were sent")
    looks.show()
    return DONE


def _require_own(project: Project, tables: Sequence[FileTable], arguments: argparse.Namespace) -> None:
    """Require that no file is written over that is not such a table, and nothing of the project's own ever."""
    where = tables, arguments.folder, arguments.kind
    cases = (project.folder / project.settings.cases).resolve()
    for path in files_of(*where):
        if path.resolve() == cases:
            raise UsageError(Problem("is the project's own", "name another folder for the tables", str(path)))
    pictures = (arguments.folder / "pictures").resolve()
    names = {os.path.dirname(one.path) for case in project.cases for one in case.pictures}
    homes = [(project.folder / name).resolve() for name in names]
    if arguments.pictures and any(pictures in (one, *one.parents) for one in homes):
        raise UsageError(Problem("holds the project's own pictures", "name another folder", str(pictures)))
    for path in () if arguments.force else foreign_files(*where):
        remedy = "name another folder, or give --force to write over it"
        raise UsageError(Problem("is there already, and is not such a table", remedy, str(path)))
