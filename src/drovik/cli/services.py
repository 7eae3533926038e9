"""Whose project it is, and questions put to whoever sits at the terminal."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.cli.printing import say_aside
from drovik.errors import Problem, UsageError
from drovik.workflow import services
from drovik.workflow.services import require_sendable as require

if TYPE_CHECKING:
    from drovik.workflow.services import Services

    pass


def nearest_project(given: Path | None, needed: bool = False) -> Path | None:
    """The project's folder given, or the nearest one from here upwards; None where there is none.

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

    return services.all_services(nearest_project(given))


def require_sendable(services: Services, names: list[str], trusted: bool) -> None:
    """Require keys, hosts and commands that are agreed to; where somebody is there, they are asked.

    :raises DrovikError: with every endpoint that fails.
    """

    require(services, names, trusted, agreement())
