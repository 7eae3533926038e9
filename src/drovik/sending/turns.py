"""A case and a prompt version → what is asked, in turns of text and pictures, as far as Drovik knows it."""

from __future__ import annotations

import re
import secrets
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from drovik.problems import DrovikError, Problem, known_words
from drovik.project.arms import Arm
from drovik.project.canonical import canonical
from drovik.project.cases import Case
from drovik.project.prompts import environment
from drovik.project.tasks import Task

if TYPE_CHECKING:
    from jinja2 import Template


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

    def picture_numbers(self) -> tuple[int, ...]:
        """Which of the case's pictures are sent, in order."""
        return tuple(part.number for turn in self.turns for part in turn.parts if isinstance(part, PicturePart))


@lru_cache(maxsize=512)
def _template(text: str) -> Template:
    return environment().from_string(text)


class _Placing:
    """The `picture()` of a template: leaves a mark, which no text of a case can forge, with the picture's number."""

    def __init__(self, case: Case) -> None:
        self._nonce = secrets.token_hex(8)
        self._case = case
        self._next = 0

    def __call__(self, which: str | int | None = None) -> str:
        return f"\x02{self._nonce} {self._number(which)}\x03"

    def split(self, text: str) -> list[str]:
        """A rendered text as text, number, text, number, …, text."""
        return re.split(f"\x02{self._nonce} (\\d+)\x03", text)

    def _number(self, which: str | int | None) -> int:
        pictures = self._case.pictures
        many = "1 picture" if len(pictures) == 1 else f"{len(pictures)} pictures"
        if which is None:
            self._next += 1
            which = self._next
        if isinstance(which, int):
            if 1 <= which <= len(pictures):
                return which - 1
            raise DrovikError(Problem(f"picture({which}): the case has {many}", "count from 1"))
        tags = [picture.tag for picture in pictures]
        if which in tags:
            return tags.index(which)
        known = known_words(str(which), [tag for tag in tags if tag])
        raise DrovikError(Problem(f"picture('{which}'): no picture of the case has this tag", known))


def asking_of(task: Task, arm: Arm, case: Case) -> Asking:
    """What is asked of an arm's model about a case.

    Pictures that the text does not place itself stand before it. A model that does not see gets none.

    :raises DrovikError: where the template fails on this case.
    """
    placing = _Placing(case)
    variables: dict[str, Any] = {**case.given, "labels": list(task.labels), "schema": task.schema_text()}
    system = _rendered(arm, "system", arm.prompt.system, {**variables, "picture": _no_picture}, case)
    text = _rendered(arm, "ask", arm.prompt.ask, {**variables, "picture": placing}, case)
    parts = _parts(text, placing)
    placed = {part.number for part in parts if isinstance(part, PicturePart)}
    first = [PicturePart(number) for number in range(len(case.pictures)) if number not in placed]
    every = [*first, *parts]
    if not arm.model.sees:
        every = _joined([part for part in every if isinstance(part, TextPart)])
    return Asking(system, (Turn("user", tuple(every)),))


def _no_picture(*_: object) -> str:
    raise DrovikError(Problem("picture() stands in the system text", "pictures belong into 'ask'"))


def _rendered(arm: Arm, place: str, text: str, variables: dict[str, Any], case: Case) -> str:
    from jinja2 import TemplateError

    try:
        return _template(text).render(variables).strip()
    except DrovikError as error:
        first = error.problems[0]
        raise DrovikError(Problem(first.what, first.remedy, arm.prompt.file, f"{place}, case {case.id}")) from None
    except (TemplateError, TypeError, ValueError, ArithmeticError, LookupError, MemoryError) as error:
        what = f"fails on case '{case.id}': {str(error).rstrip('.')}"
        raise DrovikError(Problem(what, "mend the template or the case", arm.prompt.file, place)) from None


def _parts(text: str, placing: _Placing) -> list[TextPart | PicturePart]:
    pieces = placing.split(text)
    parts: list[TextPart | PicturePart] = []
    for index, piece in enumerate(pieces):
        if index % 2:
            parts.append(PicturePart(int(piece)))
        elif piece.strip():
            parts.append(TextPart(piece.strip("\n") if len(pieces) > 1 else piece))
    return parts


def _joined(parts: list[TextPart]) -> list[TextPart | PicturePart]:
    return [TextPart("\n".join(part.text.strip() for part in parts))]


def canonical_asking(arm: Arm, asking: Asking, digests: list[str], revision: int, repeat: int) -> str:
    """The canonical form of what is asked, whose digest is its identity.

    :param digests: the digest of each source picture of the case.
    :param revision: the revision of Drovik's own preparing of pictures.
    """
    turns: list[object] = [{"by": "system", "text": asking.system}] if asking.system else []
    for turn in asking.turns:
        parts: list[object] = []
        for part in turn.parts:
            if isinstance(part, TextPart):
                parts.append({"text": part.text})
            else:
                prep = arm.prep.canonical()
                parts.append({"picture": digests[part.number], "prep": prep, "preparing": revision})
        turns.append({"by": turn.by, "parts": parts})
    model = {
        "id": arm.model.id,
        "revision": arm.model.revision,
        "settings": arm.model.canonical()["settings"],
    }
    return canonical({"model": model, "turns": turns, "repeat": repeat})
