"""One request of a dialect as templates, and the HTTP request that they make once their slots have values."""

from __future__ import annotations

import base64
import binascii
import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urlencode, urljoin, urlsplit

from drovik.dialects.template import Raw, Scope, compile_body, compile_text
from drovik.errors import Problem, RequestError
from drovik.project.dialects import HttpForm
from drovik.project.settings import is_loopback


@dataclass(frozen=True)
class HttpRequest:
    """A request ready to leave. Its `repr` shows neither headers nor body, for a key may be there."""

    method: str
    url: str
    headers: dict[str, str]
    body: bytes

    def __repr__(self) -> str:
        return f"HttpRequest({self.method} …, {len(self.body)} bytes)"


class RequestTemplate:
    """A dialect's request or step, compiled once.

    :raises DrovikError: where a template cannot be compiled.
    """

    def __init__(self, form: HttpForm) -> None:
        self.form = form
        self._path = compile_text(form.path)
        self._headers = {name: compile_text(value) for name, value in form.headers.items()}
        self._query = {name: compile_text(value) for name, value in form.query.items()}
        self._raw = compile_text(form.raw) if form.raw is not None else None
        tree = form.tree()
        self._tree = compile_body(tree) if tree is not None else None
        self.slots = frozenset(
            [name for text in (self._path, *self._headers.values(), *self._query.values()) for name in text.slots()]
            + (list(self._raw.slots()) if self._raw else [])
            + (list(self._tree.slots()) if self._tree else [])
        )

    def fill(self, url: str, scope: Scope) -> HttpRequest:
        """The request, its slots filled.

        :param url: the endpoint's address.
        :raises DrovikError: where a slot has no value, or the body comes out empty.
        """
        body, kind = self._body(scope)
        headers = {"Content-Type": kind} if kind else {}
        for name, template in self._headers.items():
            value = template.as_text(scope)
            if value is not None:
                for other in [one for one in headers if one.lower() == name.lower()]:
                    del headers[other]
                headers[name] = _one_line(name, value)
        return HttpRequest(self.form.method, self._address(url, scope), headers, body)

    def _address(self, url: str, scope: Scope) -> str:
        if self.form.path.startswith("/"):
            address = url + (self._path.as_text(scope, lambda text: quote(text, safe="")) or "")
        else:
            named = self._path.as_text(scope) or ""
            try:
                address = urljoin(url + "/", named)
                self._require_allowed_host(url, address)
            except ValueError:
                what = f"the service names '{named[:100]}', which is not a URL"
                raise RequestError(Problem(what, "nothing is sent there")) from None
        query = [(name, template.as_text(scope)) for name, template in self._query.items()]
        pairs = "&".join(
            f"{quote(name, safe='')}={quote(value, safe='')}" for name, value in query if value is not None
        )
        return f"{address}{'&' if '?' in address else '?'}{pairs}" if pairs else address

    def _require_allowed_host(self, url: str, address: str) -> None:
        """An address out of a reply may lie elsewhere; the key and plain text go to the endpoint's own host only."""
        own, there = urlsplit(url), urlsplit(address)
        if (own.scheme, own.netloc) == (there.scheme, there.netloc):
            return
        if {"key", "key.basic"} & self.slots or there.scheme != "https" or is_loopback(there.hostname):
            what = f"the service sends on to {there.scheme}://{there.netloc}, another host than the endpoint's"
            raise RequestError(Problem(what, "no key and no picture is sent there"))

    def _body(self, scope: Scope) -> tuple[bytes, str]:
        """The body's bytes and their media type."""
        if self._raw is not None:
            return self._raw_body(scope)
        if self._tree is None:
            return b"", ""
        out: list[bytes] = []
        if not self._tree.fill(scope, out):
            raise RequestError(Problem("the body is empty", "fix the dialect's body"))
        filled = b"".join(out)
        if self.form.multipart is not None:
            return multipart(json.loads(filled))
        if self.form.form is not None:
            pairs = [(name, _plain(value)) for name, value in json.loads(filled).items()]
            return urlencode(pairs).encode(), "application/x-www-form-urlencoded"
        return filled, "application/json"

    def _raw_body(self, scope: Scope) -> tuple[bytes, str]:
        assert self._raw is not None
        slots = list(self._raw.slots())
        if len(self._raw.pieces) == 1 and slots and isinstance(value := scope.get(slots[0]), Raw):
            return base64.b64decode(value.data), "application/octet-stream"
        return (self._raw.as_text(scope) or "").encode(), "text/plain; charset=utf-8"


def multipart(parts: list[Any]) -> tuple[bytes, str]:
    """Parts as `multipart/form-data` (RFC 7578), and its media type with the boundary.

    :param parts: of each its `name`, and its `value` (text, or any JSON), or its `bytes` in base64 with
        `file` and `type`.
    :raises DrovikError: where a part has no name, or its bytes are no base64.
    """
    boundary = f"drovik-{secrets.token_hex(16)}"
    out = []
    for part in parts:
        if not isinstance(part, dict) or not isinstance(part.get("name"), str):
            raise RequestError(Problem("a part of the multipart body has no 'name'", "fix the dialect"))
        head = f'Content-Disposition: form-data; name="{_quoted(part["name"])}"'
        if "file" in part:
            head += f'; filename="{_quoted(str(part["file"]))}"'
        if "type" in part:
            head += f"\r\nContent-Type: {_one_line('Content-Type', str(part['type']))}"
        out.append(f"--{boundary}\r\n{head}\r\n\r\n".encode() + _part_body(part) + b"\r\n")
    return b"".join(out) + f"--{boundary}--\r\n".encode(), f"multipart/form-data; boundary={boundary}"


def _part_body(part: Mapping[str, Any]) -> bytes:
    if "bytes" not in part:
        return _plain(part.get("value", "")).encode("utf-8", "replace")
    try:
        return base64.b64decode(str(part["bytes"]), validate=True)
    except (binascii.Error, ValueError):
        what = f"the bytes of the part '{part['name']}' are no base64"
        raise RequestError(Problem(what, "put {image.base64} there")) from None


def _quoted(name: str) -> str:
    """A name as RFC 7578 wants it in a header (the HTML standard's escapes)."""
    return name.replace("\r", "%0D").replace("\n", "%0A").replace('"', "%22")


def _plain(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def _one_line(name: str, value: str) -> str:
    if any(char in value for char in "\r\n\0"):
        raise RequestError(
            Problem(f"the header '{name}' would hold a line break", "take it out of the key or the dialect")
        )
    return value
