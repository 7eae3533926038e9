"""Opening a project for a command: find it, read it, and refuse to go on with one that is wrong."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.cli.printing import aside
from drovik.cli.services import nearest_project
from drovik.errors import Problem, ProjectError

if TYPE_CHECKING:
    from drovik.project.reading import Project
    from drovik.store.store import Store


def add_project_argument(parser: argparse.ArgumentParser) -> None:
    """`--project`, which every command on a project has."""
    parser.add_argument(
        "--project", metavar="DIR", type=Path, help="the project's folder (default: this one, or above)"
    )


def add_choice_arguments(parser: argparse.ArgumentParser) -> None:
    """What part of a project a command is about."""
    parser.add_argument("--task", action="append", metavar="NAME", help="only this task (may be repeated)")
    parser.add_argument(
        "--arm", action="append", metavar="ARM", help="only these arms: MODEL, MODEL/PROMPT or */PROMPT"
    )


def add_own_argument(parser: argparse.ArgumentParser) -> None:
    """Whether the project's own functions may run."""
    parser.add_argument("--trust", action="store_true", help="run this project's own Python measures")


def add_split_argument(parser: argparse.ArgumentParser) -> None:
    """Which cases count."""
    parser.add_argument(
        "--split",
        choices=("tune", "held", "all"),
        default="tune",
        help="which cases count (default: all but the held)",
    )


def project_folder(given: Path | None) -> Path:
    """The folder given, or the nearest one from here upwards that has a drovik.toml."""
    return nearest_project(given, needed=True) or Path.cwd()


def open_store(path: Path, create: bool = True) -> Store:
    """A project's store; what is to be said of it is said on standard error.

    :raises DrovikError: where it cannot be used.
    """
    from drovik.store.store import Store

    store = Store(path, create)
    for problem in store.notes:
        aside(problem.line())
    return store


def read_all(folder: Path) -> tuple[Project | None, list[Problem]]:
    """A project with every problem that can be found without opening pictures or looking for keys."""
    from drovik.dialects.checking import check_places, check_reply_form, check_request_form, unsent_settings
    from drovik.project.reading import read_project
    from drovik.scoring.catalogue import check_cases, measures_of

    project, problems = read_project(folder)
    if project is None:
        return None, problems
    for name, dialect in project.dialects.items():
        file = f"dialects/{name}.toml"
        found = check_request_form(dialect, file) + check_reply_form(dialect, file)
        problems += found
        for model_name, model in project.settings.models.items():
            endpoint = project.settings.endpoints.get(model.endpoint)
            if not found and endpoint and endpoint.dialect == name:
                for setting in unsent_settings(model.settings, dialect):
                    what = f"'{setting}' would not be sent: {file} has no slot for it"
                    remedy = f"put {{{setting}?}} into its body, or take the setting out"
                    problems.append(Problem(what, remedy, "drovik.toml", f"models.{model_name}.settings"))
    if not problems:
        problems += check_places(project)
    for task in project.tasks:
        before = len(problems)
        measures = measures_of(task, problems)
        if len(problems) == before:  # what is expected cannot be held against half a table
            problems += check_cases(task, measures, project.cases, project.settings.cases)
    return project, problems


def open_project(given: Path | None) -> Project:
    """A project with nothing wrong in it.

    :raises DrovikError: with everything that is wrong.
    """

    project, problems = read_all(project_folder(given))
    if project is None or problems:
        raise ProjectError(problems)
    return project
