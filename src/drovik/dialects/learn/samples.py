"""A pasted sample, or a page of documentation → its requests, each with the replies that stand after it.

Which block is a reply, which the example of an error and which neither follows from its place, the words
before it, and its shape: a block that is not understood becomes nothing.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from drovik.dialects.learn.curl import SampleRequest, json_of
from drovik.dialects.learn.openapi import openapi_document, operation_of
from drovik.dialects.learn.page_items import Item, items_of
from drovik.dialects.learn.pages import Page, read_page
from drovik.dialects.learn.placeholders import mark_in
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.errors import Problem, SampleError
from drovik.project.key_signs import is_secret_name

_STATUS_LINE = re.compile(r"HTTP/[\d.]+ (\d{3})[^\n]*\n")
_HEADER_LINE = re.compile(r"([!#$%&'*+.^_`|~0-9A-Za-z-]+):[ \t]*([^\r\n]*)\r?\n")
_LANGUAGES = (
    (
        "Python",
        re.compile(r"^\s*(?:import \w+|from \w[\w.]* import|with \w+\.|print\(|\w+ = \w+\.\w+\()", re.MULTILINE),
    ),
    ("JavaScript", re.compile(r"\b(?:const|let|var) \w+ =|\bawait \w|=>|require\(|\bfetch\(|console\.log")),
    ("Go", re.compile(r"^package \w+|\bfunc \w+\(|:= http\.", re.MULTILINE)),
    ("PHP", re.compile(r"<\?php|\$\w+ = curl_init")),
    ("Java or C#", re.compile(r"\b(?:public|private) (?:static )?(?:class|void)|\bnew \w+\(.*\);|\busing System")),
    ("Ruby", re.compile(r"^require ['\"]|Net::HTTP|\bend$", re.MULTILINE)),
    ("Rust", re.compile(r"\bfn main\(|let mut \w+|::new\(\)")),
    ("PowerShell", re.compile(r"Invoke-(?:RestMethod|WebRequest)|\$\w+ = @\{")),
)
_IS_ERROR = re.compile(
    r"error|wrong|fail|refus|invalid|denied|unauthori|forbidden|not (?:valid|accepted|known|found|allowed)|problem"
    r"|exception|reject|unknown|\blost\b|✗|✘|❌|\b[45]\d\d\b", re.IGNORECASE,
)  # fmt: skip
_IS_NO_ERROR = re.compile(
    r"(?:no|without|not an?|nothing|unless)\s+(?:\w+\s+)?(?:errors?|problems?|wrong|fail\w*)", re.IGNORECASE
)
_IS_REPLY = re.compile(
    r"repl(?:y|ies)|respon|answer|output|returns?|returned|prints?|result|gives?|comes? back|back|200|→|receive",
    re.IGNORECASE,
)
_IS_REQUEST = re.compile(r"\brequest(?: body)?\b|\bbody\b|\bpayload\b|\bsend\b|\binput\b", re.IGNORECASE)
_IS_PIECE = re.compile(
    r"\b(?:first|last|next|final|second|each|every|pieces?|chunks?|parts?|lines?|stream\w*|then|finally)\b",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class SampleReply:
    """A reply as a sample shows it; the headers only where the sample shows them.

    `is_error` is whether the sample says that it is one; `label` is the text before it.
    """

    text: str
    headers: dict[str, str] = field(default_factory=dict)
    status: int | None = None
    is_error: bool = False
    label: str = ""


@dataclass(frozen=True)
class Exchange:
    """A request of a sample, the replies that stand after it, what the page tells of names, and all its prose."""

    request: SampleRequest
    replies: tuple[SampleReply, ...] = ()
    told: Mapping[str, str] = field(default_factory=dict)
    prose: str = ""


def read_sample(text: str, files: SampleFiles, url: str | None = None) -> list[Exchange]:
    """The exchanges of a sample, in their order.

    :param files: reads the `@file` of its curl commands.
    :param url: where a sample that is a JSON body alone is sent to, or where a document's service is.
    :raises DrovikError: if there is no request in it.
    """
    document = openapi_document(text)
    if document is not None:
        return [_of_operation(document, url)]
    page = read_page(text)
    items = items_of(page, files, url)
    found = _exchanges(items, _alone(items, page, url))
    if not found:
        raise SampleError(_no_request(text))
    told = dict(page.told)
    for item in items:
        for name, words in item.comments.items():
            told[name] = f"{words}; {told[name]}" if name in told else words
    prose = page.prose()
    return [replace(_with_key(one, prose), told=told, prose=prose) for one in found]


def _of_operation(document: dict[str, Any], url: str | None) -> Exchange:
    operation = operation_of(document, url)
    replies = [SampleReply(operation.good)] if operation.good else []
    replies += [SampleReply(operation.error, is_error=True)] if operation.error else []
    return Exchange(operation.request, tuple(replies), operation.told)


# Which item is what.


def _alone(items: list[Item], page: Page, url: str | None) -> SampleRequest | None:
    """The request of a page that shows its body alone: the address is given, or is in the page's own words."""
    if any(one.request is not None for one in items):
        return None
    method = "POST"
    headers: tuple[tuple[str, str], ...] = (("Content-Type", "application/json"),)
    if url is None:
        text = page.prose()
        line = re.search(r"\b(POST|PUT)[`*\s]+(https?://[^\s`'\"<>)]+|/[\w/.{}\-:]+)", text)
        base = re.search(r"https?://[^\s`'\"<>)|]+", text)
        told = re.search(r"\b(?:url|address|endpoint)\b[\s:|`*]*(https?://[^\s`'\"<>)|]+)", text, re.IGNORECASE)
        if line is not None and (line[2].startswith("http") or base):
            method = line[1]
            url = line[2] if line[2].startswith("http") else f"{base[0].rstrip('/')}{line[2]}" if base else None
        elif told is not None and urlsplit(told[1]).path.strip("/"):
            url = told[1]
        else:
            return None
        headers += _headers_in(text)
    body = next((one for one in items if one.sort == "json" and not _says(one, _IS_ERROR)), None)
    if body is None or url is None:
        return None
    labelled = [
        one for one in items if one.sort == "json" and _IS_REQUEST.search(one.label) and not _says(one, _IS_REPLY)
    ]
    body = labelled[0] if labelled else body
    items.remove(body)
    return SampleRequest(method, url, headers, "json", body.value)


