"""Opening a project for a command: find it, read it, and refuse to go on with one that is wrong.

What a command that sends, or quotes, plans: tasks and arms, all cases or a sample, what to send again.

Whose project it is, and questions put to whoever sits at the terminal.
"""

from __future__ import annotations

import argparse
import math
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.printing import say_aside
from drovik.errors import Problem, UsageError

if TYPE_CHECKING:
    from drovik.project.picture_files import KnownStates
    from drovik.project.reading import Project, StorePlace
    from drovik.workflow.sending_plan import Selection
    from drovik.workflow.services import Services


def nearest_project(given: Path | None, needed: bool = False) -> Path | None:
    """The project's folder given, or the nearest one from here upwards; None if there is none.

    A drovik.toml above this folder that belongs to somebody else (in /tmp, say, which all may write to) is not
    used unless it is named.

    :param needed: whether the command does nothing without a project.
    :raises DrovikError: where the nearest is somebody else's, and one is needed.
    """
    if given is not None:
        return given
    here = Path.cwd()
    found = next((folder for folder in (here, *here.parents) if (folder / "drovik.toml").is_file()), None)
    if found is None or found == here or (owner := _owner_elsewhere(found / "drovik.toml")) is None:
        return found
    what = f"belongs to {owner}, and is not used from a folder below it"
    problem = Problem(what, f"name it if you trust it: --project {found}", str(found / "drovik.toml"))
    if needed:
        raise UsageError(problem)
    say_aside(problem.line())
    return None


def _owner_elsewhere(path: Path) -> str | None:
    """Who owns a file that is not this user's; None where it is."""
    if not hasattr(os, "getuid") or path.stat().st_uid == os.getuid():
        return None
    import pwd

    number = path.stat().st_uid
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return f"the user {number}"


def on_terminal() -> bool:
    """Whether a person is there to be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def ask_yes(question: str) -> bool:
    """Put a question; True for yes."""
    return input(f"{question} [y/N] ").strip().lower() in ("y", "yes")


def agreement() -> Callable[[str], bool] | None:
    """What puts questions, where somebody is there to be asked."""
    return ask_yes if on_terminal() else None


def all_services(given: Path | None) -> Services:
    """The services of the project that is meant, and the user's own."""
    from drovik.workflow import services

    return services.all_services(nearest_project(given))


def require_sendable(services: Services, names: list[str], trusted: bool) -> None:
    """Require keys, hosts and commands that are agreed to; where somebody is there, they are asked.

    :raises DrovikError: with every endpoint that fails.
    """

    workflow.require_sendable(services, names, trusted, agreement())


def add_project_argument(parser: argparse.ArgumentParser) -> None:
    """`--project`, which every command on a project has."""
    parser.add_argument(
        "--project", metavar="DIR", type=Path, help="the project's folder (default: this one, or above)"
    )


def add_choice_arguments(parser: argparse.ArgumentParser) -> None:
    """What part of a project a command is about."""
    parser.add_argument("--task", action="append", metavar="NAME", help="only this task (may be repeated)")
    parser.add_argument(
        "--arm",
        action="append",
        metavar="ARM",
        help="only these arms (a model with a prompt version and a prep): MODEL, MODEL/PROMPT or */PROMPT",
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


def open_store(place: StorePlace, create: bool = True) -> workflow.Store:
    """A project's store; what is to be said of it is said on standard error.

    :raises DrovikError: where it cannot be used.
    """

    store = workflow.Store(place, create)
    for problem in store.notes:
        say_aside(problem.line())
    return store


def open_project(given: Path | None, states: KnownStates | None = None) -> Project:
    """The project that is meant, with nothing wrong in it.

    :param states: what its files looked like a moment ago, where somebody knows.

    :raises DrovikError: with everything that is wrong.
    """

    project = workflow.load_project(project_folder(given))
    project.pictures.take_states(states or {})
    return project


def add_plan_arguments(parser: argparse.ArgumentParser) -> None:
    """What to send."""
    add_choice_arguments(parser)
    parser.add_argument(
        "--split", choices=("tune", "held_out", "all"), default="all", help="of which cases (default: of all)"
    )
    parser.add_argument(
        "--resend",
        action="append",
        choices=[one.value for one in workflow.STATUSES],
        help="also send again what has such an answer",
    )
    parser.add_argument(
        "--control", action="append", choices=workflow.CONTROLS,
        help="in place of the arms send these controls of them: does the model look? (may be repeated)",
    )  # fmt: skip
    parser.add_argument("--sample", type=positive, metavar="N", help="only N cases, spread over the labels")
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="draws another sample (default: 1)")


def add_cluster_argument(parser: argparse.ArgumentParser) -> None:
    """Where else the work is done."""
    parser.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help="of a Dask scheduler, like tcp://HOST:8786; local:4 for four on this machine",
    )


def positive(text: str) -> int:
    """A whole number from 1, for argparse."""
    number = int(text)
    if number < 1:
        raise ValueError
    return number


def points(text: str) -> float:
    """A number of points, as a share: for options that say how far scores may lie apart."""
    try:
        found = float(text.removesuffix("%").replace(",", "."))
    except ValueError:
        found = math.nan
    if not 0 < found < 100:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of points above 0 and below 100, like 2")
    return found / 100


def selection_of(arguments: argparse.Namespace) -> Selection:
    """What the options say is to be sent."""
    recheck = getattr(arguments, "recheck", None)
    again = tuple(arguments.resend or ())
    return workflow.Selection(
        arguments.task,
        arguments.arm,
        again,
        arguments.sample,
        arguments.seed,
        recheck,
        arguments.split,
        tuple(arguments.control or ()),
    )
