"""Where endpoints and models come from: the project's drovik.toml, and the one in the user's own folder."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.cli.printing import aside
from drovik.errors import DrovikError, Problem, UsageError, known_words

if TYPE_CHECKING:
    from drovik.project.dialects import Dialect
    from drovik.project.settings import Model, ProjectFile

USERS = " (yours)"
"""What is put behind the name of a dialect of the user's own folder, so that a project's may be called the same."""


@dataclass(frozen=True)
class Services:
    """Endpoints, models and preps, with the dialects and keys that they need. Its `repr` shows no key."""

    folder: Path
    settings: ProjectFile
    dialects: dict[str, Dialect]
    keys: dict[str, str]

    def __repr__(self) -> str:
        return f"Services({str(self.folder)!r})"

    def model(self, name: str) -> Model:
        """The model of that name.

        :raises DrovikError: where there is none.
        """
        if name not in self.settings.models:
            known = known_words(name, self.settings.models)
            raise UsageError(Problem(f"there is no model '{name}'", known))
        return self.settings.models[name]


def users_folder() -> Path:
    """Where a user's own endpoints are."""
    from platformdirs import user_config_path

    return user_config_path("drovik")


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
    aside(problem.line())
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


def services_at(folder: Path) -> Services:
    """What a folder's drovik.toml names; nothing, where there is no such file.

    :raises DrovikError: with everything that is wrong there.
    """
    from drovik.dialects.checking import check_reply_form, check_request_form
    from drovik.project.dialects import read_dialects
    from drovik.project.keys import read_keys
    from drovik.project.settings import FILE_NAME, ProjectFile, read_settings
    from drovik.project.toml_files import collected

    if not (folder / FILE_NAME).exists():
        return Services(folder, ProjectFile(), {}, {})
    problems: list[Problem] = []
    settings = read_settings(folder, problems) or ProjectFile()
    problems = [one for one in problems if one.code != "table_missing"]
    dialects = read_dialects(folder, {one.dialect for one in settings.endpoints.values()}, problems)
    for name, dialect in dialects.items():
        file = f"dialects/{name}.toml"
        problems += check_request_form(dialect, file) + check_reply_form(dialect, file)
    keys = collected(problems, read_keys, folder, settings.endpoints)
    if problems:
        raise UsageError(problems)
    return Services(folder, settings, dialects, keys or {})


def all_services(project: Path | None) -> Services:
    """A project's services and the user's own; where both have a name, the project's counts."""
    users = _users_services()
    folder = nearest_project(project)
    if folder is None:
        return users
    own = services_at(folder)
    theirs = {
        name: one.model_copy(update={"dialect": one.dialect + USERS})
        for name, one in users.settings.endpoints.items()
    }
    settings = own.settings.model_copy(
        update={
            "ask": own.settings.ask or (None if own.settings.models else users.settings.ask),
            "endpoints": {**theirs, **own.settings.endpoints},
            "models": {**own.settings.models, **_not_in(users.settings.models, own.settings.models)},
            "preps": {**users.settings.preps, **own.settings.preps},
        }
    )
    dialects = {**{name + USERS: one for name, one in users.dialects.items()}, **own.dialects}
    return Services(own.folder, settings, dialects, {**users.keys, **own.keys})


def _users_services() -> Services:
    """The user's own services; what is wrong with them is told with the file's whole path."""
    try:
        return services_at(users_folder())
    except DrovikError as error:
        raise UsageError(one._replace(file=str(users_folder() / one.file)) for one in error.problems) from None


def _not_in(models: dict[str, Model], others: dict[str, Model]) -> dict[str, Model]:
    return {name: one for name, one in models.items() if name not in others}


def see_that_it_may_be_sent(services: Services, names: list[str], trusted: bool) -> None:
    """Keys that are set, hosts that they may go to, and commands that may be run.

    :param names: of the endpoints.
    :raises DrovikError: with every endpoint that fails.
    """
    from drovik.project.keys import check_keys
    from drovik.transport.consent import check_commands, check_trust

    used = {name: services.settings.endpoints[name] for name in names}
    missing = [one for one in check_keys(services.folder, used, services.keys) if one.place.endswith("key_env")]
    if missing:
        raise UsageError(missing)
    for name, endpoint in used.items():
        asks = ask_yes if on_terminal() else None
        check_trust(name, endpoint, trusted, asks)
        check_commands(name, endpoint, trusted, asks)


def require_agreed_folders(services: Services, trusted: bool) -> None:
    """See that the folders outside of the project that pictures are sent from were agreed to.

    :raises DrovikError: where one was not, and nobody agrees.
    """
    from drovik.transport.consent import check_folders

    outside = services.settings.pictures.folders(services.folder)
    check_folders(outside, services.folder, trusted, ask_yes if on_terminal() else None)


def on_terminal() -> bool:
    """Whether a person is there to be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def ask_yes(question: str) -> bool:
    """Put a question; True for yes."""
    return input(f"{question} [y/N] ").strip().lower() in ("y", "yes")
