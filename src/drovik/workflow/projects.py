"""Reading a project: all that can be found wrong with it without opening pictures or looking for keys."""

from __future__ import annotations

from pathlib import Path

from drovik.dialects.checking import check_places, check_reply_form, check_request_form, unsent_settings
from drovik.errors import Problem, ProjectError
from drovik.project.reading import Project, read_project
from drovik.scoring.catalogue import check_cases, measures_of


def check_project(folder: Path) -> tuple[Project | None, list[Problem]]:
    """A project with every problem that can be found without opening pictures or looking for keys."""

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


def load_project(folder: Path) -> Project:
    """A project with nothing wrong in it.

    :raises ProjectError: with everything that is wrong.
    """
    project, problems = check_project(folder)
    if project is None or problems:
        raise ProjectError(problems)
    return project
