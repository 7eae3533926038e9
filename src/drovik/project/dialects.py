"""`dialects/NAME.toml`: how a service wants a request written, and where in its reply things stand."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, field_validator

from drovik.problems import Problem
from drovik.project.toml_files import Frozen, read_toml, validated


def _parsed(text: object) -> object:
    if not isinstance(text, str):
        raise ValueError("the body is JSON, written between ''' and '''")
    try:
        return json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise ValueError(f"the body is not JSON: {error}") from None


class RequestForm(Frozen):
    """The request: slots may stand in path, headers, query and body."""

    method: Literal["POST", "PATCH"] = "POST"
    path: str = "/"
    headers: dict[str, str] = {}
    query: dict[str, str] = {}
    body: Annotated[Any, BeforeValidator(_parsed)]

    @field_validator("path")
    @classmethod
    def _from_the_root(cls, path: str) -> str:
        if not path.startswith("/"):
            raise ValueError(f"'{path}' must begin with '/'")
        return path


class ReplyForm(Frozen):
    """The reply: JSONPaths of what stands in it, and the words a service uses for how it ended."""

    text: str
    ended: str | None = None
    cut_off: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()
    model: str | None = None
    input_tokens: str | None = None
    output_tokens: str | None = None
    error: str | None = None


class ErrorWords(Frozen):
    """Words in an error's message that tell kinds of errors apart; letter case does not matter."""

    unknown_model: tuple[str, ...] = ()
    no_pictures: tuple[str, ...] = ()


class Dialect(Frozen):
    """All of a dialect's file."""

    note: str = ""
    request: RequestForm
    names: dict[Literal["user", "assistant", "system"], str] = {}
    reply: ReplyForm
    errors: ErrorWords = Field(default=ErrorWords())


def read_dialects(folder: Path, wanted: set[str], problems: list[Problem]) -> dict[str, Dialect]:
    """The dialects that endpoints name, by name."""
    found = {}
    for name in sorted(wanted):
        shown = f"dialects/{name}.toml"
        path = folder / "dialects" / f"{name}.toml"
        if not path.exists():
            problems.append(Problem("an endpoint names this dialect, and there is no such file", "write it", shown))
            continue
        table = read_toml(path, shown, problems)
        dialect = validated(Dialect, table, shown, problems) if table is not None else None
        if dialect is not None:
            found[name] = dialect
    return found
