"""`dialects/NAME.toml`: how a service wants a request written, and where in its reply things stand."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, StringConstraints, field_validator, model_validator

from drovik.errors import Problem
from drovik.project.toml_files import Frozen, read_toml, validated

SlotName = Annotated[str, StringConstraints(pattern=r"^[a-z_][a-z0-9_]*$", max_length=60)]
"""A name that may be in a slot after a dot, such as the `handle` of `{image.handle}`."""

BODIES = ("body", "multipart", "form", "raw")
OWN_PICTURE_SLOTS = ("picture", "base64", "media_type", "format", "data_url", "address", "name")
"""What a picture's scope holds before any step has run."""


def _json_of(wanted: type, how: str) -> BeforeValidator:
    """A validator that parses a member written as JSON text, and sees that it is of one kind."""

    def parsed(text: object) -> object:
        if text is None:
            return None
        if not isinstance(text, str):
            raise ValueError(f"the body is {how}, written between ''' and '''")
        try:
            tree = json.loads(text)
        except (json.JSONDecodeError, RecursionError) as error:
            raise ValueError(f"the body is not JSON: {error}") from None
        if not isinstance(tree, wanted):
            raise ValueError(f"the body must be {how}")
        return tree

    return BeforeValidator(parsed)


def _texts(value: object) -> object:
    return (value,) if isinstance(value, str) else value


Words = Annotated[tuple[str, ...], BeforeValidator(_texts)]
"""One word or a list of them."""


class Until(Frozen):
    """What to wait for: the same request is sent every N seconds until a place in the reply says so.

    Without `is` anything but null at the place will do.
    """

    at: str
    is_: Words = Field(default=(), alias="is")
    fails: Words = ()
    every: float = Field(default=1.0, ge=0.01, le=600)
    within: float = Field(default=300.0, gt=0, le=86400)


class HttpForm(Frozen):
    """One HTTP request: slots may be in its path, headers, query and in the one kind of body it has."""

    method: Literal["GET", "POST", "PUT", "PATCH"] = "POST"
    path: str = "/"
    headers: dict[str, str] = {}
    query: dict[str, str] = {}
    body: Annotated[Any, _json_of(object, "JSON")] = None
    multipart: Annotated[list[Any] | None, _json_of(list, "a JSON list of parts")] = None
    form: Annotated[dict[str, Any] | None, _json_of(dict, "a JSON object")] = None
    raw: str | None = None
    until: Until | None = None

    @field_validator("path")
    @classmethod
    def _from_the_root(cls, path: str) -> str:
        if not path.startswith(("/", "{taken.", "{image.")):
            raise ValueError(f"'{path}' must begin with '/'")
        return path

    @model_validator(mode="after")
    def _one_body(self) -> HttpForm:
        written = [name for name in BODIES if getattr(self, name) is not None]
        if len(written) > 1:
            raise ValueError(f"it has {' and '.join(written)}; a request has one of {', '.join(BODIES)}")
        return self

    def texts(self) -> list[tuple[str, str]]:
        """Every string with slots outside of the body, each with its place."""
        found = [("path", self.path)]
        found += [(f"headers.{name}", value) for name, value in self.headers.items()]
        found += [(f"query.{name}", value) for name, value in self.query.items()]
        return found + ([("raw", self.raw)] if self.raw is not None else [])

    def tree(self) -> Any:
        """The body's template as a JSON value, whichever kind of body it is; None for none."""
        return next((value for value in (self.body, self.multipart, self.form) if value is not None), None)


class Step(HttpForm):
    """A request before the request proper: once per picture, or once per request.

    `take` names what is taken from its reply, by JSONPath or as `header NAME`; a picture's become its
    own slots (`{image.handle}`, `{part.handle}`), a request's `{taken.NAME}`. What was taken for a
    picture is used again for `valid_for` seconds.
    """

    name: SlotName
    per: Literal["picture", "request"] = "request"
    take: dict[SlotName, str] = {}
    valid_for: float = Field(default=0.0, ge=0)