def _headers_in(prose: str) -> tuple[tuple[str, str], ...]:
    """The headers that a page's own words name, with what is to be filled in."""
    found = re.findall(
        r"`([A-Z][\w-]*):\s+([^`\n]*(?:KEY|TOKEN|SECRET|<[^>]+>|\$\w+|\{\w+\})[^`\n]*)`", prose, re.IGNORECASE
    )
    return tuple(dict(found).items())


_KEY_HEADER = re.compile(
    r"(?:key|token|secret|credential)s?\b[^.\n]{0,60}?(?:the|a)?\s*`([A-Za-z][\w-]+)`\s*(?:request\s*)?header"
    r"|`([A-Za-z][\w-]+)`\s*header[^.\n]{0,40}(?:key|token|secret)|header\s*`([A-Za-z][\w-]+)`[^.\n]{0,40}(?:key|token|secret)",
    re.IGNORECASE,
)  # fmt: skip
_KEY_QUERY = re.compile(
    r"(?:key|token|secret)s?\b[^.\n]{0,60}?`\??(\w+)(?:=[^`]*)?`\s*(?:query|parameter|in the query)"
    r"|(?:key|token|secret)s?\b[^.\n]{0,40}query string\s*\(?`\??(\w+)", re.IGNORECASE,
)  # fmt: skip
_NO_KEY = re.compile(r"\bno\s+(?:api\s+)?keys?\b|without (?:a|any) key|key is not needed", re.IGNORECASE)


def _with_key(one: Exchange, prose: str) -> Exchange:
    """An exchange whose request shows no key, with the one that the page tells of in its own words."""
    request = one.request
    shown = any(mark_in(value) or is_secret_name(name) for name, value in request.headers)
    shown = shown or any(is_secret_name(name) for name, _ in parse_qsl(urlsplit(request.url).query))
    if shown or _NO_KEY.search(prose) or request.method == "GET":
        return one
    inline = [pair for pair in _headers_in(prose) if pair not in request.headers]
    if inline:
        return replace(one, request=replace(request, headers=(*request.headers, *inline)))
    if header := _KEY_HEADER.search(prose):
        name = next(group for group in header.groups() if group)
        value = "Bearer <KEY>" if name.lower() == "authorization" else "<KEY>"
        return replace(one, request=replace(request, headers=(*request.headers, (name, value))))
    if query := _KEY_QUERY.search(prose):
        name = next(group for group in query.groups() if group)
        joined = f"{request.url}{'&' if '?' in request.url else '?'}{name}=<KEY>"
        return replace(one, request=replace(request, url=joined))
    return one


def _exchanges(items: list[Item], alone: SampleRequest | None) -> list[Exchange]:
    found: list[tuple[SampleRequest, list[Item]]] = [(alone, [])] if alone is not None else []
    for item in items:
        if item.request is not None:
            if not _is_there(item, found):
                found.append((item.request, []))
        elif found:
            found[-1][1].append(item)
    bodies = [request.body for request, _ in found if request.kind == "json"]
    return [
        Exchange(request, tuple(_replies([one for one in items if one.sort != "json" or one.value not in bodies])))
        for request, items in found
    ]


