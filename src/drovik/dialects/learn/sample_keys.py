"""The key in a sample request: in a header, the query, the body or the path; taken out, and written nowhere."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from drovik.dialects.learn.curl import SIGNED, SampleRequest
from drovik.dialects.learn.placeholders import is_mark, mark_in, variable_of
from drovik.dialects.learn.trees import Inference, Path, leaves, names_of, shown
from drovik.dialects.learn.vocabulary import folded_name
from drovik.dialects.template import escaped
from drovik.errors import Problem, SampleError
from drovik.project.key_signs import is_secret_name

_DROPPED = ("content-length", "host", "user-agent", "accept-encoding", "connection")
_OWN_NUMBERS = ("idempotency-key", "x-idempotency-key", "request-id", "x-request-id")
_SIGNED = re.compile(r"hmac|signature|signed|sigv\d", re.IGNORECASE)
_KEY_SHAPED = re.compile(r"(?=.*\d)(?=.*[A-Za-z])[A-Za-z0-9_\-.]{20,}$")
_NEVER_KEYS = ("accept", "content-type", "accept-language", "origin", "referer")
_MEMBERS = re.compile(
    r"(?:api|app|access|auth|user|licen[cs]e|secret)(?:key|token)|(?:client)?secret|password|auth(?:orization)?|credentials?"
)
_PERHAPS = frozenset(("key", "token", "pass", "code"))


_NAMES_OTHER = re.compile(r"model|image|picture|photo|question|prompt|text|url|file|engine|query", re.IGNORECASE)
"""What is to be filled in there is something else."""


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

    def place(self, where: str, value: str, why: str = "it is where keys go", sure: bool = True) -> str | None:
        """The template of a value with the key in it; None for a second key, which is left out.

        Drovik keeps one key for an endpoint.
        """
        before, own, after, slot = _parted(value)
        stands_for = mark_in(own) is not None
        if self.value is not None and own != self._own and not stands_for:
            why = "a second key: it is left out, for an endpoint has one"
            self.taken.append(Inference("key", where, f"…{own[-2:]}", why, sure=False))
            self.others += [own] if len(own) >= SHORTEST_KEY else []
            return None
        if self.value is None:
            self._own = own
            self.variable = variable_of(own) or self.variable
            self.value = "" if stands_for else own
            told = "a variable" if self.variable else "a place to fill in" if not self.value else f"…{own[-2:]}"
            if slot == "key.basic":
                why = "it is a name and a password, or a key alone: NAME:PASSWORD in the variable"
            self.taken.append(Inference("key", where, told, why, sure))
        else:
            self.taken.append(Inference("key", where, f"…{own[-2:]}", "the same key, or a place for it"))
        return f"{escaped(before)}{{{slot}}}{escaped(after)}"

    _own: str = ""


_BASIC = re.compile(
    r"(Basic\s+)(?:<base64 of (?P<own>.*)>|\$\(.*?(?P<echoed>[^\s\"'|]*:[^\s\"'|]*).*\)"
    r"|(?P<mark>.*(?:base64|b64).*))$", re.IGNORECASE,
)  # fmt: skip
_SCHEME = re.compile(r"((?:[A-Za-z][\w-]*:?\s+)?(?:\w+=)?[\"']?)([^\s\"']+)([\"']?)$")


def _parted(value: str) -> tuple[str, str, str, str]:
    """What comes before a key, such as `Bearer `, the key, what comes after it, and the key's slot."""
    if basic := _BASIC.match(value):
        own = next((one for one in (basic["own"], basic["echoed"]) if one), basic["mark"] or "<key>")
        own = "<key>" if " " in own else own
        return basic[1], own, "", "key.basic"
    mark = mark_in(value)
    if mark is not None:
        return value[: mark[0]], value[mark[0] : mark[1]], value[mark[1] :], "key"
    if match := _SCHEME.fullmatch(value):
        return match[1], match[2], match[3], "key"
    return "", value, "", "key"


