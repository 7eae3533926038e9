"""Places in a reply: a JSONPath in its body, or `header NAME` for one of its headers.

Paths are those of RFC 9535, without its functions: a pattern from a dialect would run over a stranger's text.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any

from drovik.errors import Problem, RequestError

_HEADER = re.compile(r"header ([!#$%&'*+.^_`|~0-9A-Za-z-]+)")


_PLAIN = re.compile(r"\$(?:\.[A-Za-z_][A-Za-z0-9_]*|\[\d{1,9}\]|\[\*\]|\['[^'\\]*'\])*")
_PLAIN_STEP = re.compile(r"\.([A-Za-z_][A-Za-z0-9_]*)|\[(\d+)\]|(\[\*\])|\['([^'\\]*)'\]")


@lru_cache(maxsize=256)
def compile_path(path: str) -> Callable[[Any], list[Any]]:
    """A function from a JSON value to all the values that the path leads to, in order.

    A reply nested too deep for `..` has nothing there.

    :raises RequestError: if it is not a JSONPath.
    """
    if not path.startswith("$"):
        raise RequestError(Problem(f"'{path}' is not a JSONPath", "it begins with '$', like $.answer"))
    if _PLAIN.fullmatch(path):
        return _plain([_key_of(match) for match in _PLAIN_STEP.finditer(path)])
    from drovik.dialects.json_paths import compile_with_filters  # few dialects need it, and it takes long to import

    return compile_with_filters(path)


def _key_of(step: re.Match[str]) -> str | int | None:
    """A step of a path of names, numbers and `[*]`; None for the last."""
    name, number, _, quoted = step.groups()
    if number is not None:
        return int(number)
    return name if name is not None else quoted


def _plain(keys: Sequence[str | int | None]) -> Callable[[Any], list[Any]]:
    """A path without filters, walked without a node for each step: every reply is read by several."""
    if None not in keys:
        return _singular([key for key in keys if key is not None])

    def find(value: Any) -> list[Any]:
        found = [value]
        for key in keys:
            if key is None:
                found = [inner for one in found for inner in _all_of(one)]
            else:
                found = [inner for one in found for inner in _singular([key])(one)]
        return found

    return find


def _all_of(value: Any) -> list[Any]:
    return list(value.values()) if isinstance(value, dict) else value if isinstance(value, list) else []


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
