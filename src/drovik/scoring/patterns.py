"""Regular expressions of a project: checked when they are read, and looked for in bounded time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import regex

from drovik.scoring.measure import CannotScore
from drovik.text import cut

PATTERN_SECONDS = 1.0
"""A pattern that takes longer never ends, as nested repetitions do."""


def proper_pattern(text: str) -> str:
    """The pattern itself.

    :raises ValueError: where it is no regular expression.
    """
    try:
        regex.compile(text)
    except (regex.error, RecursionError, OverflowError, MemoryError) as error:
        raise ValueError(f"'{text}' is not a regular expression: {error}") from None
    return text


def in_time(pattern: str, look: Callable[[], Any]) -> Any:
    """What is found, in bounded time: some patterns take longer than anybody can wait, on answers made for that.

    :raises CannotScore: where it took too long; that is not a fault of the answer.
    """
    try:
        return look()
    except TimeoutError:
        shown = cut(pattern, 60)
        raise CannotScore(f"the pattern {shown} took longer than {PATTERN_SECONDS:g} s on an answer") from None


def named_parts(pattern: str, text: str) -> dict[str, str] | None:
    """What the named groups of a pattern hold where it comes last in a text, lines each by themselves; None where it
    does not come. A group that took no part is left out.
    """
    flags = regex.MULTILINE | regex.IGNORECASE

    def look() -> Any:
        match = None
        for match in regex.finditer(pattern, text, flags, timeout=PATTERN_SECONDS):  # noqa: B007
            pass
        return match

    match = in_time(pattern, look)
    if match is None:
        return None
    return {name: value.strip() for name, value in match.groupdict().items() if value is not None}
