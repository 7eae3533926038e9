"""`drovik.toml`: endpoints, models, preps, and where the cases are."""

from __future__ import annotations

import ipaddress
from decimal import Decimal
from pathlib import Path
from typing import Annotated
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from drovik.problems import Problem, known_words
from drovik.project.toml_files import Frozen, read_toml, validated

FILE_NAME = "drovik.toml"

Name = Annotated[str, StringConstraints(pattern=r"^[^\s/@:,*]+$", max_length=80)]
"""A name that may stand as a part of an arm, such as `fulmar/v2/small`."""


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
        raise ValueError(f"'{url}' is no address: {error}") from None
    if parts.scheme not in ("http", "https") or not parts.hostname or not port_fits:
        raise ValueError(f"'{url}' is no address of a service; write it like https://host or http://127.0.0.1:8765")
    if parts.username or parts.password:
        raise ValueError("a name or password stands in the address; give keys by key_env")
    if parts.scheme == "http" and not is_loopback(parts.hostname):
        raise ValueError(f"plain http to '{parts.hostname}' would show the key and the pictures; use https")
    return url.rstrip("/")


class Limits(Frozen):
    """What a service bears. `timeout` is in seconds, for one request from first byte to last."""

    at_once: int = Field(default=4, ge=1, le=1000)
    timeout: float = Field(default=60.0, gt=0, le=86400)
    tries: int = Field(default=5, ge=1, le=50)


class Endpoint(Frozen):
    """A service on HTTP."""

    url: Annotated[str, AfterValidator(_proper_url)]
    dialect: Name
    key_env: Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")] | None = None
    limits: Limits = Limits()


class Settings(Frozen):
    """How a model is asked to answer. A setting that is not given is not sent."""

    temperature: float | None = Field(default=None, ge=0)
    top_p: float | None = Field(default=None, gt=0, le=1)
    top_k: int | None = Field(default=None, ge=1)
    seed: int | None = None
    max_output_tokens: int | None = Field(default=None, ge=1)


class Price(Frozen):
    """Money per million tokens."""

    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")]
    input: Decimal = Field(ge=0)
    output: Decimal = Field(ge=0)


class Model(Frozen):
    """A model of an endpoint. One that does not see is asked without the pictures, as a baseline."""

    endpoint: str
    id: str = Field(min_length=1)
    revision: str = ""
    settings: Settings = Settings()
    price: Price | None = None
    sees: bool = True

    def canonical(self) -> dict[str, object]:
        """What of a model is part of what is asked: all but its address and its price."""
        known = self.settings.model_dump(exclude_none=True)
        return {"id": self.id, "revision": self.revision, "settings": known, "sees": self.sees}


class Prep(Frozen):
    """How a picture is prepared: `fit` is the longest side in pixels, `quality` is JPEG's, 1 to 95."""

    fit: int | None = Field(default=None, ge=8, le=20000)
    quality: int | None = Field(default=None, ge=1, le=95)

    def canonical(self) -> dict[str, object]:
        """The prep without what it leaves as it is."""
        return self.model_dump(exclude_none=True)


class ProjectFile(Frozen):
    """All of `drovik.toml`."""

    title: str = ""
    cases: str = "cases.jsonl"
    max_pixels: int = Field(default=100_000_000, ge=1)
    endpoints: dict[Name, Endpoint] = {}
    models: dict[Name, Model] = {}
    preps: dict[Name, Prep] = {}

    @model_validator(mode="before")
    @classmethod
    def _at_least_one_prep(cls, table: object) -> object:
        if isinstance(table, dict) and not table.get("preps"):
            return {**table, "preps": {"full": {}}}
        return table


def read_settings(folder: Path, problems: list[Problem]) -> ProjectFile | None:
    """`drovik.toml` of a project folder, after adding to `problems` all that is wrong with it.

    :return: as much of it as can be read; None only where there is no such file.
    """
    path = folder / FILE_NAME
    if not path.exists():
        remedy = "go to a project folder, give one by --project, or run 'drovik demo' for one to look at"
        problems.append(Problem("there is no project here", remedy, str(path)))
        return None
    table = read_toml(path, FILE_NAME, problems)
    if table is None:
        return ProjectFile()
    settings = validated(ProjectFile, table, FILE_NAME, problems) or ProjectFile()
    for kind, remedy in (("endpoints", "with url and dialect"), ("models", "with endpoint and id")):
        if not table.get(kind):
            problems.append(Problem(f"there are no {kind}", f"add [{kind}.NAME] {remedy}", FILE_NAME))
    written = table.get("endpoints")
    known = list(written) if isinstance(written, dict) else []
    for name, model in settings.models.items():
        if model.endpoint not in known:
            what = f"there is no endpoint '{model.endpoint}'"
            problems.append(Problem(what, known_words(model.endpoint, known), FILE_NAME, f"models.{name}.endpoint"))
    return settings
