"""Where endpoints and models come from: the project's drovik.toml, and the one in the user's own folder.

Limits of a run: of money, and of files that this machine lets a program open.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

from platformdirs import user_config_path

from drovik.cost.token_rates import unbounded_reasons
from drovik.dialects.dialect_checks import check_reply_form, check_request_form
from drovik.errors import DrovikError, Problem, UsageError, known_words
from drovik.project.dialects import read_dialects
from drovik.project.keys import check_keys, read_keys
from drovik.project.settings import FILE_NAME, ProjectFile, read_settings
from drovik.project.toml_files import collected
from drovik.store.claims import Budget
from drovik.transport.consent import check_commands, check_folders, check_trust

if TYPE_CHECKING:
    from drovik.project.dialects import Dialect
    from drovik.project.models import Model
    from drovik.project.reading import Project
    from drovik.store.answer_store import Store
    from drovik.workflow.sending_plan import Planned


FILES_BESIDE = 36
"""This many files a program has open beside its connections, at the most."""


def amounts(words: Sequence[str], currencies: Sequence[str], option: str) -> dict[str, Decimal]:
    """Sums of money by currency; a bare number is in the one currency that there is.

    :raises DrovikError: where it is none, or which currency is meant cannot be told.
    """
    found: dict[str, Decimal] = {}
    for word in words:
        match = re.fullmatch(r"\s*([A-Z]{3})?\s*(\d+(?:[.,]\d+)?)\s*([A-Z]{3})?\s*", word)
        if match is None or (match[1] and match[3]):
            raise UsageError(
                Problem(f"{option} '{word}' is not an amount of money", "write it like 5.00 or '5.00 EUR'")
            )
        currency = match[1] or match[3]
        if currency is None and len(currencies) != 1:
            known = ", ".join(currencies) or "no model has a price"
            raise UsageError(Problem(f"{option} {word}: in which currency", f"write it behind ({known})"))
        currency = currency or currencies[0]
        if currency not in currencies:
            what = f"{option} {word}: nothing that is sent costs {currency}"
            raise UsageError(Problem(what, f"there is: {', '.join(currencies) or 'no price at all'}"))
        found[currency] = Decimal(match[2].replace(",", "."))
    return found


def paid_in(store: Store) -> dict[str, Decimal]:
    """What a store's replies have cost so far, by currency, as budgets count it."""
    return Budget(store.connection, {}).paid()


def budget_for(
    project: Project, store: Store, planned: Planned, words: Sequence[str], name: str = "--budget"
) -> Budget | None:
    """The budget for all that this store's replies have cost; None without a limit.

    :param words: the limits, like "5.00" or "5.00 EUR".
    :param name: what the limit is called where it was given.

    :raises DrovikError: with every model that cannot be sent to under a limit, and where it is used up.
    """

    if not words:
        return None
    models = list(dict.fromkeys(arm.model_name for arms in planned.arms.values() for arm in arms))
    problems = unbounded_reasons(project.settings, models)
    if problems:
        raise UsageError(problems)
    prices = [one.price for name, one in project.settings.models.items() if name in models and one.price]
    currencies = sorted({one.currency for one in prices})
    most = amounts(words, currencies, name)
    without = [one for one in currencies if one not in most]
    if without:
        what = f"{name} says nothing of {', '.join(without)}, in which some of it is paid"
        raise UsageError(Problem(what, f"add {name} '5.00 {without[0]}', or leave those arms out by --arm"))
    budget = Budget(store.connection, most)
    paid = budget.paid()
    for currency, limit in most.items():
        spent = paid.get(currency, Decimal(0))
        if spent >= limit:
            what = f"{name} {limit} {currency}: this store's replies have cost {spent:.4f} {currency} already"
            raise UsageError(Problem(what, f"{name} counts all that was ever sent from this project: raise it"))
    return budget


def concurrency_bound(project: Project, endpoints: Sequence[str]) -> tuple[int | None, Problem | None]:
    """How many requests to an endpoint may be under way by the files that this machine lets a program open.

    The program's own limit is raised as far as it may be; where that is not enough, there is a Problem to be said.
    None if the limit does not exist.
    """
    try:
        import resource
    except ImportError:  # a system that has no such limit
        return None, None
    slots = [project.settings.endpoints[name].limits.concurrency for name in endpoints]
    wanted = sum(slots) + FILES_BESIDE
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft == resource.RLIM_INFINITY or soft >= wanted:
        return None, None
    top = max(soft, wanted if hard == resource.RLIM_INFINITY else min(hard, wanted))
    resource.setrlimit(resource.RLIMIT_NOFILE, (top, hard))
    if top >= wanted:
        return None, None
    room = max(1, (top - FILES_BESIDE) // len(slots))
    what = f"this machine lets a program open {top} files, so no more than {room} requests go at once"
    return room, Problem(what, "raise that limit (ulimit -n 4096), or lower concurrency")


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

        :raises DrovikError: if there is none.
        """
        return self.settings.models[self.model_name(name)]

    def model_name(self, word: str) -> str:
        """The name of the model that a word names: by its name, or by its id at the service where only one has it.

        :raises DrovikError: if there is none, or several.
        """
        if word in self.settings.models:
            return word
        having = [name for name, one in self.settings.models.items() if one.id == word]
        if len(having) > 1:
            raise UsageError(Problem(f"several models have the id '{word}'", f"say which: {', '.join(having)}"))
        if not having:
            raise UsageError(Problem(f"there is no model '{word}'", known_words(word, self.settings.models)))
        return having[0]


def users_folder() -> Path:
    """Where a user's own endpoints are."""

    return user_config_path("drovik")


def services_at(folder: Path) -> Services:
    """What a folder's drovik.toml names; nothing, if the file does not exist.

    :raises DrovikError: with everything that is wrong there.
    """

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
    """The user's own services; what is wrong with them is reported with the file's whole path."""
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

    used = {name: services.settings.endpoints[name] for name in names}
    missing = [one for one in check_keys(services.folder, used, services.keys) if one.place.endswith("key_env")]
    if missing:
        raise UsageError(missing)
    for name, endpoint in used.items():
        check_trust(name, endpoint, trusted, agree)
        if endpoint.home.resolve() != users_folder().resolve():  # one's own configuration names one's own commands
            check_commands(name, endpoint, trusted, agree)


def require_agreed_folders(services: Services, trusted: bool, agree: Agree | None) -> None:
    """Require that the folders outside of the project, and the addresses, that pictures are sent from were agreed to.

    :raises DrovikError: where one was not, and nobody agrees.
    """

    named = services.settings.pictures
    check_folders([*named.folders(services.folder), *named.addresses()], services.folder, trusted, agree)


def require_agreed_addresses(project: Project, trusted: bool, agree: Agree | None) -> None:
    """Require that the addresses that pictures are read from were agreed to, before any of them is.

    :raises DrovikError: where one was not, and nobody agrees.
    """
    check_folders(project.settings.pictures.addresses(), project.folder, trusted, agree)
