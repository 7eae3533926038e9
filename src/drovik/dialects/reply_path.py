"""Places in a reply: a JSONPath in its body, or `header NAME` for one of its headers."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

from drovik.dialects.jsonpath import compile_path
from drovik.errors import Problem, RequestError

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
