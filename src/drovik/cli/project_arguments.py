"""Opening a project for a command: find it, read it, and refuse to go on with one that is wrong."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.cli.printing import aside
from drovik.cli.services import nearest_project

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
        choices=("tune", "held_out", "all"),
        default="tune",
        help="which cases count (default: all but those held out)",
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


def open_project(given: Path | None) -> Project:
    """The project that is meant, with nothing wrong in it.

    :raises DrovikError: with everything that is wrong.
    """
    from drovik.workflow.projects import load_project

    return load_project(project_folder(given))
