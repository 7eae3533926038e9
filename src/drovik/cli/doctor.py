"""`drovik doctor`: what is installed, where things are, what is missing, in ten lines."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from pathlib import Path

from drovik import workflow
from drovik.cli.arguments import add_project_argument, nearest_project, open_project
from drovik.cli.printing import print_json, say
from drovik.errors import DOES_NOT_HOLD, DONE, DrovikError

EXAMPLE = "drovik doctor"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Look, and say; nothing is changed."""
    project = None
    if nearest_project(arguments.project) is not None:
        try:
            project = open_project(arguments.project)
        except DrovikError:  # what is wrong with it is for `check` to say
            project = None
    found = workflow.fitness_of(arguments.project or Path.cwd(), project)
    if arguments.json:
        print_json({"fit": all(one.fit for one in found), "found": [asdict(one) for one in found]})
    else:
        for one in found:
            told = f"; {one.remedy}" if one.remedy and not one.fit else ""
            say(
                f"{'fit  ' if one.fit else 'UNFIT'}  {one.name:<9}{one.what}{told}",
                style=None if one.fit else "yellow",
            )
    return DONE if all(one.fit for one in found) else DOES_NOT_HOLD
