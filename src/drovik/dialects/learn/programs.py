"""The requests of sample programs in Python and JavaScript, whose parts are literals: read, never run.

A call such as `post(URL, headers={…}, json={…})` or `fetch(URL, {method, headers, body})` says as much as a curl
command does. A variable that was given a literal is that literal; what was read from the environment is `$NAME`, and
what was made of a file stands for the file's base64.
"""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode, urlsplit

from drovik.dialects.learn.curl import BodyKind, FormPart, SampleRequest, json_of
from drovik.dialects.learn.literals import LiteralReader, NotALiteral
from drovik.errors import DrovikError

_METHODS = ("post", "put", "get", "patch", "delete", "request", "fetch")
_BASE64 = "<base64>"
_IS_ADDRESS = re.compile(r"url|base|host|endpoint|server", re.IGNORECASE)


@dataclass(frozen=True)
class FoundRequest:
    """A request in a text, and where the text goes on behind it."""

    request: SampleRequest
    end: int


def request_of_call(
    method: str, url: Any, headers: Any, query: Any = None, body: Any = None, kind: BodyKind = "none"
) -> SampleRequest | None:
    """The request that a call makes; None where it has no URL."""
    if not isinstance(url, str) or "://" not in url:
        return None
    if isinstance(query, Mapping) and query:
        url += ("&" if urlsplit(url).query else "?") + urlencode(
            {name: str(one) for name, one in query.items()}, safe="<>{}$"
        )
    pairs = tuple((str(name), str(one)) for name, one in headers.items()) if isinstance(headers, Mapping) else ()
    if kind == "json" and not any(name.lower() == "content-type" for name, _ in pairs):
        pairs = (*pairs, ("Content-Type", "application/json"))
    return SampleRequest(method.upper(), url, pairs, kind, body)


def text_body(text: Any) -> tuple[BodyKind, Any]:
    """The kind of a body that a call gives as one value: JSON where it reads as JSON."""
    if isinstance(text, Mapping | list):
        return "json", text
    if isinstance(text, str) and text.lstrip()[:1] in ("{", "["):
        try:
            return "json", json_of(text)
        except DrovikError:
            pass
    return ("raw", "@file") if text is not None else ("none", None)


# Python.


def python_requests(text: str, base: str | None = None) -> list[FoundRequest]:
    """The requests of a program in Python; none where it does not parse as one.

    :param base: the address that the page names, for a variable that is called like one.
    """
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError):
        return []
    lines = [0]
    for line in text.split("\n"):
        lines.append(lines[-1] + len(line) + 1)
    values = _PythonValues(base)
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign) and len(node.targets) == 1:
            values.assign(node.targets[0], node.value)
        elif isinstance(node, ast.Call):
            values.note_headers(node)
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and (request := _python_call(node, values)) is not None:
            found.append(FoundRequest(request, lines[(node.end_lineno or 1) - 1] + (node.end_col_offset or 0)))
    return sorted(found, key=lambda one: one.end)


def _python_call(node: ast.Call, values: _PythonValues) -> SampleRequest | None:
    name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
    if name.lower() not in (*_METHODS, "urlopen"):
        return None
    given = [values.of(one) for one in node.args]
    named = {one.arg: values.of(one.value) for one in node.keywords if one.arg}
    method = name
    if name.lower() == "request":
        method = str(named.get("method") or (given.pop(0) if given else "POST"))
    url = named.get("url", given[0] if given else None)
    if "json" in named:
        kind, body = "json", named["json"]
    elif "files" in named:
        kind, body = "multipart", _form_parts(named.get("data"), named["files"])
    elif isinstance(named.get("data"), Mapping) and name != "urlopen":
        kind, body = "form", [(str(one), str(value)) for one, value in named["data"].items()]
    else:
        kind, body = text_body(
            named.get("data", named.get("content", named.get("body", given[1] if len(given) > 1 else None)))
        )
    own = named.get("headers")
    headers = {**values.headers, **(own if isinstance(own, Mapping) else {})}
    return request_of_call(method, url, headers, named.get("params"), body, kind)  # type: ignore[arg-type]


def _form_parts(fields: Any, files: Any) -> list[FormPart]:
    parts = [FormPart(str(name), str(value)) for name, value in fields.items()] if isinstance(fields, Mapping) else []
    if isinstance(files, Mapping):
        parts += [FormPart(str(name), "file", True) for name in files]
    return parts


