"""A learned request as a script that runs without Drovik: for curl, or in Python with nothing but its library.

The dialect's templates are filled with marks in the places of what changes: the question, the picture, the key.
"""

from __future__ import annotations

import base64
import re
import shlex
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from drovik.dialects.request import RequestWriter
from drovik.dialects.template import Raw
from drovik.errors import Problem, UsageError
from drovik.planning.requests import request_of
from drovik.planning.sources import AdhocQuestion, adhoc_project
from drovik.project.cases import Picture

if TYPE_CHECKING:
    from drovik.dialects.request_template import HttpRequest
    from drovik.project.dialects import Dialect, HttpForm, Until
    from drovik.workflow.services import Services

Form = Literal["curl", "python"]


def _mark(name: str) -> str:
    return f"DRVK{name}KVRD"


_QUESTION, _KEY, _MEDIA, _FORMAT, _FILE, _ADDRESS = map(
    _mark, ("QUESTION", "KEY", "MEDIA", "FORMAT", "FILE", "ADDRESS")
)
_BASE64 = "DRVKBASE64KVRDxx"  # is base64 itself, so that what decodes it gets bytes that are known again
_BYTES = base64.b64decode(_BASE64)
_BYTES_MARK = _mark("BYTES")
_BASIC = base64.b64encode(f"{_KEY}:".encode()).decode()


@dataclass(frozen=True)
class _Call:
    """One request with marks in it, and what is taken from its reply."""

    request: HttpRequest
    take: Mapping[str, str]
    until: Until | None

    def text(self) -> str:
        """The body as text, a picture's bytes as a mark."""
        return self.request.body.replace(_BYTES, _BYTES_MARK.encode()).decode("utf-8", "replace")


def request_code(services: Services, name: str, model: str, form: Form) -> str:
    """A script that asks an endpoint's model about a picture.

    :raises UsageError: where the form cannot do what the dialect needs.
    """
    endpoint = services.settings.endpoints[name]
    dialect = services.dialects[endpoint.dialect]
    calls = _calls(services, name, model)
    variable = endpoint.key_env or "KEY"
    if form == "python":
        return _python(name, calls, variable, dialect)
    if len(calls) > 1 or calls[0].until is not None:
        what = "this service takes several requests, and a curl command is one"
        raise UsageError(Problem(what, "--as python writes all of them"))
    return _curl(name, calls[0], variable, dialect.request)


def _calls(services: Services, name: str, model: str) -> list[_Call]:
    """The dialect's requests, in their order, with marks."""
    endpoint = services.settings.endpoints[name]
    dialect = services.dialects[endpoint.dialect]
    writer = RequestWriter(endpoint, dialect, _KEY, lambda _: _ADDRESS)
    alone = services.settings.model_copy(update={"models": {model: services.settings.models[model]}})
    pictures = [Picture(_ADDRESS, None, _ADDRESS)]
    made = adhoc_project(Path(), alone, services.dialects, {}, AdhocQuestion(_QUESTION), [("one", pictures)])
    request = request_of(made.task, made.arms[0], made.project.cases[0], {_ADDRESS: ""})
    draft = (
        writer.draft(made.arms[0], request.conversation(), [()], "1", [_ADDRESS])
        if not writer.takes_bytes()
        else None
    )
    if draft is None:
        from drovik.images.prepare import prepare
        from drovik.project.preps import Prep
        from drovik.workflow.endpoint_trial import PROBES, draw

        (one,) = prepare(draw(PROBES[0]), Prep(), "probe.png", 10**7)
        draft = writer.draft(made.arms[0], request.conversation(), [(one,)], "1", [None])
    values = {
        "base64": Raw(_BASE64.encode()), "data_url": Raw(f"data:{_MEDIA};base64,{_BASE64}".encode()),
        "media_type": _MEDIA, "format": _FORMAT, "name": _FILE, "address": _ADDRESS,
    }  # fmt: skip
    for picture in draft.every_picture():
        picture.values |= values
    calls = []
    for step, template in writer.steps:
        every = draft.every_picture()
        scope = writer.scope(draft, every[0] if every and step.per == "picture" else None)
        calls.append(_Call(template.fill(endpoint.url, scope), step.take, step.until))
        taken = {one: _mark(f"TAKEN{one.upper().replace('_', '')}") for one in step.take}
        if step.per == "picture":
            for picture in every:
                picture.values |= taken
        else:
            draft.taken |= taken
    calls.append(_Call(writer.write(draft), {}, dialect.request.until))
    return calls


