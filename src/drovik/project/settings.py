"""`drovik.toml`: endpoints, models, preps, variants, and where the cases are."""

from __future__ import annotations

import ipaddress
import os
from pathlib import Path
from typing import Annotated, Literal, NamedTuple
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from drovik.errors import Problem, known_words
from drovik.project.models import Model, Name
from drovik.project.object_pictures import is_object
from drovik.project.preps import Prep
from drovik.project.toml_files import Frozen, read_toml, validated
from drovik.project.variants import Variant, with_variants

FILE_NAME = "drovik.toml"
DEFAULT_MAX_PIXELS = 100_000_000
"""What the largest cameras make; it takes some 400 MB once decoded."""


def is_loopback(host: str | None) -> bool:
    """Whether a host's name means this machine."""
    if not host:
        return False
    if host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _proper_url(url: str) -> str:
    try:
        parts = urlsplit(url)
        port_fits = parts.port is None or parts.port > 0
    except ValueError as error:
        raise ValueError(f"'{url}' is not a URL: {error}") from None
    if parts.scheme not in ("http", "https") or not parts.hostname or not port_fits:
        raise ValueError(f"'{url}' is not the URL of a service; write it like https://host or http://127.0.0.1:8765")
    if parts.username or parts.password:
        raise ValueError("a name or password is in the URL; give keys by key_env")
    if parts.scheme == "http" and not is_loopback(parts.hostname):
        raise ValueError(f"plain http to '{parts.hostname}' would show the key and the pictures; use https")
    return url.rstrip("/")


class Limit(NamedTuple):
    """A limit of a service: at most `most` of what it counts, requests or tokens, within `seconds`."""

    counts: Literal["requests", "tokens"]
    most: int
    seconds: int

    @property
    def is_paced(self) -> bool:
        """Whether requests are spread over the time; a longer time's limit is used up as it comes."""
        return self.seconds <= LONGEST_PACED


LONGEST_PACED = 60
"""Seconds. To wait for a place in a minute's limit is a pause, in a day's it would be a standstill: that is said."""


class Limits(Frozen):
    """What a service bears: `concurrency` under way together, this many requests and tokens in a minute and in a day.

    `timeout` is in seconds, for one request from first byte to last. A day is any 24 hours.
    `give_up_after` is for how many seconds a service that worked may keep failing before it is left.
    """

    concurrency: int = Field(default=4, ge=1, le=1000)
    per_minute: int | None = Field(default=None, ge=1)
    per_day: int | None = Field(default=None, ge=1)
    tokens_per_minute: int | None = Field(default=None, ge=1)
    tokens_per_day: int | None = Field(default=None, ge=1)
    timeout: float = Field(default=60.0, gt=0, le=86400)
    max_tries: int = Field(default=5, ge=1, le=50)
    give_up_after: float = Field(default=600.0, gt=0, le=86400)

    def known(self) -> list[Limit]:
        """The limits that are set."""
        found = ((counts, getattr(self, name), seconds) for name, (counts, seconds) in _LIMITS.items())
        return [Limit(counts, most, seconds) for counts, most, seconds in found if most is not None]


_LIMITS: dict[str, tuple[Literal["requests", "tokens"], int]] = {
    "per_minute": ("requests", 60), "tokens_per_minute": ("tokens", 60),
    "per_day": ("requests", 86_400), "tokens_per_day": ("tokens", 86_400),
}  # fmt: skip
"""What each setting limits, and within how many seconds: a new one is a setting above and a row here."""


