"""JSONPaths with filters and descents (RFC 9535), by the package that reads those."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from jsonpath_rfc9535 import JSONPathEnvironment, JSONPathError

from drovik.errors import Problem, RequestError


class _Environment(JSONPathEnvironment):
    """Without functions, and as deep as Python's own JSON reader goes."""

    max_recursion_depth = 900

    def setup_function_extensions(self) -> None:
        """Register none."""


_ENVIRONMENT = _Environment()


def compile_with_filters(path: str) -> Callable[[Any], list[Any]]:
    """A function from a JSON value to all the values that the path leads to, in order.

    :raises RequestError: if it is not a JSONPath.
    """
    try:
        query = _ENVIRONMENT.compile(path)
    except (JSONPathError, RecursionError) as error:
        why = str(error).partition(", line ")[0] or "it is nested too deep"
        remedy = "write it like $.parts[?@.kind == 'words'].text or $['max-tokens'] (RFC 9535, without functions)"
        raise RequestError(Problem(f"'{path}' is not a JSONPath: {why}", remedy)) from None

    def find(value: Any) -> list[Any]:
        try:
            return query.find(value).values()
        except (JSONPathError, RecursionError):
            return []

    return find
