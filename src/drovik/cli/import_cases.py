"""`drovik import`: takes in the cases of another project, a bundle, or an exported table, with their pictures."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from pathlib import Path

from drovik import workflow
from drovik.cli.arguments import add_project_argument, open_project
from drovik.cli.printing import print_json, say
from drovik.errors import DONE
from drovik.text import counted

EXAMPLE = "drovik import skerry.zip"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument(
        "source", type=Path, metavar="SOURCE",
        help="a bundle (zip), another project's folder, or a table of cases: CSV, JSON Lines, SQLite, Parquet, Arrow",
    )  # fmt: skip
    add_project_argument(parser)
    parser.add_argument(
        "--task", action="append", default=[], metavar="NAME",
        help="take in the expected outputs of this task alone (may be repeated)",
    )  # fmt: skip
    either = parser.add_mutually_exclusive_group()
    either.add_argument(
        "--keep", dest="known", action="store_const", const="keep", default="refuse",
        help="leave a case as it is where theirs of the same id differs",
    )  # fmt: skip
    either.add_argument(
        "--replace", dest="known", action="store_const", const="replace", help="take theirs in its place"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Take in the cases; nothing is sent."""
    project = open_project(arguments.project)
    done = workflow.import_cases(project, arguments.source, arguments.known, arguments.task)
    if arguments.json:
        print_json(asdict(done))
        return DONE
    told = [
        f"{counted(len(ids), 'case')} {words}"
        for ids, words in (
            (done.added, "added"), (done.replaced, "replaced"), (done.same, "there already"),
            (done.kept, "left as yours are"),
        )
        if ids
    ]  # fmt: skip
    say(f"{project.settings.cases}: {', '.join(told)}.")
    if done.added or done.replaced:
        say("Next: drovik check, then drovik send")
    return DONE
