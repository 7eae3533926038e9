"""What stands on a page, in its order: requests in every form, and blocks that may be replies to them."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from drovik.dialects.learn.curl import SampleRequest, read_curl
from drovik.dialects.learn.http_message import REQUEST_LINE, STATUS_LINE, message_at, request_of_message
from drovik.dialects.learn.literals import literal_at
from drovik.dialects.learn.pages import Page, Stretch, last_words
from drovik.dialects.learn.powershell import powershell_requests
from drovik.dialects.learn.programs import FoundRequest, comments_of, javascript_requests, python_requests
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.dialects.learn.shell import read_command
from drovik.dialects.learn.shell_variables import ShellVariables

Sort = Literal["request", "program", "json", "events", "message", "text"]

_PROMPT = (
    r"(?:[$>%#][ \t]+|PS[^\n>]{0,80}>[ \t]*|[A-Za-z]:\\[^\n>]{0,80}>[ \t]*|[\w.\-]+@[\w.\-]+[^\n$#]{0,60}[$#][ \t]+)?"
)
_CURL = re.compile(
    rf"^[ \t]*{_PROMPT}(?:[^\n|'\"]*(?:'[^']*'|\"(?:[^\"\\]|\\.)*\")?[ \t]*\|[ \t]*)?(?=curl(?:\.exe)?[ \t\\])",
    re.MULTILINE,
)
_PIPED = re.compile(
    r"(?:echo|printf)[ \t]+(?:-\w+[ \t]+)*(?P<quote>['\"])(?P<text>.*?)(?P=quote)[ \t]*\|[ \t]*\Z", re.DOTALL
)
_JSON = re.compile(r"^[ \t]*(?:[-<→=>]+[ \t]*)?(?=[{\[])", re.MULTILINE)
_EVENT = re.compile(r"^[ \t]*(?:event|data|id):[^\n]*", re.MULTILINE)
_EVENTS = re.compile(r"(?:[ \t]*(?:event|data|id|retry|)(?::[^\n]*)\n?|[ \t]*\n(?=[ \t]*(?:event|data|id|retry|):))+")
_PROGRAM = {"python": "python", "py": "python", "python3": "python", "javascript": "js", "js": "js", "node": "js",
            "typescript": "js", "ts": "js", "jsx": "js", "mjs": "js"}  # fmt: skip
_LOOKS_PYTHON = re.compile(r"^(?:import \w|from \w[\w.]* import )", re.MULTILINE)
_LOOKS_JAVASCRIPT = re.compile(r"\bfetch\s*\(|\bawait \w+\.(?:post|put|request)\(|\bconst \w+ =")
_CODE = frozenset(
    [
        "bash",
        "sh",
        "shell",
        "zsh",
        "powershell",
        "ps1",
        "bat",
        "cmd",
        "curl",
        "python",
        "py",
        "js",
        "javascript",
        "ts",
        "typescript",
        "json",
        "yaml",
        "toml",
        "xml",
        "html",
        "go",
        "java",
        "php",
        "ruby",
        "rust",
        "c",
        "cpp",
        "sql",
    ]
)
"""Languages in which a block is no plain text."""


@dataclass(frozen=True)
class Item:
    """A request, or what may be a reply: its text, its JSON value, its headers and status where it shows them.

    `label` is the text before it; `stretch` is in which part of the page; `comments` are what it says itself of
    its members. `is_output` is whether it stands behind a request in the same block.
    """

    sort: Sort
    label: str = ""
    request: SampleRequest | None = None
    text: str = ""
    value: Any = None
    headers: dict[str, str] = field(default_factory=dict)
    status: int | None = None
    comments: dict[str, str] = field(default_factory=dict)
    stretch: int = 0
    is_output: bool = False


def items_of(page: Page, files: SampleFiles, url: str | None = None) -> list[Item]:
    """All items of a page: of its code; of all of it where the code has no request."""
    variables = ShellVariables("\n".join(one.text for one in page.stretches))
    base = next(iter(re.findall(r"https?://[^\s`'\"<>)|,]+", page.prose())), url)
    files.put(_texts_on_page(page))
    reader = _ItemReader(files, variables, base)
    code = [one for one in page.stretches if one.is_code]
    found = [item for number, one in enumerate(code) for item in reader.items(one, number)]
    if not any(one.request is not None for one in found):
        loose = [item for number, one in enumerate(page.stretches) for item in reader.items(one, number)]
        found = loose if any(one.request is not None for one in loose) or not found else found
    return found


def _texts_on_page(page: Page) -> dict[str, str]:
    """The texts of files that the page shows: a block called by the file's name, or a here-document into it."""
    found: dict[str, str] = {}
    for one in page.stretches:
        name = (
            re.search(r"[`'\"*(\s]([\w\-./]+\.(?:json|txt))[`'\"*)]{0,2}\s*[:.]?\s*$", f" {one.label}")
            if one.is_code
            else None
        )
        if name and one.text.lstrip()[:1] in ("{", "["):
            found[name[1]] = one.text
        for match in re.finditer(
            r"cat[ \t]*>[ \t]*(\S+)[ \t]*<<-?[ \t]*['\"]?(\w+)['\"]?\n(.*?)\n[ \t]*\2\b", one.text, re.DOTALL
        ):
            found[match[1]] = match[3]
    return found