class _PythonValues:
    """What the expressions of a program are, as far as literals and names say it."""

    def __init__(self, base: str | None) -> None:
        self._base = base
        self._names: dict[str, ast.expr] = {}
        self._depth = 0
        self.headers: dict[str, str] = {}

    def assign(self, target: ast.expr, value: ast.expr) -> None:
        """A name is given a value; the first one counts."""
        if isinstance(target, ast.Name):
            self._names.setdefault(target.id, value)

    def note_headers(self, node: ast.Call) -> None:
        """The headers that a session sends with each request: `session.headers.update({…})`."""
        match node:
            case ast.Call(func=ast.Attribute(attr="update", value=ast.Attribute(attr="headers")), args=[one]):
                found = self.of(one)
                self.headers |= (
                    {str(name): str(value) for name, value in found.items()} if isinstance(found, dict) else {}
                )

    def of(self, node: ast.expr) -> Any:
        """The value of an expression; what is not known is a place to fill in."""
        self._depth += 1
        try:
            return self._of(node) if self._depth < 60 else "<value>"
        finally:
            self._depth -= 1

    def _of(self, node: ast.expr) -> Any:
        match node:
            case ast.Constant():
                return node.value if not isinstance(node.value, bytes) else node.value.decode("utf-8", "replace")
            case ast.Dict():
                return {
                    str(self.of(key)): self.of(value)
                    for key, value in zip(node.keys, node.values, strict=True)
                    if key
                }
            case ast.List() | ast.Tuple():
                return [self.of(one) for one in node.elts]
            case ast.JoinedStr():
                return "".join(
                    str(self.of(one.value if isinstance(one, ast.FormattedValue) else one)) for one in node.values
                )
            case ast.BinOp(op=ast.Add()):
                return f"{self.of(node.left)}{self.of(node.right)}"
            case ast.UnaryOp(op=ast.USub(), operand=ast.Constant(value=int() | float() as number)):
                return -number
            case ast.Name():
                if node.id in self._names:
                    return self.of(self._names[node.id])
                return self._base.rstrip("/") if self._base and _IS_ADDRESS.search(node.id) else f"<{node.id}>"
        return self._made(node)

    def _made(self, node: ast.expr) -> Any:
        """What a call or a look-up gives: a variable of the environment, a file in base64, JSON of a value."""
        text = ast.unparse(node)
        if match := re.search(r"environ(?:\.get)?[\[(]\s*['\"](\w+)|getenv\(\s*['\"](\w+)", text):
            return f"${match[1] or match[2]}"
        if re.search(r"b64|base64", text, re.IGNORECASE):
            return _BASE64
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            if node.func.attr == "dumps" and node.args:
                return json.dumps(self.of(node.args[0]))
            if node.func.attr in ("encode", "decode", "strip"):
                return self.of(node.func.value)
        return f"<{text[:60]}>"


# JavaScript.

_ASSIGNED = re.compile(r"\b(?:const|let|var)\s+(\w+)\s*=\s*")
_CALL = re.compile(r"\b(?:(fetch)|\w+\.(post|put|get|patch|request))\s*\(\s*")


def javascript_requests(text: str, base: str | None = None) -> list[FoundRequest]:
    """The requests of a program in JavaScript.

    :param base: the address that the page names, for a variable that is called like one.
    """
    return [one for match in _CALL.finditer(text) if (one := _javascript_call(text, match, base)) is not None]


def _javascript_call(text: str, match: re.Match[str], base: str | None) -> FoundRequest | None:
    values = _JavascriptValues(text, base)
    reader = values.reader(match.end())
    given: list[Any] = []
    try:
        for _ in range(3):
            given.append(reader.read())
            reader._skip()
            if text[reader.at : reader.at + 1] != ",":
                break
            reader.at += 1
    except (NotALiteral, RecursionError):
        return None
    options = next((one for one in reversed(given) if isinstance(one, Mapping)), {})
    if match[1] or match[2] == "request":
        method, body = str(options.get("method") or "GET"), options.get("body", options.get("data"))
    else:
        method, body = match[2], given[1] if len(given) > 1 and match[2] != "get" else None
    kind, made = text_body(body)
    headers = options.get("headers")
    request = request_of_call(method, given[0] if given else None, headers, options.get("params"), made, kind)
    return FoundRequest(request, reader.at) if request is not None else None


class _JavascriptValues:
    def __init__(self, text: str, base: str | None) -> None:
        self._text, self._base = text, base
        self._starts = {match[1]: match.end() for match in reversed(list(_ASSIGNED.finditer(text)))}
        self._open: set[str] = set()

    def reader(self, at: int) -> LiteralReader:
        """A reader of what is at a place of the program."""
        return LiteralReader(self._text, at, code=True, known=self.known)

    def known(self, expression: str) -> Any:
        """What is known of an expression; None for nothing."""
        if match := re.search(r"\benv\.(\w+)|\benv\[['\"](\w+)", expression):
            return f"${match[1] or match[2]}"
        if match := re.match(r"JSON\.stringify\(\s*", expression):
            return self._literal(expression, match.end())
        if re.search(r"base64|btoa|b64", expression, re.IGNORECASE):
            return _BASE64
        if expression in self._starts and expression not in self._open:
            self._open.add(expression)
            try:
                return self.reader(self._starts[expression]).read()
            except (NotALiteral, RecursionError):
                return None
            finally:
                self._open.discard(expression)
        is_address = re.fullmatch(r"[\w.]+", expression) and _IS_ADDRESS.search(expression)
        return self._base.rstrip("/") if self._base and is_address else None

    def _literal(self, text: str, at: int) -> Any:
        try:
            return LiteralReader(text, at, code=True, known=self.known).read()
        except (NotALiteral, RecursionError):
            return None


# What stands in the comments of a program.


def comments_of(text: str) -> Iterator[str]:
    """The comments of a program, each with its marks taken off; lines that follow each other are one."""
    for match in re.finditer(r"/\*(.*?)\*/|((?:^[ \t]*(?://|#)[^\n]*(?:\n|\Z))+)", text, re.DOTALL | re.MULTILINE):
        if match[1] is not None:
            yield re.sub(r"^[ \t]*\*(?: |$)", "", match[1], flags=re.MULTILINE).strip("\n")
        else:
            yield re.sub(r"^[ \t]*(?://|#) ?", "", match[2], flags=re.MULTILINE).strip("\n")
