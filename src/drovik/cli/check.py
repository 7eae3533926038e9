"""`drovik check`: reads everything a person wrote, opens every picture, and says what is wrong."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from drovik.cli.opening import add_project_argument, project_folder, read_all
from drovik.cli.printing import print_json, say
from drovik.problems import DOES_NOT_HOLD, DONE, WRONG_INPUT, DrovikError, Problem

if TYPE_CHECKING:
    from drovik.project.opening import Project

EXAMPLE = "drovik check --project lost-property"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Check a project; 1 where something is wrong with it, 2 where there is none."""
    from drovik.project.opening import check_secrets

    folder = project_folder(arguments.project)
    project, problems = read_all(folder)
    if project is not None:
        problems = problems + check_secrets(project) + _check_pictures(project)
        if not any("/prompts/" in one.file for one in problems):
            problems += _check_prompts(project)
    problems = list(dict.fromkeys(problems))
    if arguments.json:
        rows = [{"file": one.file, "place": one.place, "what": one.what, "remedy": one.remedy} for one in problems]
        print_json({"problems": rows, "project": str(folder)})
    elif problems:
        for problem in problems:
            say(problem.line())
        say(f"{len(problems)} {'thing is' if len(problems) == 1 else 'things are'} wrong.")
    elif project is not None:
        pictures = sum(len(case.pictures) for case in project.cases)
        tasks = ", ".join(task.name for task in project.tasks)
        say(f"Nothing is wrong: {len(project.cases)} cases with {pictures} pictures; tasks {tasks}.")
    if project is None:
        return WRONG_INPUT
    return DOES_NOT_HOLD if problems else DONE


def _check_prompts(project: Project) -> list[Problem]:
    """Each prompt version rendered on every case; the first failure of each is told."""
    from drovik.project.arms import arms_of
    from drovik.sending.turns import asking_of

    class Anything(dict[str, object]):
        """Stands for answers that are not there yet: whatever a template takes of them is there."""

        def __missing__(self, name: str) -> object:
            return Anything()

    problems: list[Problem] = []
    for task in project.tasks:
        for arm in {arm.prompt_name: arm for arm in arms_of(task, project.settings)}.values():
            for case in project.cases:
                try:
                    earlier = {task.after.task: Anything()} if task.after else {}
                    asking_of(task, arm, case, ["…"] * len(arm.prompt.turns), earlier)
                except DrovikError as error:
                    problems += error.problems
                    break
    return problems


def _check_pictures(project: Project) -> list[Problem]:
    """Pictures that are missing, are no pictures, or are too large; each file is looked at once."""
    from drovik.images.prepare import look_at
    from drovik.images.source import read_source

    problems: list[Problem] = []
    first: dict[str, str] = {}
    for case in project.cases:
        for picture in case.pictures:
            first.setdefault(picture.path, case.place)
    for path, place in first.items():
        try:
            look_at(read_source(project.folder, path), path, project.settings.max_pixels)
        except DrovikError as error:
            found = error.problems[0]
            problems.append(
                Problem(f"{path}: {found.what}", found.remedy, project.settings.cases, f"{place}: images")
            )
    return problems