class _ItemReader:
    def __init__(self, files: SampleFiles, variables: ShellVariables, base: str | None) -> None:
        self._files, self._variables, self._base = files, variables, base

    def items(self, stretch: Stretch, number: int) -> Iterator[Item]:
        """The items of a stretch, in their order."""
        language = _PROGRAM.get(stretch.language, "")
        has_curl = _CURL.search(stretch.text) is not None
        for reads, fits in (
            (
                lambda text, _: powershell_requests(text),
                "Invoke-" in stretch.text or stretch.language in ("powershell", "ps1", "pwsh"),
            ),
            (
                python_requests,
                language == "python" or (not language and not has_curl and _LOOKS_PYTHON.search(stretch.text)),
            ),
            (
                javascript_requests,
                language == "js" or (not language and not has_curl and _LOOKS_JAVASCRIPT.search(stretch.text)),
            ),
        ):
            found = reads(stretch.text, self._base) if fits else []
            if found:
                yield from self._of_program(stretch, number, found, reads in (python_requests, javascript_requests))
                return
        if not language or stretch.text.lstrip()[:1] in ("{", "["):
            yield from self._scanned(stretch, number)

    def _of_program(
        self, stretch: Stretch, number: int, found: list[FoundRequest], is_program: bool
    ) -> Iterator[Item]:
        """The requests of a program, and what its comments show behind each."""
        ends = [*(one.end for one in found[1:]), len(stretch.text)]
        for one, end in zip(found, ends, strict=True):
            yield Item("program" if is_program else "request", stretch.label, one.request, stretch=number)
            behind = stretch.text[one.end : end]
            if is_program:
                for comment in comments_of(behind):
                    yield from self._scanned(Stretch(comment, False, "", ""), number)
            else:
                yield from self._scanned(Stretch(behind.partition("\n")[2], False, "", ""), number)

    def _scanned(self, stretch: Stretch, number: int) -> Iterator[Item]:
        """What begins at a line's beginning, from the top to the end; what lies between is what is said of it."""
        text = stretch.text
        at, asked = 0, False
        while (begins := _next(text, at)) is not None:
            match, reads = begins
            between = text[at : match.start()]
            item, end = reads(self, text, match)
            if item is None:
                at = end
                continue
            if at and item.request is not None and asked:
                yield from _text_of(between, stretch, number, asked)
            label = _label(between) or (stretch.label if not between.strip() else "")
            yield replace(item, label=label, stretch=number, is_output=asked)
            asked = asked or item.request is not None
            at = end
        yield from _text_of(text[at:], stretch, number, asked)

    def curl(self, text: str, match: re.Match[str]) -> tuple[Item | None, int]:
        """A curl command."""
        command = read_command(text, match.end())
        piped = _PIPED.search(match[0])
        words = [self._variables.expanded(word) for word in command.words]
        stdin = command.stdin if command.stdin is not None else piped["text"] if piped else None
        if len(words) < 2:
            return None, max(command.end, match.end() + 1)
        comments = {
            name: said for word in words if word.lstrip()[:1] == "{" for name, said in _comments_in(word).items()
        }
        return Item("request", request=read_curl(words, stdin, self._files), comments=comments), command.end

    def asked_by_message(self, text: str, match: re.Match[str]) -> tuple[Item | None, int]:
        """A request as it goes over the wire."""
        message = message_at(text, match.end())
        if not message.headers and not message.body:
            return None, match.end()
        request = request_of_message(match[1], match[2], message, self._base)
        return (Item("request", request=request) if request else None), message.end

    def replied_by_message(self, text: str, match: re.Match[str]) -> tuple[Item | None, int]:
        """A reply as it comes over the wire."""
        nexts = [
            begins.start()
            for sign in (_CURL, REQUEST_LINE, STATUS_LINE)
            if (begins := sign.search(text, match.end()))
        ]
        message = message_at(text[: min(nexts, default=len(text))], match.end())
        found = literal_at(message.body, 0)
        body = _plain_json(message.body, found)
        return Item("message", text=body, headers=dict(message.headers), status=int(match[1])), message.end

    def value(self, text: str, match: re.Match[str]) -> tuple[Item | None, int]:
        """An object or a list."""
        found = literal_at(text, match.end())
        if (
            found is None
            or not isinstance(found[0], dict | list)
            or not found[0]
            or (isinstance(found[0], list) and not isinstance(found[0][0], dict))
        ):
            return None, match.end() + 1
        body = _plain_json(text[match.end() : found[1]], found)
        return Item("json", text=body, value=found[0], comments=found[2]), found[1]

    def events(self, text: str, match: re.Match[str]) -> tuple[Item | None, int]:
        """Server-sent events."""
        whole = _EVENTS.match(text, match.start())
        assert whole is not None
        lines = "\n".join(line.strip() for line in whole[0].rstrip().split("\n"))
        if not re.search(r"^data:", lines, re.MULTILINE):
            return None, whole.end()
        return Item("events", text=lines), whole.end()


