"""`drovik split`: marks cases that are held out, by group and label."""

from __future__ import annotations

import argparse

from drovik import workflow
from drovik.cli.arguments import add_project_argument, open_project, open_store
from drovik.cli.printing import print_json, say
from drovik.errors import DONE
from drovik.text import counted

EXAMPLE = "drovik split --held-out 0.3 --seed 7"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument(
        "--held-out", type=_share, required=True, metavar="SHARE", help="of the cases of each label, such as 0.3"
    )
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="draws others (default: 1)")
    parser.add_argument("--redraw", action="store_true", help="draw also what is held out already")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def _share(text: str) -> float:
    try:
        found = float(text.removesuffix("%").replace(",", ".")) / (100 if text.endswith("%") else 1)
    except ValueError:
        found = -1.0
    if not 0 <= found < 1:
        raise argparse.ArgumentTypeError(f"'{text}' is no share: give one from 0 to below 1, like 0.3")
    return found


def run(arguments: argparse.Namespace) -> int:
    """Mark the cases, and say how many there are of each."""
    project = open_project(arguments.project)
    with open_store(project.store_place, create=False) as store:
        looks = {task.name: store.looks.count(task.name) for task in project.tasks}
    chosen = workflow.held_out_cases(
        project.cases, project.tasks, arguments.held_out, arguments.seed, arguments.redraw
    )
    before = {case.id for case in project.cases if case.split == "held_out"}
    changed = workflow.write_split(project.folder, project.settings.cases, chosen)
    if arguments.json:
        print_json({"cases": len(project.cases), "held_out": sorted(chosen), "changed": changed, "looks": looks})
        return DONE
    told = f"{len(chosen)} of {counted(len(project.cases), 'case')} are held out"
    groups = {case.group for case in project.cases if case.id in chosen and case.group is not None}
    told += f", in {counted(len(groups), 'group')}" if groups else ""
    say(f"{told}; {counted(changed, 'line')} of {project.settings.cases} changed.")
    if chosen - before and before - chosen:
        say("Cases that were tuned on are held out now: what was tuned on them flatters their score.", style="yellow")
    say("Tune on the others; send these once you chose: drovik send --split held_out, drovik compare --held-out.")
    return DONE
