"""`drovik bring`: takes in the answers of a person, another reader, last year's system, as an arm like any other."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import add_project_argument, open_project
from drovik.cli.printing import print_json, say
from drovik.errors import DONE, Problem, UsageError
from drovik.money import add_money, money_text
from drovik.text import counted

if TYPE_CHECKING:
    from decimal import Decimal

    from drovik.project.reading import Project

EXAMPLE = "drovik bring answers.csv --as clerk --task sort"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument(
        "file", type=Path, metavar="FILE", help="CSV or JSON Lines: case, answer (or answer.NAME), money, seconds"
    )
    parser.add_argument("--as", dest="name", required=True, metavar="NAME", help="what the arm is called")
    add_project_argument(parser)
    parser.add_argument("--task", metavar="NAME", help="which task it answers (where there are several)")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Read the answers, and keep them in the project."""
    project = open_project(arguments.project)
    name = arguments.name
    if not re.fullmatch(r"[^\s/@:,*+]{1,80}", name):
        raise UsageError(Problem(f"'{name}' is no name of an arm", "take letters and digits, like clerk"))
    if name in project.settings.models:
        raise UsageError(Problem(f"'{name}' is a model of this project", "take another name: --as NAME"))
    task = project.task(_task_name(project, arguments.task))
    answers = workflow.outside_answers(arguments.file, task)
    if wrong := workflow.unknown_cases(answers, [case.id for case in project.cases]):
        raise UsageError(Problem(f"has {wrong}", "take them out, or add the cases", str(arguments.file)))
    replaced = any(one.name == name for one in project.outside.get(task.name, ()))
    path = workflow.write_outside(project.folder, task, name, answers)
    money: dict[str, Decimal] = {}
    for one in answers.values():
        if one.spent:
            add_money(money, one.spent.currency, one.spent.amount)
    if arguments.json:
        print_json({"arm": name, "task": task.name, "answers": len(answers), "money": money, "replaced": replaced})
        return DONE
    told = f"{name} has {counted(len(answers), 'answer')} to {counted(len(project.cases), 'case')} of {task.name}"
    say(f"{told}{f', which cost {money_text(money)}' if money else ''}.{' It replaces what was there.' * replaced}")
    say(f"It is in {path.relative_to(project.folder)}; compare it: drovik compare --task {task.name}")
    return DONE


def _task_name(project: Project, given: str | None) -> str:
    """The task that is meant.

    :raises UsageError: where none was named and there are several.
    """
    if given is not None:
        return given
    names = [task.name for task in project.tasks]
    if len(names) != 1:
        raise UsageError(Problem("which task do they answer", f"name it: --task {'|'.join(names)}"))
    return names[0]
