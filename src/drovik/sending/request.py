"""What is asked, and a dialect → the HTTP request: method, address, headers and body bytes."""

from __future__ import annotations

import base64
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from drovik.images.prepare import Prepared
from drovik.problems import DrovikError, Problem, known_words
from drovik.project.arms import Arm
from drovik.project.dialects import Dialect
from drovik.project.settings import Endpoint, Settings
from drovik.sending.slots import Node, Raw, Scope, Text, compile_body, compile_text
from drovik.sending.turns import Asking, TextPart

SETTINGS = tuple(Settings.model_fields)
PLAIN_SLOTS = ("model", "system", "key", "request.id", *SETTINGS)
TURN_SLOTS = ("turn.by",)
PART_SLOTS = ("part.text", "part.picture", "part.base64", "part.media_type")
KNOWN_SLOTS = (*PLAIN_SLOTS, *TURN_SLOTS, *PART_SLOTS)


@dataclass(frozen=True)
class HttpRequest:
    """A request ready to leave. Its `repr` shows neither headers nor body, for a key may stand there."""

    method: str
    url: str
    headers: dict[str, str]
    body: bytes

    def __repr__(self) -> str:
        return f"HttpRequest({self.method} …, {len(self.body)} bytes)"


class RequestWriter:
    """Writes the requests of one endpoint by its dialect; templates are compiled once.

    :raises DrovikError: where the dialect's templates cannot be compiled.
    """

    def __init__(self, endpoint: Endpoint, dialect: Dialect, key: str | None) -> None:
        form = dialect.request
        self._url = endpoint.url
        self._method = form.method
        self._names = dialect.names
        self._key = key
        self._path: Text = compile_text(form.path)
        self._headers = {name: compile_text(value) for name, value in form.headers.items()}
        self._query = {name: compile_text(value) for name, value in form.query.items()}
        self._body: Node = compile_body(form.body)

    def write(self, arm: Arm, asking: Asking, pictures: Sequence[Prepared | None], request_id: str) -> HttpRequest:
        """The request for what is asked.

        :param pictures: the prepared pictures by their number in the case; None for one that is not sent.
        :param request_id: what `{request.id}` stands for; the same over tries.
        """
        scope = self._scope(arm, asking, pictures, request_id)
        body: list[bytes] = []
        if not self._body.fill(scope, body):
            raise DrovikError(Problem("the body is empty", "mend the dialect's [request] body"))
        headers = {"Content-Type": "application/json"}
        for name, template in self._headers.items():
            value = template.as_text(scope)
            if value is not None:
                headers[name] = _one_line(name, value)
        return HttpRequest(self._method, self._address(scope), headers, b"".join(body))

    def _address(self, scope: Scope) -> str:
        quoted = {
            name: quote(str(value), safe="") if isinstance(value, str) else value for name, value in scope.items()
        }
        address = self._url + (self._path.as_text(quoted) or "")
        query = [(name, template.as_text(scope)) for name, template in self._query.items()]
        pairs = "&".join(
            f"{quote(name, safe='')}={quote(value, safe='')}" for name, value in query if value is not None
        )
        return f"{address}{'&' if '?' in address else '?'}{pairs}" if pairs else address

    def _scope(
        self, arm: Arm, asking: Asking, pictures: Sequence[Prepared | None], request_id: str
    ) -> dict[str, Any]:
        scope: dict[str, Any] = arm.model.settings.model_dump(exclude_none=True)
        scope |= {
            "model": arm.model.id,
            "system": asking.system or None,
            "key": self._key,
            "request.id": request_id,
        }
        scope["turns"] = []
        for turn in asking.turns:
            parts = []
            for part in turn.parts:
                if isinstance(part, TextPart):
                    parts.append({"part.text": part.text})
                else:
                    parts.append(_picture_scope(pictures[part.number]))
            scope["turns"].append({"turn.by": self._names.get(turn.by, turn.by), "parts": parts})  # type: ignore[call-overload]
        return scope


def _picture_scope(picture: Prepared | None) -> dict[str, Any]:
    if picture is None:
        raise DrovikError(Problem("a picture of the request was not prepared"))
    encoded = Raw(base64.b64encode(picture.data))
    return {"part.picture": encoded, "part.base64": encoded, "part.media_type": picture.media_type}


def _one_line(name: str, value: str) -> str:
    if any(char in value for char in "\r\n\0"):
        raise DrovikError(
            Problem(f"the header '{name}' would hold a line break", "take it out of the key or the dialect")
        )
    return value


def check_request_form(dialect: Dialect, file: str) -> list[Problem]:
    """Slots that nobody knows or that stand where they have no value, and templates that cannot be compiled."""
    problems: list[Problem] = []
    form = dialect.request
    try:
        body = compile_body(form.body)
    except DrovikError as error:
        first = error.problems[0]
        return [Problem(first.what, first.remedy, file, "request.body")]
    texts = [("request.path", compile_text(form.path))]
    texts += [(f"request.headers.{name}", compile_text(value)) for name, value in form.headers.items()]
    texts += [(f"request.query.{name}", compile_text(value)) for name, value in form.query.items()]
    for place, text in texts:
        problems += _unknown(text.slots(), PLAIN_SLOTS, file, place)
    problems += _unknown(body.slots(), KNOWN_SLOTS, file, "request.body")
    problems += _misplaced(form.body, (), file)
    if not {"part.text"} & set(body.slots()):
        problems.append(
            Problem("the prompt's text has no slot", "put {part.text} where it belongs", file, "request.body")
        )
    return problems


def _unknown(slots: Iterator[str], known: Sequence[str], file: str, place: str) -> list[Problem]:
    names = sorted(set(slots) - set(known))
    return [Problem(f"unknown slot '{{{name}}}'", known_words(name, known), file, place) for name in names]


def _misplaced(tree: Any, inside: tuple[str, ...], file: str) -> list[Problem]:
    """Slots of a turn or part that stand outside of `each turn` or `each part`."""
    if isinstance(tree, dict):
        problems = []
        for key, value in tree.items():
            word, _, name = key.partition(" ")
            inner = (*inside, name) if word == "each" and len(tree) == 1 else inside
            problems += _misplaced(value, inner, file)
        return problems
    if isinstance(tree, list):
        return [problem for one in tree for problem in _misplaced(one, inside, file)]
    slots = compile_text(tree).slots() if isinstance(tree, str) else ()
    return [
        Problem(
            f"'{{{slot}}}' stands outside of 'each {head}'",
            f'put it inside {{"each {head}": …}}',
            file,
            "request.body",
        )
        for slot in slots
        for head in [slot.split(".")[0]]
        if head in ("turn", "part") and head not in inside
    ]


def unsent_settings(arm_settings: Settings, dialect: Dialect) -> list[str]:
    """The settings of a model that its dialect has no slot for, so that they would not be sent."""
    form = dialect.request
    slots = set(compile_body(form.body).slots())
    for text in (form.path, *form.headers.values(), *form.query.values()):
        slots |= set(compile_text(text).slots())
    return sorted(set(arm_settings.model_dump(exclude_none=True)) - slots)
