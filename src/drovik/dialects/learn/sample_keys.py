"""The key in a sample request: in a header, the query, the body or the path; taken out, and written nowhere."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from drovik.dialects.learn.curl import SIGNED, SampleRequest
from drovik.dialects.learn.trees import Inference, Path, leaves, names_of, shown
from drovik.dialects.learn.vocabulary import folded_name
from drovik.dialects.template import escaped
from drovik.errors import Problem, SampleError
from drovik.project.key_signs import is_secret_name

_DROPPED = ("content-length", "host", "user-agent", "accept-encoding", "connection")
_OWN_NUMBERS = ("idempotency-key", "x-idempotency-key", "request-id", "x-request-id")
_SIGNED = re.compile(r"hmac|signature|signed|sigv\d", re.IGNORECASE)
_KEY_SHAPED = re.compile(r"(?=.*\d)(?=.*[A-Za-z])[A-Za-z0-9_\-.]{20,}$")
_PLACE_HOLDER = re.compile(r"\$\{?\w+\}?|<[^>]+>|\{\{?[^}]+\}\}?|YOUR[_\- ]?\w+|your[_\-]\w+|x{3,}|\.{3}|…|\*{3,}")
_VARIABLE = re.compile(r"\$\{?([A-Za-z_]\w*)\}?")
_MEMBERS = re.compile(
    r"(?:api|app|access|auth|user|licen[cs]e|secret)(?:key|token)|(?:client)?secret|password|auth(?:orization)?|credentials?"
)
_PERHAPS = frozenset(("key", "token", "pass", "code"))


SHORTEST_KEY = 6
"""A shorter one is a placeholder, and taking it out wherever it stands would spoil the rest."""


@dataclass
class Key:
    """The key of a sample. `value` is None if there is none, and empty where only its place is shown."""

    value: str | None = None
    variable: str | None = None
    taken: list[Inference] = field(default_factory=list)
    others: list[str] = field(default_factory=list)
    """Keys beside it: they are left out, wherever they stand."""

    def place(self, where: str, value: str) -> str | None:
        """The template of a value with the key in it; None for a second key, which is left out.

        Drovik keeps one key for an endpoint.
        """
        before, own = _parted(value)
        stands_for = _PLACE_HOLDER.search(own) is not None
        if self.value is not None and own != self._own and not stands_for:
            why = "a second key: it is left out, for an endpoint has one"
            self.taken.append(Inference("key", where, f"…{own[-2:]}", why, sure=False))
            self.others += [own] if len(own) >= SHORTEST_KEY else []
            return None
        if self.value is None:
            self._own = own
            variable = _VARIABLE.fullmatch(own.strip("\"'"))
            self.variable = variable[1] if variable else None
            self.value = "" if stands_for else own
            told = "a variable" if variable else "a place to fill in" if not self.value else f"…{own[-2:]}"
            self.taken.append(Inference("key", where, told, "it is where keys go"))
        else:
            self.taken.append(Inference("key", where, f"…{own[-2:]}", "the same key, or a place for it"))
        return f"{escaped(before)}{{key}}"

    _own: str = ""


def _parted(value: str) -> tuple[str, str]:
    """What comes before a key, such as `Bearer `, and the key."""
    scheme, _, rest = value.partition(" ")
    if rest.strip() and re.fullmatch(r"[A-Za-z][\w-]*:?", scheme):
        own = rest.strip()
        return value[: value.rindex(own)], own
    return "", value


def headers_of(sample: SampleRequest, key: Key) -> tuple[dict[str, str], list[str]]:
    """The headers of a sample as templates, without those that are written anyway; and which are kept as they are.

    :raises DrovikError: where one is a signature.
    """
    headers: dict[str, str] = {}
    fixed = []
    for name, value in sample.headers:
        low = name.lower()
        if low in _DROPPED or (low == "content-type" and _is_written_anyway(value, sample.kind)):
            continue
        if low in _OWN_NUMBERS:
            headers[name] = "{request.id}"
            key.taken.append(Inference("request's own number", f"header {name}", value[:60], "by its name"))
        elif _carries_key(low, value):
            if _SIGNED.search(value.split(" ")[0]) and " " in value:
                what = f"the header '{name}' is a signature: {SIGNED}"
                raise SampleError(Problem(what, "put a service before it that does the signing"))
            template = key.place(f"header {name}", value)
            if template is not None:
                headers[name] = template
        else:
            headers[name] = escaped(value)
            fixed.append(f"header {name}")
    return headers, fixed


def _is_written_anyway(value: str, kind: str) -> bool:
    low = value.lower()
    return {"json": "application/json" in low, "form": "urlencoded" in low, "multipart": "multipart" in low}.get(
        kind, False
    )


def _carries_key(name: str, value: str) -> bool:
    if name in ("accept", "content-type"):
        return False
    last = value.rsplit(maxsplit=1)[-1] if value.split() else ""
    filled_in = _VARIABLE.fullmatch(value) is not None
    return name == "cookie" or is_secret_name(name) or filled_in or _KEY_SHAPED.match(last) is not None


def keys_of_query(query: dict[str, str], key: Key) -> dict[str, str]:
    """The members of the query that are keys, as templates; they are taken out of `query`."""
    found = {}
    for name in list(query):
        if is_secret_name(name) or _MEMBERS.fullmatch(folded_name(name)):
            template = key.place(f"query {name}", query.pop(name))
            if template is not None:
                found[name] = template
    return found


def keys_of_body(tree: Any, key: Key) -> dict[Path, str]:
    """The members of a body that are keys, as templates; a second key's vanishes."""
    found = {}
    for path, value in leaves(tree):
        name = folded_name(names_of(path)[-1]) if names_of(path) else ""
        secret_shaped = isinstance(value, str) and (_KEY_SHAPED.match(value) or _PLACE_HOLDER.fullmatch(value))
        if isinstance(value, str) and (_MEMBERS.fullmatch(name) or (name in _PERHAPS and secret_shaped)):
            found[path] = key.place(shown(path), value) or "{extra.second_key?}"
    return found


def keys_of_path(segments: list[str], key: Key) -> list[str]:
    """The segments of a path, the key in them as a slot: where it stands for one, or nothing else is the key."""
    found = []
    for segment in segments:
        stands_for = _PLACE_HOLDER.fullmatch(segment) and re.search(r"key|token|secret", segment, re.IGNORECASE)
        shaped = key.value is None and _KEY_SHAPED.match(segment) and len(re.findall(r"\d", segment)) >= 4
        if (stands_for or shaped) and (template := key.place("path", segment)) is not None:
            found.append(template)
        else:
            found.append(segment)
    return found