def _comments_in(text: str) -> dict[str, str]:
    found = literal_at(text.lstrip(), 0)
    return found[2] if found is not None else {}


_Reads = Callable[[_ItemReader, str, "re.Match[str]"], tuple[Item | None, int]]
_BEGINNINGS: tuple[tuple[re.Pattern[str], _Reads], ...] = (
    (_CURL, _ItemReader.curl),
    (REQUEST_LINE, _ItemReader.asked_by_message),
    (STATUS_LINE, _ItemReader.replied_by_message),
    (_EVENT, _ItemReader.events),
    (_JSON, _ItemReader.value),
)


def _next(text: str, at: int) -> tuple[re.Match[str], _Reads] | None:
    """What begins next."""
    found = [(match, reads) for sign, reads in _BEGINNINGS if (match := sign.search(text, at))]
    return min(found, key=lambda one: one[0].start(), default=None)


def _plain_json(text: str, found: tuple[Any, int, dict[str, str]] | None) -> str:
    """JSON as it stood, or without its slips."""
    try:
        json.loads(text, strict=False)
    except (ValueError, RecursionError):
        return json.dumps(found[0], ensure_ascii=False, indent=1) if found else text
    return text


def _label(between: str) -> str:
    return last_words(re.sub(r"^[ \t]*#+(?=\s)", "#", between, flags=re.MULTILINE))


def _text_of(text: str, stretch: Stretch, number: int, asked: bool) -> Iterator[Item]:
    """Plain text that may be a reply: a block of its own, or what stands behind a request in its block."""
    bare = text.strip("\n")
    fits = stretch.language not in _CODE or asked
    is_list = bare.lstrip().startswith(("#", "-", "*")) or bare[-1:] in (":", "`")
    paragraph = asked and "\n\n" not in bare and not is_list
    if (
        (stretch.is_code or paragraph)
        and fits
        and bare.strip()
        and not re.fullmatch(r"\s*(?:(?:#|\.\.\.|;|done)[^\n]*\s*)+", bare)
    ):
        yield Item("text", "" if asked else stretch.label, text=bare, stretch=number, is_output=asked)
