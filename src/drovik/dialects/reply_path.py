"""Places in a reply: a JSONPath in its body, or `header NAME` for one of its headers.

Paths are those of RFC 9535, without its functions: a pattern from a dialect would run over a stranger's text.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any

from jsonpath_rfc9535 import JSONPathEnvironment, JSONPathError
from jsonpath_rfc9535.selectors import NameSelector

from drovik.errors import Problem, RequestError

_HEADER = re.compile(r"header ([!#$%&'*+.^_`|~0-9A-Za-z-]+)")


class _Environment(JSONPathEnvironment):
    """Without functions, and as deep as Python's own JSON reader goes."""

    max_recursion_depth = 900

    def setup_function_extensions(self) -> None:
        """Register none."""


_ENVIRONMENT = _Environment()


@lru_cache(maxsize=256)
def compile_path(path: str) -> Callable[[Any], list[Any]]:
    """A function from a JSON value to all the values that the path leads to, in order.

    A reply nested too deep for `..` has nothing there.

    :raises RequestError: if it is not a JSONPath.
    """
    if not path.startswith("$"):
        raise RequestError(Problem(f"'{path}' is not a JSONPath", "it begins with '$', like $.answer"))
    try:
        query = _ENVIRONMENT.compile(path)
    except (JSONPathError, RecursionError) as error:
        why = str(error).partition(", line ")[0] or "it is nested too deep"
        remedy = "write it like $.parts[?@.kind == 'words'].text or $['max-tokens'] (RFC 9535, without functions)"
        raise RequestError(Problem(f"'{path}' is not a JSONPath: {why}", remedy)) from None

    if query.singular_query():
        return _singular([_key_of(segment) for segment in query.segments])

    def find(value: Any) -> list[Any]:
        try:
            return query.find(value).values()
        except (JSONPathError, RecursionError):
            return []

    return find


def _key_of(segment: Any) -> str | int:
    selector = segment.selectors[0]
    return selector.name if isinstance(selector, NameSelector) else int(selector.index)


def _singular(keys: Sequence[str | int]) -> Callable[[Any], list[Any]]:
    """A path of names and numbers alone, walked without a node for each step: every reply is read by several."""

    def find(value: Any) -> list[Any]:
        for key in keys:
            if isinstance(key, str):
                if not isinstance(value, dict) or key not in value:
                    return []
            elif not isinstance(value, list) or not -len(value) <= key < len(value):
                return []
            value = value[key]
        return [value]

    return find


@lru_cache(maxsize=256)
def compile_place(place: str) -> Callable[[Any, Mapping[str, str]], list[Any]]:
    """A function from a reply's JSON value and its headers to all that is at the place.

    A header that is a whole number counts as one.

    :raises RequestError: if it is neither a JSONPath nor a header.
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
