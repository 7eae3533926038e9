"""A curl command line → the request that it would send. Nothing is sent, and no file but `@file` is read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import parse_qsl, urlsplit

from drovik.dialects.learn.literals import NotALiteral, read_literal
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.errors import Problem, SampleError

BodyKind = Literal["none", "json", "form", "multipart", "raw"]

_WITH_VALUE = {
    "H": "header", "d": "data", "F": "form", "X": "request", "u": "user", "b": "cookie", "A": "user-agent",
    "e": "referer", "o": "output", "w": "write-out", "m": "max-time", "x": "proxy", "T": "upload-file", "E": "cert",
    "K": "config", "c": "cookie-jar", "D": "dump-header", "y": "speed-time", "Y": "speed-limit", "r": "range",
}  # fmt: skip
"""The short options that take a value."""

_LONG_WITH_VALUE = {
    *_WITH_VALUE.values(), "url", "data-raw", "data-binary", "data-ascii", "data-urlencode", "json", "form-string",
    "oauth2-bearer", "connect-timeout", "retry", "retry-delay", "retry-max-time", "cacert", "capath", "key",
    "key-type", "resolve", "aws-sigv4", "url-query", "ciphers", "interface", "limit-rate", "max-redirs", "proto",
    "tls-max", "unix-socket", "variable",
}  # fmt: skip
_DATA = ("data", "data-raw", "data-binary", "data-ascii", "data-urlencode", "json")
_SIGNED = ("aws-sigv4", "ntlm", "digest", "negotiate", "anyauth")
SIGNED = "this service wants its requests signed, which Drovik does not do"


@dataclass(frozen=True)
class FormPart:
    """A part of a multipart body: a value, or a file with its media type."""

    name: str
    value: str
    file: bool = False
    media_type: str | None = None


@dataclass(frozen=True)
class SampleRequest:
    """A request as a sample shows it.

    `body` is a JSON value for `json`, pairs for `form`, parts for `multipart`, and for `raw` the text or
    `@file` as it stood there.
    """

    method: str
    url: str
    headers: tuple[tuple[str, str], ...]
    kind: BodyKind = "none"
    body: Any = None

    def header(self, name: str) -> str:
        """The value of a header, or an empty text."""
        return next((value for key, value in self.headers if key.lower() == name.lower()), "")


@dataclass
class _Options:
    urls: list[str] = field(default_factory=list)
    given: list[tuple[str, str]] = field(default_factory=list)
    flags: set[str] = field(default_factory=set)

    def all(self, *names: str) -> list[tuple[str, str]]:
        return [(name, value) for name, value in self.given if name in names]

    def last(self, name: str) -> str | None:
        return next((value for key, value in reversed(self.given) if key == name), None)


def read_curl(words: Sequence[str], stdin: str | None, files: SampleFiles) -> SampleRequest:
    """The request of a curl command's words.

    :param stdin: what the command would read from standard input.
    :param files: reads its `@file`.
    :raises DrovikError: where it has no URL, is to be signed, or names a file that is not there.
    """
    options = _Options()
    for name, value in _options(words):
        if name == "url":
            options.urls.append(value or "")
        elif value is None:
            options.flags.add(name)
        else:
            options.given.append((name, value))
    signed = [name for name in _SIGNED if name in options.flags or options.last(name) is not None]
    if signed:
        raise SampleError(Problem(f"--{signed[0]}: {SIGNED}", "put a service before it that does the signing"))
    if not options.urls:
        raise SampleError(Problem("the curl command has no URL", "paste it whole, from 'curl' to its last line"))
    url = options.urls[0] if "://" in options.urls[0] else f"https://{options.urls[0]}"
    headers = _headers(options)
    kind, body, url = _body(options, headers, stdin, files, url)
    if kind == "json" and not any(name.lower() == "content-type" for name, _ in headers):
        headers.append(("Content-Type", "application/json"))
    method = options.last("request") or (
        "GET" if kind == "none" else "PUT" if options.last("upload-file") else "POST"
    )
    return SampleRequest(method.upper(), url, tuple(headers), kind, body)


def _options(words: Sequence[str]) -> Iterator[tuple[str, str | None]]:
    """Every option with its value, None for a flag; a URL is the option `url`."""
    rest = list(words[1:])
    while rest:
        word = rest.pop(0)
        if word.startswith("--") and len(word) > 2:
            name, given, value = word[2:].partition("=")
            if name not in _LONG_WITH_VALUE:
                yield name, None
            elif given:
                yield name, value
            else:
                yield name, rest.pop(0) if rest else ""
        elif word.startswith("-") and len(word) > 1:
            yield from _short(word[1:], rest)
        else:
            yield "url", word


def _short(letters: str, rest: list[str]) -> Iterator[tuple[str, str | None]]:
    """Letters of flags that may be written together; the last may take the rest of the word, or the next one."""
    for at, letter in enumerate(letters):
        if letter in _WITH_VALUE:
            glued = letters[at + 1 :]
            yield _WITH_VALUE[letter], glued or (rest.pop(0) if rest else "")
            return
        yield {"G": "get", "I": "head"}.get(letter, letter), None


def _headers(options: _Options) -> list[tuple[str, str]]:
    headers = []
    for _, line in options.all("header"):
        name, _, value = line.partition(":")
        if value.strip():
            headers.append((name.strip(), value.strip()))
    cookie = options.last("cookie")
    if cookie is not None and "=" in cookie:
        headers.append(("Cookie", cookie))
    user = options.last("user")
    if user is not None:
        headers.append(("Authorization", f"Basic <base64 of {user}>"))
    bearer = options.last("oauth2-bearer")
    if bearer is not None:
        headers.append(("Authorization", f"Bearer {bearer}"))
    return headers


def _body(
    options: _Options, headers: list[tuple[str, str]], stdin: str | None, files: SampleFiles, url: str
) -> tuple[BodyKind, Any, str]:
    """The kind of body, the body, and the URL, to which `-G` adds the data."""
    parts = [_form_part(name, value) for name, value in options.all("form", "form-string")]
    if parts:
        return "multipart", parts, url
    file = options.last("upload-file")
    if file is not None:
        return "raw", f"@{file}", url
    pieces = options.all(*_DATA)
    if not pieces:
        return "none", None, url
    kind = next((value for name, value in headers if name.lower() == "content-type"), "")
    if len(pieces) == 1 and pieces[0][1].startswith("@") and _is_picture_file(pieces[0][1], kind):
        return "raw", pieces[0][1], url
    texts = [_data(name, value, stdin, files) for name, value in pieces]
    text = "&".join(texts) if len(texts) > 1 else texts[0]
    if "get" in options.flags:
        return "none", None, f"{url}{'&' if urlsplit(url).query else '?'}{text}"
    if any(name == "json" for name, _ in pieces) or "json" in kind.lower() or text.lstrip()[:1] in ("{", "["):
        return "json", json_of(text), url
    if "=" in text and not kind.startswith("text/"):
        return "form", parse_qsl(text, keep_blank_values=True), url
    return "raw", text, url


def _is_picture_file(value: str, kind: str) -> bool:
    ending = value.lower().rpartition(".")[2]
    return kind.startswith(("image/", "application/octet-stream")) or ending in ("jpg", "jpeg", "png", "webp", "gif")


def _data(name: str, value: str, stdin: str | None, files: SampleFiles) -> str:
    if value.startswith("@") and name != "data-raw":
        if value == "@-":
            return stdin or ""
        return files.text(value[1:])
    return value


def _form_part(option: str, value: str) -> FormPart:
    name, _, rest = value.partition("=")
    if option == "form-string" or not rest.startswith(("@", "<")):
        content, _, kind = rest.partition(";type=") if option == "form" else (rest, "", "")
        return FormPart(name, content.strip('"') if content.startswith('"') else content, False, kind or None)
    file, *settings = rest[1:].split(";")
    kind = next((one.partition("=")[2] for one in settings if one.strip().startswith("type=")), "")
    return FormPart(name, file.strip('"'), True, kind or None)


def json_of(text: str) -> Any:
    """The JSON value of a sample's text, also where it is only nearly JSON: comments, a comma too many, an ellipsis.

    :raises DrovikError: where it cannot be read.
    """
    try:
        return read_literal(text.strip())
    except NotALiteral as error:
        what = f"the sample's body is not JSON: {error}"
        remedy = "fix it there; names in <brackets> may stand for values, in quotes"
        raise SampleError(Problem(what, remedy)) from None
