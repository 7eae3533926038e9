"""What is said to a model: turns of text and pictures, as far as Drovik knows it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any


@dataclass(frozen=True)
class TextPart:
    """A stretch of text in a turn."""

    text: str


@dataclass(frozen=True)
class PicturePart:
    """A picture in a turn: which of the case's pictures, counted from 0."""

    number: int


@dataclass(frozen=True)
class Turn:
    """What one side says: an ordered list of text and picture parts. `by` is `user` or `assistant`."""

    by: str
    parts: tuple[TextPart | PicturePart, ...]


@dataclass(frozen=True)
class Asking:
    """All that is said to a model for one case: the system text and the turns."""

    system: str
    turns: tuple[Turn, ...]

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        # Looked up once for each of a hundred thousand requests that say the same.
        return hash((self.system, self.turns))

    def picture_numbers(self) -> tuple[int, ...]:
        """Which of the case's pictures are sent, in order."""
        return tuple(part.number for turn in self.turns for part in turn.parts if isinstance(part, PicturePart))


def as_one_text(asking: Asking, names: Mapping[Any, str]) -> str:
    """All turns as one text, for services that take no turns: each with who says it, where there are several."""
    if len(asking.turns) == 1:
        return text_of(asking.turns[0])
    return "\n\n".join(f"{names.get(turn.by, turn.by)}: {text_of(turn)}" for turn in asking.turns)


def text_of(turn: Turn) -> str:
    """A turn's text, its stretches each on lines of its own."""
    return "\n".join(part.text.strip() for part in turn.parts if isinstance(part, TextPart) and part.text.strip())