class Counter(Frozen):
    """A count of tokens with a price of its own; `within` says that input or output counts them too."""

    at: str
    within: Literal["input", "output"] | None = None


def _counter(value: object) -> object:
    return {"at": value} if isinstance(value, str) else value


class ReplyForm(Frozen):
    """The reply: how it is built, where things are in it, and the words a service uses for how it ended.

    Places are JSONPaths, within each event or line where the reply is `events` or `lines`; tokens and
    model may also be in a header, written `header NAME`.
    """

    form: Literal["json", "text", "events", "lines"] = "json"
    text: str | None = None
    text_events: Words = ()
    joined: Literal["pieces", "last"] = "pieces"
    finish: Words = ()
    end_mark: str | None = None
    error_events: Words = ()
    ended: str | None = None
    cut_off: Words = ()
    refused: Words = ()
    model: str | None = None
    input_tokens: str | None = None
    output_tokens: str | None = None
    usage: Literal["last", "sum"] = "last"
    counters: dict[SlotName, Annotated[Counter, BeforeValidator(_counter)]] = {}
    error: str | None = None
    error_code: str | None = None

    @model_validator(mode="after")
    def _fits_its_form(self) -> ReplyForm:
        if self.form != "text" and self.text is None:
            raise ValueError("'text' is missing: say where the answer stands, like text = \"$.answer\"")
        if self.form == "text" and self.text is not None:
            raise ValueError("a reply that is plain text has no place 'text': take it out")
        if self.form != "events" and (self.text_events or self.error_events):
            raise ValueError('only a reply of the form "events" has event names')
        return self


class ErrorWords(Frozen):
    """Words in an error's message that tell kinds of errors apart; letter case does not matter."""

    unknown_model: tuple[str, ...] = ()
    no_pictures: tuple[str, ...] = ()


class ModelList(Frozen):
    """Where a service lists its models."""

    path: Annotated[str, StringConstraints(pattern=r"^/")]
    id: str


class LeftHeaders(Frozen):
    """The headers in which a service tells what is left of its limits, and when they begin again.

    `again` may be seconds, a span such as `1m30s`, a date, or seconds since 1970.
    """

    requests: str | None = None
    requests_again: str | None = None
    tokens: str | None = None
    tokens_again: str | None = None


class Dialect(Frozen):
    """All of a dialect's file."""

    note: str = ""
    request: HttpForm
    steps: tuple[Step, ...] = ()
    names: dict[Literal["user", "assistant", "system"], str] = {}
    reply: ReplyForm
    errors: ErrorWords = Field(default_factory=ErrorWords)
    models: ModelList | None = None
    left: LeftHeaders | None = None

    def forms(self) -> Sequence[tuple[str, HttpForm]]:
        """Every request of the dialect, in the order in which they are sent, each with its place in the file."""
        return [*((f"steps.{step.name}", step) for step in self.steps), ("request", self.request)]

    def picture_slots(self) -> tuple[str, ...]:
        """The names that a picture's slots may have: its own, and what steps take for it."""
        taken = [name for step in self.steps if step.per == "picture" for name in step.take]
        return (*OWN_PICTURE_SLOTS, *taken)

    def taken_slots(self) -> tuple[str, ...]:
        """The slots that steps of the whole request fill."""
        return tuple(f"taken.{name}" for step in self.steps if step.per == "request" for name in step.take)


def read_dialects(folder: Path, wanted: set[str], problems: list[Problem]) -> dict[str, Dialect]:
    """The dialects that endpoints name, by name."""
    found = {}
    for name in sorted(wanted):
        shown = f"dialects/{name}.toml"
        path = folder / "dialects" / f"{name}.toml"
        if not path.exists():
            remedy = f"write it, or make it from a sample request: drovik endpoint learn {name}"
            problems.append(Problem("an endpoint names this dialect, and its file is missing", remedy, shown))
            continue
        table = read_toml(path, shown, problems)
        dialect = validated(Dialect, table, shown, problems) if table is not None else None
        if dialect is not None:
            found[name] = dialect
    return found