# curl.

_SHELL_PICTURE = """\
case "$PICTURE" in
  *.png) MEDIA=image/png;; *.webp) MEDIA=image/webp;; *.gif) MEDIA=image/gif;; *) MEDIA=image/jpeg;;
esac
FORMAT=${MEDIA#image/}
BASE64=$(base64 < "$PICTURE" | tr -d '\\n')
quoted() { printf '%s' "$1" | tr '\\n' ' ' | sed 's/\\\\/\\\\\\\\/g; s/"/\\\\"/g'; }
"""


def _curl(name: str, call: _Call, variable: str, form: HttpForm) -> str:
    request = call.request
    lines = [
        "#!/bin/sh",
        f"# Asks {name}: sh {name}.sh PICTURE QUESTION"
        + (f"; the key is in {variable}." if _needs_key(call) else "."),
        "set -eu",
        "PICTURE=$1 QUESTION=$2",
        _SHELL_PICTURE.rstrip(),
    ]
    words = [f"curl -sS -X {request.method}", _shell(request.url, variable)]
    own = {key: value for key, value in request.headers.items() if "multipart" not in value}
    words += [f"-H {_shell(f'{key}: {value}', variable)}" for key, value in own.items()]
    if form.multipart is not None:
        words += [f"-F {one}" for one in _curl_parts(call, variable)]
        return "\n".join([*lines, " \\\n  ".join(words)]) + "\n"
    if call.text() == _BYTES_MARK:
        words.append('--data-binary "@$PICTURE"')
        return "\n".join([*lines, " \\\n  ".join(words)]) + "\n"
    body = re.sub(r"([\\$`])", r"\\\1", call.text())
    for mark, value in _shell_values(variable).items():
        body = body.replace(mark, '$(quoted "$QUESTION")' if mark == _QUESTION else value)
    words.append("--data-binary @- <<BODY")
    return "\n".join([*lines, " \\\n  ".join(words), body, "BODY"]) + "\n"


def _needs_key(call: _Call) -> bool:
    return _KEY in f"{call.request.url}{call.request.headers}{call.text()}" or _BASIC in str(call.request.headers)


def _shell_values(variable: str) -> dict[str, str]:
    return {
        _QUESTION: "$QUESTION", _BASE64: "$BASE64", _MEDIA: "$MEDIA", _FORMAT: "$FORMAT", _FILE: "$PICTURE",
        _ADDRESS: "$PICTURE", _BASIC: f"$(printf '%s:' \"${variable}\" | base64 | tr -d '\\n')", _KEY: f"${variable}",
    }  # fmt: skip


def _shell(text: str, variable: str) -> str:
    """A text as one word of a shell, its marks as variables."""
    parts = re.split("(" + "|".join(map(re.escape, _shell_values(variable))) + ")", text)
    values = _shell_values(variable)
    return "".join(f'"{values[one]}"' if one in values else shlex.quote(one) if one else "" for one in parts)


def _curl_parts(call: _Call, variable: str) -> list[str]:
    """The parts of a multipart body as curl has them."""
    found = []
    boundary = call.request.headers["Content-Type"].rpartition("boundary=")[2]
    for text in call.text().split(f"--{boundary}")[1:-1]:
        head, _, content = text.strip("\r\n").partition("\r\n\r\n")
        name = (re.search(r'\bname="([^"]*)"', head) or [""])[1]
        if content == _BYTES_MARK:
            found.append(_shell(name, variable) + '"=@$PICTURE;type=$MEDIA"')
        else:
            found.append(_shell(f"{name}={content}", variable))
    return found


# Python.

