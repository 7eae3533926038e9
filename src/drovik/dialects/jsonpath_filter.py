"""The filters of JSONPath (RFC 9535, 2.3.5): comparisons, existence, `&&`, `||`, `!` and brackets; no functions."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable
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
