"""The filters of JSONPath (RFC 9535, 2.3.5): comparisons, existence, `&&`, `||`, `!` and brackets; no functions.

JSONPath (RFC 9535): picks values out of a service's reply.

Known are `$`, `.name`, `['name']`, `[0]`, `[-1]`, `[1:3]`, `[*]`, `.*`, `..`, lists such as `[0,2]`, and
filters such as `[?@.kind == 'words']`, without the functions of RFC 9535, 2.4.

Places in a reply: a JSONPath in its body, or `header NAME` for one of its headers.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any

from drovik.errors import DrovikError, Problem, RequestError

Test = Callable[[Any], bool]
_TOKEN = re.compile(
    r"\s*(?:(?P<sign>&&|\|\||==|!=|<=|>=|<|>|!|\(|\))"
    r"|(?P<text>'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\")"
    r"|(?P<number>-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)"
    r"|(?P<word>true|false|null)\b"
    r"|(?P<path>@(?:\.[^\W\d][\w-]*|\[(?:-?\d+|'[^']*'|\"[^\"]*\"|\*)\])*))"
)
_WORDS = {"true": True, "false": False, "null": None}
Compile = Callable[[str], Callable[[Any], list[Any]]]
_NOTHING = object()


def compile_filter(text: str, path: str, compile_path: Compile) -> Test:
    """A filter, what stands after the question mark, as a test of one value.

    :param path: the whole path, for messages.
    :param compile_path: makes a function of a path that stands in the filter.
    :raises DrovikError: where it is not a filter.
    """
    parser = _Parser(text, path, compile_path)
    test = parser.either()
    if parser.at < len(parser.tokens):
        raise parser.trouble()
    return test


class _Parser:
    """Recursive descent: or, and, not, comparison."""

    def __init__(self, text: str, path: str, compile_path: Compile) -> None:
        self._path, self._compile_path = path, compile_path
        self.tokens: list[tuple[str, str]] = []
        at = 0
        while text[at:].strip():
            match = _TOKEN.match(text, at)
            if match is None or match.lastgroup is None:
                raise self.trouble()
            self.tokens.append((match.lastgroup, match[match.lastgroup]))
            at = match.end()
        self.at = 0

    def trouble(self) -> DrovikError:
        what = f"'{self._path}': the filter cannot be read"
        return RequestError(Problem(what, "write it like $.parts[?@.kind == 'words'].text"))

    def _takes(self, sign: str) -> bool:
        if self.at < len(self.tokens) and self.tokens[self.at] == ("sign", sign):
            self.at += 1
            return True
        return False

    def either(self) -> Test:
        tests = [self._both()]
        while self._takes("||"):
            tests.append(self._both())
        return tests[0] if len(tests) == 1 else lambda value: any(test(value) for test in tests)

    def _both(self) -> Test:
        tests = [self._one()]
        while self._takes("&&"):
            tests.append(self._one())
        return tests[0] if len(tests) == 1 else lambda value: all(test(value) for test in tests)

    def _one(self) -> Test:
        if self._takes("!"):
            inner = self._one()
            return lambda value: not inner(value)
        if self._takes("("):
            inner = self.either()
            if not self._takes(")"):
                raise self.trouble()
            return inner
        left, is_path = self._operand()
        for sign in ("==", "!=", "<=", ">=", "<", ">"):
            if self._takes(sign):
                right, _ = self._operand()
                return lambda value: _compares(sign, _first(left(value)), _first(right(value)))
        if not is_path:
            raise self.trouble()
        return lambda value: bool(left(value))

    def _operand(self) -> tuple[Callable[[Any], list[Any]], bool]:
        if self.at >= len(self.tokens) or self.tokens[self.at][0] == "sign":
            raise self.trouble()
        kind, text = self.tokens[self.at]
        self.at += 1
        if kind == "path":
            return self._compile_path("$" + text[1:]), True
        try:
            fixed = _WORDS[text] if kind == "word" else ast.literal_eval(text)
        except (ValueError, SyntaxError):
            raise self.trouble() from None
        return lambda value: [fixed], False


def _first(values: list[Any]) -> Any:
    return values[0] if values else _NOTHING


def _compares(sign: str, left: Any, right: Any) -> bool:
    """RFC 9535, 2.3.5.2.2: only numbers with numbers and texts with texts have an order; nothing equals nothing."""
    equal = (
        left is right or (type(left) is type(right) and left == right) or (_is_number(left, right) and left == right)
    )
    if sign in ("==", "!="):
        return equal == (sign == "==")
    ordered = _is_number(left, right) or (isinstance(left, str) and isinstance(right, str))
    if not ordered:
        return equal and sign in ("<=", ">=")
    return bool({"<": left < right, ">": left > right, "<=": left <= right, ">=": left >= right}[sign])


def _is_number(*values: Any) -> bool:
    return all(isinstance(one, int | float) and not isinstance(one, bool) for one in values)


Step = Callable[[Any], Iterator[Any]]
_DOTTED = re.compile(r"\.([^\W\d][\w-]*|\*)")
_QUOTED = re.compile(r"'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\"")
_SELECTOR = re.compile(r"\s*('(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\"|[^,]+)\s*(?:,|$)")
_SLICE = re.compile(r"(-?\d+)?\s*:\s*(-?\d+)?(?:\s*:\s*(-?\d+)?)?")


@lru_cache(maxsize=256)
def compile_path(path: str) -> Callable[[Any], list[Any]]:
    """A function from a JSON value to all the values that the path leads to, in order.

    :raises DrovikError: where it is no path.
    """
    if not path.startswith("$"):
        raise RequestError(Problem(f"'{path}' is not a JSONPath", "it begins with '$', like $.answer"))
    steps: list[Step] = []
    at = 1
    while at < len(path):
        step, at = _step(path, at)
        steps.append(step)

    def find(value: Any) -> list[Any]:
        values = [value]
        for step in steps:
            values = [found for one in values for found in step(one)]
        return values

    return find


def _step(path: str, at: int) -> tuple[Step, int]:
    if path.startswith("..", at):
        rest = at + 2 if path.startswith("[", at + 2) else at + 1
        inner, after = _step(path, rest)
        return (lambda value: (found for one in _descendants(value) for found in inner(one))), after
    if match := _DOTTED.match(path, at):
        return _name(match[1]) if match[1] != "*" else _every, match.end()
    if path.startswith("[", at) and (end := _closing(path, at)):
        inside = path[at + 1 : end].strip()
        if inside.startswith("?"):
            keeps = compile_filter(inside[1:], path, compile_path)
            return (lambda value: filter(keeps, _every(value))), end + 1
        selectors = [_selector(one[1].strip(), path) for one in _SELECTOR.finditer(inside)]
        if selectors:
            return (lambda value: (found for one in selectors for found in one(value))), end + 1
    raise RequestError(
        Problem(f"'{path}' is not a JSONPath: nothing fits at character {at + 1}", "write it like $.answer.text[0]")
    )


def _closing(path: str, at: int) -> int | None:
    """Where the bracket that opens at `at` is closed; quoted text and inner brackets are passed over."""
    depth = 0
    while at < len(path):
        if match := _QUOTED.match(path, at):
            at = match.end()
            continue
        depth += {"[": 1, "]": -1}.get(path[at], 0)
        if depth == 0:
            return at
        at += 1
    return None


def _selector(text: str, path: str) -> Step:
    if text == "*":
        return _every
    if text[:1] in "'\"":
        return _name(str(ast.literal_eval(text)))
    if re.fullmatch(r"-?\d+", text):
        return _index(int(text))
    if match := _SLICE.fullmatch(text):
        start, end, stride = (int(part) if part else None for part in match.groups())
        return lambda value: iter(value[start:end:stride] if isinstance(value, list) and stride != 0 else ())
    raise RequestError(Problem(f"'{path}': [{text}] is not known here", "use names, numbers, slices, * and ?filters"))


def _name(name: str) -> Step:
    return lambda value: iter((value[name],) if isinstance(value, dict) and name in value else ())


def _index(index: int) -> Step:
    return lambda value: iter(
        (value[index],) if isinstance(value, list) and -len(value) <= index < len(value) else ()
    )


def _every(value: Any) -> Iterator[Any]:
    if isinstance(value, dict):
        return iter(value.values())
    return iter(value if isinstance(value, list) else ())


def _descendants(value: Any) -> Iterator[Any]:
    waiting = [value]
    while waiting:
        one = waiting.pop()
        yield one
        waiting += reversed(list(_every(one)))


_HEADER = re.compile(r"header ([!#$%&'*+.^_`|~0-9A-Za-z-]+)")


@lru_cache(maxsize=256)
def compile_place(place: str) -> Callable[[Any, Mapping[str, str]], list[Any]]:
    """A function from a reply's JSON value and its headers to all that stands at the place.

    A header that is a whole number counts as one.

    :raises DrovikError: where it is neither a JSONPath nor a header.
    """
    if place.startswith("header"):
        match = _HEADER.fullmatch(place)
        if match is None:
            raise RequestError(Problem(f"'{place}' names no header", "write it like: header X-Tokens"))
        name = match[1].lower()
        return lambda tree, headers: [
            int(value) if value.isdigit() else value for key, value in headers.items() if key.lower() == name
        ]
    find = compile_path(place)
    return lambda tree, headers: find(tree)
