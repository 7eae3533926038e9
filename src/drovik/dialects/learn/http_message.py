"""Messages of HTTP as they go over the wire (RFC 9112), as a page shows them: request line, headers, body.

The version may be missing, as people write requests; the address then stands whole, or its host in a header.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from urllib.parse import parse_qsl

from drovik.dialects.learn.curl import FormPart, SampleRequest, json_of
from drovik.dialects.learn.literals import literal_at

REQUEST_LINE = re.compile(
    r"^[ \t]*(POST|PUT|GET|PATCH|DELETE)[ \t]+(https?://[^\s`'\"]+|/[^\s`'\"]*)(?:[ \t]+HTTP/[\d.]+)?[ \t]*$",
    re.MULTILINE,
)
STATUS_LINE = re.compile(r"^[ \t]*HTTP/[\d.]+ (\d{3})[^\n]*$", re.MULTILINE)
_HEADER_LINE = re.compile(r"[ \t]*([!#$%&'*+.^_`|~0-9A-Za-z-]+):[ \t]*([^\r\n]*)(?:\n|\Z)")
_BODY_ENDS = re.compile(
    r"^[ \t]*(?:#{3,}.*|HTTP/[\d.]+ \d{3}.*|(?:POST|PUT|GET|PATCH|DELETE)[ \t]+\S+[ \t]+HTTP/.*)$", re.MULTILINE
)
_LOCAL = re.compile(r"(?:localhost|127\.|0\.0\.0\.0|\[::1\])")


@dataclass(frozen=True)
class Message:
    """The head of a message and its body as text; `end` is where the page goes on behind it."""

    headers: tuple[tuple[str, str], ...]
    body: str
    end: int

    def header(self, name: str) -> str:
        """The value of a header, or an empty text."""
        return next((value for key, value in self.headers if key.lower() == name), "")


def message_at(text: str, at: int) -> Message:
    """The headers and the body that stand behind a first line that ends at `at`."""
    at = min(len(text), at + 1)
    headers = []
    while match := _HEADER_LINE.match(text, at):
        headers.append((match[1], match[2].strip()))
        at = match.end()
    if text[at : at + 1] == "\n":
        at += 1
    elif headers and text[at:].strip():
        return Message(tuple(headers), "", at)
    start = at + len(text[at:]) - len(text[at:].lstrip())
    found = literal_at(text, start)
    ends = _BODY_ENDS.search(text, at)
    if found is not None:
        return Message(tuple(headers), text[start : found[1]], found[1])
    end = ends.start() if ends else len(text)
    return Message(tuple(headers), text[at:end].strip("\n"), end)


def request_of_message(method: str, target: str, message: Message, base: str | None) -> SampleRequest | None:
    """The request of a message; None where nothing says to which host it goes."""
    url = target
    if target.startswith("/"):
        host = message.header("host")
        root = f"{'http' if _LOCAL.match(host) else 'https'}://{host}" if host else base
        if root is None:
            return None
        url = root.rstrip("/") + target
    kind = message.header("content-type")
    headers = message.headers
    body = message.body
    if not body.strip():
        return SampleRequest(method, url, headers)
    if boundary := re.search(r"boundary=\"?([^\";\s]+)", kind):
        without = tuple(one for one in headers if one[0].lower() != "content-type")
        return SampleRequest(method, url, without, "multipart", _parts(body, boundary[1]))
    if "json" in kind or (not kind and body.lstrip()[:1] in ("{", "[")):
        return SampleRequest(method, url, headers, "json", json_of(body))
    if "urlencoded" in kind:
        return SampleRequest(
            method, url, headers, "form", parse_qsl(re.sub(r"\s*\n\s*", "", body), keep_blank_values=True)
        )
    return SampleRequest(
        method, url, headers, "raw", "@body" if kind.startswith(("image/", "application/octet")) else body
    )


def _parts(body: str, boundary: str) -> list[FormPart]:
    """The parts of a multipart body (RFC 7578)."""
    parts = []
    for text in body.split(f"--{boundary}"):
        head, _, content = text.strip("\n").partition("\n\n")
        name = re.search(r"\bname=\"?([^\";\n]+)", head)
        if name is None:
            continue
        kind = re.search(r"content-type:[ \t]*(\S+)", head, re.IGNORECASE)
        is_file = "filename" in head or bool(kind and kind[1].startswith("image/"))
        parts.append(FormPart(name[1], content.strip("\n"), is_file, kind[1] if kind else None))
    return parts
