"""`drovik check`: reads everything a person wrote, opens every picture, and says what is wrong."""

from __future__ import annotations

import argparse
from functools import partial

from drovik import workflow
from drovik.cli.arguments import add_project_argument, agreement, project_folder
from drovik.cli.printing import print_json, say
from drovik.errors import DOES_NOT_HOLD, DONE, WRONG_INPUT
from drovik.text import counted

EXAMPLE = "drovik check --project lost-property"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument("--trust", action="store_true", help="read this project's addresses, now and later")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Check a project; 1 where something is wrong with it, 2 if there is none."""

    folder = project_folder(arguments.project)
    agree = partial(workflow.require_agreed_addresses, trusted=arguments.trust, agree=agreement())
    project, problems = workflow.everything_wrong(folder, agree)
    if arguments.json:
        rows = [{"file": one.file, "place": one.place, "what": one.what, "remedy": one.remedy} for one in problems]
        unmeasured = workflow.unmeasured_tasks(project) if project else []
        drafts = {one.name: workflow.draft_for(one, project.cases) for one in unmeasured} if project else {}
        missing = workflow.missing_expected(project) if project else []
        print_json({"problems": rows, "project": str(folder), "without_measure": drafts, "without_expected": missing})
    elif problems:
        for problem in problems:
            say(problem.line())
        say(f"{len(problems)} {'thing is' if len(problems) == 1 else 'things are'} wrong.")
    elif project is not None:
        pictures = sum(len(case.pictures) for case in project.cases)
        tasks = ", ".join(task.name for task in project.tasks)
        what = f"{counted(len(project.cases), 'case')} with {counted(pictures, 'picture')}"
        say(f"Nothing is wrong: {what}; tasks {tasks}.")
        for task in workflow.unmeasured_tasks(project):
            say(workflow.unmeasured_text(task, project.cases), style="yellow")
        for line in workflow.missing_expected(project):
            say(f"{line}.", style="yellow")
    if project is None:
        return WRONG_INPUT
    return DOES_NOT_HOLD if problems else DONE
