"""A pasted sample, or a page of documentation → its requests, each with the replies that stand after it."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from drovik.dialects.learn.curl import SampleRequest, json_of, read_curl
from drovik.dialects.learn.shell import SampleFiles, read_command
from drovik.errors import Problem, SampleError

_CURL = re.compile(r"^[ \t]*(?:[$>%#][ \t]+)?(?=curl(?:\.exe)?[ \t\\])", re.MULTILINE)
_FENCE = re.compile(r"^[ \t]*```[^\n]*\n(.*?)^[ \t]*```[ \t]*$", re.DOTALL | re.MULTILINE)
_PRE = re.compile(r"<pre\b[^>]*>(.*?)</pre>", re.DOTALL | re.IGNORECASE)
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


@dataclass(frozen=True)
class SampleReply:
    """A reply as a sample shows it; the headers only where the sample shows them."""

    text: str
    headers: dict[str, str] = field(default_factory=dict)
    status: int | None = None


@dataclass(frozen=True)
class Exchange:
    """A request of a sample, and the replies that stand after it."""

    request: SampleRequest
    replies: tuple[SampleReply, ...] = ()


def read_sample(text: str, files: SampleFiles, url: str | None = None) -> list[Exchange]:
    """The exchanges of a sample, in their order.

    :param files: reads the `@file` of its curl commands.
    :param url: where a sample that is a JSON body alone is sent to.
    :raises DrovikError: if there is no request in it.
    """
    found: list[tuple[SampleRequest, list[SampleReply]]] = []
    for block in _blocks(text):
        if url is not None and not _CURL.search(block) and not found and block.strip():
            headers = (("Content-Type", "application/json"),)
            found.append((SampleRequest("POST", url, headers, "json", json_of(block)), []))
            continue
        for part in _parts(block, files):
            if isinstance(part, SampleRequest):
                found.append((part, []))
            elif found:
                found[-1][1].append(part)
    if not found:
        raise SampleError(_no_request(text))
    return [Exchange(request, tuple(replies)) for request, replies in found]


def _blocks(text: str) -> list[str]:
    """The parts of a page that are code; all of a text that is not a page."""
    text = text.replace("\r\n", "\n").removeprefix("\N{ZERO WIDTH NO-BREAK SPACE}")
    if _PRE.search(text):
        return [html.unescape(re.sub(r"<[^>]+>", "", match[1])) for match in _PRE.finditer(text)]
    fenced = [match[1] for match in _FENCE.finditer(text if text.endswith("\n") else text + "\n")]
    return fenced or [text]


def _parts(block: str, files: SampleFiles) -> Iterator[SampleRequest | SampleReply]:
    at = 0
    while match := _CURL.search(block, at):
        yield from _replies(block[at : match.start()])
        command = read_command(block, match.end())
        yield read_curl(command.words, command.stdin, files)
        at = command.end
    yield from _replies(block[at:])


def _replies(text: str) -> Iterator[SampleReply]:
    text = text.strip("\n")
    if text.strip() and not re.fullmatch(r"\s*(?:#[^\n]*\s*)+", text):
        yield read_reply(text)


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
            what = f"this sample is a program in {language}"
            return Problem(what, "take the curl form of it, which the same page has under another tab")
    if text.lstrip()[:1] in ("{", "["):
        return Problem("this is a body without a URL", "say where it goes: --url https://…")
    if not text.strip():
        return Problem("the sample is empty", "paste the curl command from the service's documentation")
    return Problem("there is no curl command in the sample", "paste it whole, from 'curl' to its last line")
