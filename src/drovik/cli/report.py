"""`drovik report`: the whole comparison as one HTML page."""

from __future__ import annotations

import argparse
from datetime import datetime
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
from drovik.errors import DONE
from drovik.files import write_whole
from drovik.reporting.page import write_page

if TYPE_CHECKING:
    from collections.abc import Sequence

    from drovik.evaluation.gathering import TaskView
    from drovik.project.reading import Project

EXAMPLE = "drovik report --out skerry.html"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    add_choice_arguments(parser)
    add_own_argument(parser)
    add_split_argument(parser)
    parser.add_argument(
        "--out", type=Path, metavar="FILE", help="where to write it (default: report.html in the project)"
    )
    add_force_argument(parser)
    parser.add_argument("--json", action="store_true", help="print where it is as one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Write the page of what has been answered; nothing is sent."""

    project = open_project(arguments.project)
    with open_store(project.store_path, create=False) as store:
        views = workflow.gather(project, store, arguments.task, arguments.arm, arguments.split, arguments.trust)
        looks = Looks(store, views, arguments.split)
    path: Path = arguments.out or project.folder / "report.html"
    require_own(path, "--out", arguments.force)
    size = write_report(project, views, path)
    if arguments.json:
        print_json({"report": str(path), "bytes": size, **looks.document()})
    else:
        say(f"The report is {path} ({size / 1e6:.1f} MB).")
        looks.show()
    return DONE


def write_report(project: Project, views: Sequence[TaskView], path: Path) -> int:
    """Write the page to a file; its size in bytes."""

    page = write_page(project, views, datetime.now()).encode("utf-8", "replace")
    write_whole(path, page, make_folder=False)
    return len(page)
