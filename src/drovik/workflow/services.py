"""Where endpoints and models come from: the project's drovik.toml, and the one in the user's own folder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.errors import DrovikError, Problem, UsageError, known_words

if TYPE_CHECKING:
    from drovik.project.dialects import Dialect
    from drovik.project.settings import Model, ProjectFile
from collections.abc import Callable

Agree = Callable[[str], bool]
"""Puts a question; True for yes."""

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


def all_services(folder: Path | None) -> Services:
    """A project's services and the user's own; where both have a name, the project's counts."""
    users = _users_services()
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


def require_sendable(services: Services, names: list[str], trusted: bool, agree: Agree | None) -> None:
    """Require keys that are set, hosts that they may go to, and commands that may be run.

    :param names: of the endpoints.
    :param trusted: whether it was agreed to beforehand.
    :param agree: puts the question to somebody; None where nobody is there.
    :raises DrovikError: with every endpoint that fails.
    """
    from drovik.project.keys import check_keys
    from drovik.transport.consent import check_commands, check_trust

    used = {name: services.settings.endpoints[name] for name in names}
    missing = [one for one in check_keys(services.folder, used, services.keys) if one.place.endswith("key_env")]
    if missing:
        raise UsageError(missing)
    for name, endpoint in used.items():
        check_trust(name, endpoint, trusted, agree)
        check_commands(name, endpoint, trusted, agree)


def require_agreed_folders(services: Services, trusted: bool, agree: Agree | None) -> None:
    """Require that the folders outside of the project that pictures are sent from were agreed to.

    :raises DrovikError: where one was not, and nobody agrees.
    """
    from drovik.transport.consent import check_folders

    outside = services.settings.pictures.folders(services.folder)
    check_folders(outside, services.folder, trusted, agree)
