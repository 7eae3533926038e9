"""JSONPath (RFC 9535): picks values out of a service's reply.

Known are `$`, `.name`, `['name']`, `[0]`, `[-1]`, `[1:3]`, `[*]`, `.*`, `..`, lists such as `[0,2]`, and
filters such as `[?@.kind == 'words']`, without the functions of RFC 9535, 2.4.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Any

from drovik.dialects.jsonpath_filter import compile_filter
from drovik.errors import Problem, RequestError

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