def headers_of(
    sample: SampleRequest, key: Key, given: frozenset[str] = frozenset()
) -> tuple[dict[str, str], list[str]]:
    """The headers of a sample as templates, without those that are written anyway; and which are kept as they are.

    :param given: what earlier requests of the sample got: it is no key.

    :raises DrovikError: where one is a signature.
    """
    headers: dict[str, str] = {}
    fixed = []
    waiting: list[tuple[str, str]] = []
    for name, value in sample.headers:
        low = name.lower()
        if low in _DROPPED or (low == "content-type" and _is_written_anyway(value, sample.kind)):
            continue
        if any(one in value for one in given):
            headers[name] = escaped(value)
        elif low in _OWN_NUMBERS:
            headers[name] = "{request.id}"
            key.taken.append(Inference("request's own number", f"header {name}", value[:60], "by its name"))
        elif _carries_key(low, value):
            if _SIGNED.search(value.split(" ")[0]) and " " in value:
                what = f"the header '{name}' is a signature: {SIGNED}"
                raise SampleError(Problem(what, "put a service before it that does the signing"))
            template = key.place(f"header {name}", value)
            if template is not None:
                headers[name] = template
        elif mark_in(value) and low not in _NEVER_KEYS:
            waiting.append((name, value))
        else:
            headers[name] = escaped(value)
            fixed.append(f"header {name}")
    for name, value in waiting:
        headers |= _to_be_filled_in(name, value, key)
    return headers, fixed


def _to_be_filled_in(name: str, value: str, key: Key) -> dict[str, str]:
    """A header that is to be filled in, whose name says nothing of keys: the key, if there is none yet."""
    if key.value is None:
        template = key.place(f"header {name}", value, "it is what is to be filled in")
        return {name: template} if template is not None else {}
    slot = re.sub(r"\W+", "_", name.lower())
    why = f"it is to be filled in, and is not sent until settings.extra.{slot} of the model has it"
    key.taken.append(Inference("to be filled in", f"header {name}", value[:60], why, sure=False))
    return {name: f"{{extra.{slot}?}}"}


def _is_written_anyway(value: str, kind: str) -> bool:
    low = value.lower()
    return {"json": "application/json" in low, "form": "urlencoded" in low, "multipart": "multipart" in low}.get(
        kind, False
    )


def _carries_key(name: str, value: str) -> bool:
    if name in _NEVER_KEYS:
        return False
    last = value.rsplit(maxsplit=1)[-1] if value.split() else ""
    return name == "cookie" or is_secret_name(name) or _KEY_SHAPED.match(last) is not None


def keys_of_query(query: dict[str, str], key: Key) -> dict[str, str]:
    """The members of the query that are keys, as templates; they are taken out of `query`."""
    found = {}
    for name in list(query):
        value = query[name]
        names_key = is_secret_name(name) or _MEMBERS.fullmatch(folded_name(name))
        if names_key or (key.value is None and mark_in(value) and not _NAMES_OTHER.search(f"{name} {value}")):
            template = key.place(f"query {name}", query.pop(name))
            if template is not None:
                found[name] = template
    return found


def keys_of_body(tree: Any, key: Key) -> dict[Path, str]:
    """The members of a body that are keys, as templates; a second key's vanishes."""
    found = {}
    for path, value in leaves(tree):
        name = folded_name(names_of(path)[-1]) if names_of(path) else ""
        if not isinstance(value, str):
            continue
        secret_shaped = _KEY_SHAPED.match(value) or is_mark(value)
        says_key = is_mark(value) and key.value is None and re.search(r"key|secret|token|pass", value, re.IGNORECASE)
        if _MEMBERS.fullmatch(name) or (name in _PERHAPS and secret_shaped) or says_key:
            found[path] = key.place(shown(path), value) or "{extra.second_key?}"
    return found


def keys_of_path(segments: list[str], key: Key) -> list[str]:
    """The segments of a path, the key in them as a slot: where it stands for one, or nothing else is the key."""
    found = []
    for segment in segments:
        stands_for = is_mark(segment) and re.search(r"key|token|secret", segment, re.IGNORECASE)
        shaped = key.value is None and _KEY_SHAPED.match(segment) and len(re.findall(r"\d", segment)) >= 4
        if (stands_for or shaped) and (template := key.place("path", segment)) is not None:
            found.append(template)
        else:
            found.append(segment)
    return found
