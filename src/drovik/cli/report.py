"""`drovik report`: the whole comparison as one HTML page."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import (
    add_choice_arguments,
    add_cluster_argument,
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
from drovik.reporting.figures.files import write_figures
from drovik.reporting.page.document import Page, write_page

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView

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
    parser.add_argument(
        "--held-out",
        action="store_true",
        help="show scores on held-out cases beside the tuned ones; the look at them is counted",
    )
    parser.add_argument(
        "--embed",
        action="store_true",
        help="put large pictures into the page, not links to their files",
    )
    parser.add_argument("--figures", type=Path, metavar="DIR", help="write each figure there too, as PNG and SVG")
    add_cluster_argument(parser)
    parser.add_argument("--json", action="store_true", help="print where it is as one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Write the page of what has been answered; nothing is sent."""

    project = open_project(arguments.project)
    with (
        workflow.judges_on(arguments.cluster, project) as judges,
        open_store(project.store_place, create=False) as store,
    ):
        views = workflow.gather(
            project, store, arguments.task, arguments.arm, arguments.split, arguments.trust, judges
        )
        held_out: list[TaskView] = []
        if arguments.held_out:
            held_out = workflow.gather(
                project, store, arguments.task, arguments.arm, "held_out", arguments.trust, judges
            )
        looks = Looks(store, held_out or views, "held_out" if held_out else arguments.split)
        path: Path = arguments.out or project.folder / "report.html"
        require_own(path, "--out", arguments.force)
        page = write_page(project, store, views, datetime.now(), path.parent, held_out, arguments.embed)
    size = write_report(page, path)
    drawn = write_figures(page.figures, arguments.figures) if arguments.figures else []
    if arguments.json:
        figures = {"figures": [str(one) for one in drawn]} if drawn else {}
        print_json({"report": str(path), "bytes": size, **figures, **looks.document()})
    else:
        say(f"The report is {path} ({size / 1e6:.1f} MB).")
        if drawn:
            say(f"{len(drawn)} files of figures are in {arguments.figures}.")
        looks.show()
    return DONE


def write_report(page: Page, path: Path) -> int:
    """Write the page to a file; its size in bytes."""

    data = page.text.encode("utf-8", "replace")
    write_whole(path, data, make_folder=False)
    return len(data)