_PYTHON = '''\
"""Asks {name}: python {name}.py PICTURE QUESTION{key}"""

import base64
import json
import mimetypes
import os
import sys
import time
import urllib.parse
import urllib.request

picture, question = sys.argv[1:3]
data = open(picture, "rb").read() if os.path.exists(picture) else b""
media = mimetypes.guess_type(picture)[0] or "image/jpeg"
key = os.environ.get({variable!r}, "")
values = {{
    {question!r}: question,
    {base64!r}: base64.b64encode(data).decode(),
    {media!r}: media,
    {format!r}: media.partition("/")[2],
    {file!r}: os.path.basename(picture),
    {address!r}: picture,
    {basic!r}: base64.b64encode((key if ":" in key else key + ":").encode()).decode(),
    {key_mark!r}: key,
}}


def filled(text, how):
    for mark, value in values.items():
        text = text.replace(mark, how(str(value)))
    return text


def in_json(text):
    return json.dumps(text)[1:-1]


def in_address(text):
    return text if "://" in text or text.startswith("/") else urllib.parse.quote(text, safe="")


def at(reply, headers, place):
    """What is at a place such as $.a.b[0], or in a header; None where nothing is."""
    if place.startswith("header "):
        return headers.get(place[7:])
    for step in place.replace("]", "").replace("[", ".").split(".")[1:]:
        step = step.strip("'")
        if isinstance(reply, list):
            reply = reply[0 if step == "*" else int(step)] if reply else None
        else:
            reply = reply.get(step) if isinstance(reply, dict) else None
    return reply


def call(method, url, headers, body, is_json, until=None):
    while True:
        made = filled(body, in_json if is_json else str).encode().replace({bytes!r}.encode(), data)
        address = urllib.parse.urljoin({base!r}, filled(url, in_address))
        head = {{name: filled(value, str) for name, value in headers.items()}}
        request = urllib.request.Request(address, made or None, head, method=method)
        with urllib.request.urlopen(request) as response:
            text, headers_in = response.read().decode(), dict(response.headers)
        try:
            reply = json.loads(text)
        except ValueError:
            reply = text
        if until is None or at(reply, headers_in, until["at"]) in until["is"]:
            return reply, headers_in
        if at(reply, headers_in, until["at"]) in until["fails"]:
            sys.exit(f"failed: {{text}}")
        time.sleep(until["every"])


{calls}
answer = at(reply, headers, {place!r}) if {simple!r} else None
print(answer if answer is not None else reply if isinstance(reply, str) else json.dumps(reply, ensure_ascii=False))
'''


def _python(name: str, calls: list[_Call], variable: str, dialect: Dialect) -> str:
    written = []
    for call in calls:
        request = call.request
        is_json = "json" in request.headers.get("Content-Type", "")
        until = None
        if call.until is not None:
            until = {
                "at": call.until.at,
                "is": list(call.until.is_),
                "fails": list(call.until.fails),
                "every": call.until.every,
            }
        written.append(
            f"reply, headers = call(\n    {request.method!r},\n    {request.url!r},\n    {dict(request.headers)!r},\n"
            f"    {call.text()!r},\n    {is_json!r},\n    {until!r},\n)"
        )
        for one, place in call.take.items():
            mark = _mark(f"TAKEN{one.upper().replace('_', '')}")
            written.append(f"values[{mark!r}] = at(reply, headers, {place!r})")
    place = dialect.reply.text or "$"
    return _PYTHON.format(
        name=name, key=f"; the key is in {variable}." if any(map(_needs_key, calls)) else ".", variable=variable,
        question=_QUESTION, base64=_BASE64, media=_MEDIA, format=_FORMAT, file=_FILE, address=_ADDRESS, basic=_BASIC,
        key_mark=_KEY, bytes=_BYTES_MARK, base=calls[-1].request.url, calls="\n".join(written), place=place,
        simple="?" not in place and ".." not in place and dialect.reply.form == "json",
    )  # fmt: skip


def code_of(services: Services, name: str, model: str, form: str) -> str:
    """As `request_code`, of a form by its name.

    :raises UsageError: if the form is not known.
    """
    if form == "curl":
        return request_code(services, name, model, "curl")
    if form == "python":
        return request_code(services, name, model, "python")
    raise UsageError(Problem(f"--as {form}: this form is not known", "known here: curl, python"))