def _is_there(item: Item, found: list[tuple[SampleRequest, list[Item]]]) -> bool:
    """Whether a request is only another form of one before it, as a page has them under its tabs."""
    request = item.request
    assert request is not None
    for other, _ in found:
        same = other.method == request.method and urlsplit(other.url)[:3] == urlsplit(request.url)[:3]
        if same and (
            item.sort == "program"
            or (request.kind == other.kind and _shape(other.body) == _shape(request.body) and request.kind != "none")
        ):
            return True
    return False


def _shape(body: Any) -> Any:
    """A body without the white space in it, so that the same one is known again."""
    return re.sub(r"\s", "", str(body))


def _says(item: Item, sign: re.Pattern[str]) -> bool:
    return sign.search(item.label) is not None


def _is_error(item: Item) -> bool:
    if item.status is not None:
        return item.status >= 400
    if re.search(r"\b2\d\d\b", item.label) and not re.search(r"\b[45]\d\d\b", item.label):
        return False
    return _IS_ERROR.search(_IS_NO_ERROR.sub("", item.label)) is not None


def _replies(items: list[Item]) -> Iterator[SampleReply]:
    """The replies among what follows a request: pieces of a stream as one, plain text only where nothing else is."""
    items = _joined_events(items)
    good = [one for one in items if one.sort == "json" and not _is_error(one)]
    for stream in _streams(items, good):
        yield stream
        good = []
    structured = [one for one in items if one.sort in ("json", "events", "message")]
    for item in items:
        if item.sort in ("events", "message") or (item.sort == "json" and (item in good or _is_error(item))):
            yield SampleReply(item.text, item.headers, item.status, _is_error(item), item.label)
        elif item.sort == "text" and not structured and (not item.label or _says(item, _IS_REPLY) or item.is_output):
            yield SampleReply(item.text, {}, None, _is_error(item), item.label)


def _joined_events(items: list[Item]) -> list[Item]:
    """The items, in which the events of one stream are one, however many blocks show them."""
    made: list[Item] = []
    for item in items:
        before = made[-1] if made else None
        if before is not None and before.sort == item.sort == "events" and not _is_error(item):
            made[-1] = replace(before, text=f"{before.text}\n\n{item.text}")
        else:
            made.append(item)
    return made


def _streams(items: list[Item], good: list[Item]) -> Iterator[SampleReply]:
    """Several JSON documents that are the pieces of one answer: one a line, or shown as the first and the last."""
    if len(good) < 2 or not all(isinstance(one.value, dict) for one in good):
        return
    shared = set.intersection(*(set(one.value) for one in good))
    texts = {name for name in shared for one in good if isinstance(one.value[name], str)}
    together = len({one.stretch for one in good}) == 1
    called = sum(_says(one, _IS_PIECE) for one in good) >= 2 or (_says(good[0], _IS_PIECE) and together)
    growing = any(len({str(one.value[name]) for one in good}) == len(good) for name in shared)
    if texts and growing and (called or (together and len(good) >= 3)):
        lines = "\n".join(_on_one_line(one) for one in good)
        yield SampleReply(lines, {}, None, False, good[0].label)


def _on_one_line(item: Item) -> str:
    return json.dumps(item.value, ensure_ascii=False)


# Replies that are given by themselves.


def read_reply(text: str) -> SampleReply:
    """A recorded reply, with its headers where they come before it."""
    text = text.replace("\r\n", "\n")
    status = _STATUS_LINE.match(text.lstrip() + "\n")
    if status is None:
        return SampleReply(text)
    rest = text.lstrip()[status.end() :] + "\n"
    headers = {}
    while match := _HEADER_LINE.match(rest):
        headers[match[1]] = match[2].strip()
        rest = rest[match.end() :]
    return SampleReply(rest.removeprefix("\n").removesuffix("\n"), headers, int(status[1]))


def _no_request(text: str) -> Problem:
    for language, sign in _LANGUAGES:
        if sign.search(text):
            what = f"this sample is a program in {language}, and no request in it could be read"
            return Problem(what, "take the curl form of it, which the same page has under another tab")
    if text.lstrip()[:1] in ("{", "["):
        json_of(text)  # says what is wrong with it, if anything is
        return Problem("this is a body without a URL", "say where it goes: --url https://…")
    if not text.strip():
        return Problem("the sample is empty", "paste the curl command from the service's documentation")
    return Problem("there is no request in the sample", "paste a curl command whole, from 'curl' to its last line")
