"""Opening a project for a command: find it, read it, and refuse to go on with one that is wrong.

What a command that sends, or quotes, plans: tasks and arms, all cases or a sample, what to send again.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.printing import say_aside
from drovik.cli.services import nearest_project
from drovik.parsing.status import STATUSES
from drovik.store.store import Store
from drovik.workflow.projects import load_project

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

    store = Store(path, create)
    for problem in store.notes:
        say_aside(problem.line())
    return store


def open_project(given: Path | None) -> Project:
    """The project that is meant, with nothing wrong in it.

    :raises DrovikError: with everything that is wrong.
    """

    return load_project(project_folder(given))


if TYPE_CHECKING:
    from drovik.workflow.plan import Selection

    pass


def add_plan_arguments(parser: argparse.ArgumentParser) -> None:
    """What to send."""
    add_choice_arguments(parser)
    parser.add_argument(
        "--resend",
        action="append",
        choices=[one.value for one in STATUSES],
        help="also send again what has such an answer",
    )
    parser.add_argument("--sample", type=positive, metavar="N", help="only so many cases, spread over the labels")
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="draws another sample (default: 1)")


def positive(text: str) -> int:
    """A whole number from 1, for argparse."""
    number = int(text)
    if number < 1:
        raise ValueError
    return number


def selection_of(arguments: argparse.Namespace) -> Selection:
    """What the options say is to be sent."""
    recheck = getattr(arguments, "recheck", None)
    again = tuple(arguments.resend or ())
    return workflow.Selection(arguments.task, arguments.arm, again, arguments.sample, arguments.seed, recheck)