class Endpoint(Frozen):
    """A service on HTTP, and where it is one of this machine, how to start it.

    `key_command` prints the key, for keys that expire; where it is not given, the key is in the
    variable `key_env`. `start` is a command that serves at the URL; it is up once a GET of the path
    `ready` succeeds, for which it has `start_within` seconds; the last command that uses it stops it, unless
    it is to be left (`leave_running`). Both commands are run in `home`, the folder
    of the file that names them, and see few variables: `pass_env` names further ones.
    """

    url: Annotated[str, AfterValidator(_proper_url)]
    dialect: Name
    key_env: Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")] | None = None
    key_command: str | None = Field(default=None, min_length=1)
    pass_env: tuple[Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")], ...] = ()
    limits: Limits = Limits()
    start: str | None = Field(default=None, min_length=1)
    ready: Annotated[str, StringConstraints(pattern=r"^/")] = "/"
    start_within: float = Field(default=60.0, gt=0, le=3600)
    leave_running: bool = False
    home: Path = Field(default=Path(), exclude=True, repr=False)

    formerly: tuple[str, ...] = ()
    """Names that it had before, the first first: what was answered under them stays."""

    @model_validator(mode="before")
    @classmethod
    def _home_is_not_written(cls, table: object) -> object:
        if isinstance(table, dict) and "home" in table:
            raise ValueError("unknown key 'home'")
        return table

    @model_validator(mode="after")
    def _starts_here(self) -> Endpoint:
        if self.start and not is_loopback(urlsplit(self.url).hostname):
            raise ValueError("'start' is for a service on this machine, at 127.0.0.1 or localhost")
        return self


class PicturesFrom(Frozen):
    """Folders outside of the project, and addresses, that pictures may be sent from, once you agreed to each."""

    from_: tuple[Annotated[str, StringConstraints(min_length=1)], ...] = Field(default=(), alias="from")
    kept_bytes: int = Field(default=2_000_000_000, ge=0)
    """Of prepared pictures that are kept for the next run, beside the store, and as much of objects; 0: none."""

    def folders(self, project: Path) -> list[Path]:
        """The folders, absolute and with no link in them; a relative one counts from the project's."""
        paths = [one.replace("\0", "") for one in self.from_ if not is_object(one)]
        return [Path(os.path.realpath(project / os.path.expanduser(one))) for one in paths]

    def addresses(self) -> list[str]:
        """The addresses beneath which objects may be read."""
        return [one for one in self.from_ if is_object(one)]


class ClusterTable(Frozen):
    """Where the workers of a cluster see the project's pictures: a folder, or an address; left out: nowhere."""

    images: str | None = Field(default=None, min_length=1)


class ProjectFile(Frozen):
    """All of `drovik.toml`. `store` is a PostgreSQL database; left out, it is a file of the project. `ask` is the
    model that `drovik ask` takes where none is named.

    `null_word` is what a cell of the cases' CSV file says where null is the expected value.
    """

    title: str = ""
    ask: str | None = None
    cases: str = "cases.jsonl"
    store: Annotated[str, StringConstraints(pattern=r"^postgres(ql)?://.")] | None = None
    null_word: str | None = Field(default=None, min_length=1)
    max_pixels: int = Field(default=DEFAULT_MAX_PIXELS, ge=1)
    pictures: PicturesFrom = PicturesFrom()
    cluster: ClusterTable = ClusterTable()
    endpoints: dict[Name, Endpoint] = {}
    models: dict[Name, Model] = {}
    preps: dict[Name, Prep] = {}
    variants: dict[Name, Variant] = {}

    @model_validator(mode="before")
    @classmethod
    def _at_least_one_prep(cls, table: object) -> object:
        if isinstance(table, dict) and not table.get("preps"):
            return {**table, "preps": {"full": {}}}
        return table


def _at_home(settings: ProjectFile, folder: Path) -> ProjectFile:
    """The settings, whose endpoints know the folder that their commands are run in."""
    endpoints = {name: one.model_copy(update={"home": folder}) for name, one in settings.endpoints.items()}
    return settings.model_copy(update={"endpoints": endpoints})


def read_settings(folder: Path, problems: list[Problem]) -> ProjectFile | None:
    """`drovik.toml` of a project folder, after adding to `problems` all that is wrong with it.

    :return: as much of it as can be read; None only if the file does not exist.
    """
    path = folder / FILE_NAME
    if not path.exists():
        remedy = "go to a project folder, give one by --project, or run 'drovik demo' for one to look at"
        problems.append(Problem("there is no project here", remedy, str(path)))
        return None
    table = read_toml(path, FILE_NAME, problems)
    if table is None:
        return ProjectFile()
    settings = _at_home(validated(ProjectFile, table, FILE_NAME, problems) or ProjectFile(), folder)
    for name, endpoint in settings.endpoints.items():
        for old in set(endpoint.formerly) & set(settings.endpoints):
            what = f"'{old}' is an endpoint of today, so it cannot be the former name of '{name}'"
            problems.append(Problem(what, "take it out", FILE_NAME, f"endpoints.{name}.formerly"))
    for kind, needs in (("endpoints", "with url and dialect"), ("models", "with endpoint and id")):
        if not table.get(kind):
            what, remedy = f"there are no {kind}", f"add [{kind}.NAME] {needs}"
            problems.append(Problem(what, remedy, FILE_NAME, code="table_missing"))
    if settings.ask is not None and settings.ask not in settings.models:
        what = f"there is no model '{settings.ask}'"
        problems.append(Problem(what, known_words(settings.ask, settings.models), FILE_NAME, "ask"))
    written = table.get("endpoints")
    known = list(written) if isinstance(written, dict) else []
    for name, model in settings.models.items():
        if model.endpoint not in known:
            what = f"there is no endpoint '{model.endpoint}'"
            problems.append(Problem(what, known_words(model.endpoint, known), FILE_NAME, f"models.{name}.endpoint"))
    models = with_variants(settings.models, settings.preps, settings.variants, problems)
    return settings.model_copy(update={"models": models})
