"""A case and a prompt version → what is asked, in turns of text and pictures, as far as Drovik knows it."""

from __future__ import annotations

import json
import re
import secrets
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from drovik.dialects.request import Conversation, PicturePart, TextPart, Turn
from drovik.errors import DrovikError, Problem, ProjectError, TooMuch, known_words
from drovik.project.arms import Arm, canonical
from drovik.project.cases import Case, prep_for
from drovik.project.tasks import Task

REPAIR_TURN = """\
That answer is not in the form that was asked for:
{errors}
Answer the same question again, about the same pictures, in the right form: nothing but the JSON."""
"""What is said after an answer that is not valid, where the task asks for a repair turn."""


_OF_THE_TASK = frozenset(("labels", "schema"))
_SAME: dict[tuple[object, ...], Conversation] = {}
"""What prompts ask that say the same of every case, by all that it depends on."""
_MOST_KEPT = 1000
"""Rendered prompts kept for the next cases."""


def is_same_for_all(arm: Arm, said: Sequence[str], is_repair_turn: bool) -> bool:
    """Whether a prompt asks the same of every case, pictures apart."""
    return arm.prompt.variables <= _OF_THE_TASK and not said and not is_repair_turn


_NONCE = secrets.token_hex(8)
_MARK = re.compile(f"\x02{_NONCE} (\\d+)\x03")


class _Placing:
    """The `picture()` of a template: leaves a mark, which no text of a case can forge, with the picture's number."""

    def __init__(self, case: Case) -> None:
        self._case = case
        self._next = 0

    def __call__(self, which: str | int | None = None) -> str:
        return f"\x02{_NONCE} {self._number(which)}\x03"

    def split(self, text: str) -> list[str]:
        """A rendered text as text, number, text, number, …, text."""
        return _MARK.split(text)

    def _number(self, which: str | int | None) -> int:
        pictures = self._case.pictures
        many = "1 picture" if len(pictures) == 1 else f"{len(pictures)} pictures"
        if which is None:
            self._next += 1
            which = self._next
        if isinstance(which, int):
            if 1 <= which <= len(pictures):
                return which - 1
            raise ProjectError(Problem(f"picture({which}): the case has {many}", "count from 1"))
        tags = [picture.tag for picture in pictures]
        if which in tags:
            return tags.index(which)
        known = known_words(str(which), [tag for tag in tags if tag])
        raise ProjectError(Problem(f"picture('{which}'): no picture of the case has this tag", known))


def conversation_of(
    task: Task,
    arm: Arm,
    case: Case,
    said: Sequence[str] = (),
    earlier: Mapping[str, Any] | None = None,
    shown: Mapping[str, Any] | None = None,
    repair: tuple[str, str] | None = None,
) -> Conversation:
    """What is asked of an arm's model about a case.

    Pictures that the text does not place itself come before it, in the first turn. A model that does not
    see gets none.

    :param said: the model's answers to the turns before; so it is the next turn that is asked.
    :param earlier: the answers of the tasks before, for a task that comes `after` another.
    :param shown: what the prompt may say of the pictures: times, step, pages, parts.
    :param fix: for a repair turn: the answer that was not valid, and what is wrong with it.
    :raises DrovikError: where the template fails on this case.
    """
    if not is_same_for_all(arm, said, repair is not None):
        return _made(task, arm, case, said, earlier, shown, repair)
    schema = task.schema_text() if "schema" in arm.prompt.variables else ""
    tags = tuple([picture.tag for picture in case.pictures])
    key = (arm.prompt, arm.model.takes_pictures, task.labels, schema, tags)
    found = _SAME.get(key)
    if found is None:
        if len(_SAME) >= _MOST_KEPT:
            _SAME.clear()
        found = _SAME[key] = _made(task, arm, case, said, earlier, shown, repair)
    return found


def _made(
    task: Task,
    arm: Arm,
    case: Case,
    said: Sequence[str],
    earlier: Mapping[str, Any] | None,
    shown: Mapping[str, Any] | None,
    repair: tuple[str, str] | None,
) -> Conversation:
    placing = _Placing(case)
    variables: dict[str, Any] = {**case.given, "labels": list(task.labels), "schema": task.schema_text()}
    variables |= shown or {}
    variables["earlier"] = {name: _printable(value) for name, value in (earlier or {}).items()}
    system = _rendered(arm, "system", arm.prompt.system, {**variables, "picture": _no_picture}, case)
    turns: list[Turn] = []
    for number, ask in enumerate((arm.prompt.ask, *arm.prompt.turns)[: len(said) + 1]):
        place = "ask" if number == 0 else f"turns.{number + 1}.ask"
        parts = _parts(_rendered(arm, place, ask, {**variables, "picture": placing}, case), placing)
        if number == 0:
            placed = {part.number for part in parts if isinstance(part, PicturePart)}
            later = {number for ask in arm.prompt.turns for number in _placed_by(ask, case)}
            free = [PicturePart(one) for one in range(len(case.pictures)) if one not in placed | later]
            parts = [*free, *parts]
        if not arm.model.takes_pictures:
            parts = _joined([part for part in parts if isinstance(part, TextPart)])
        turns.append(Turn("user", tuple(parts)))
        if number < len(said):
            turns.append(Turn("assistant", (TextPart(said[number]),)))
    if repair is not None:
        turns.append(Turn("assistant", (TextPart(repair[0] or "…"),)))
        turns.append(Turn("user", (TextPart(REPAIR_TURN.format(errors=repair[1])),)))
    return Conversation(system, tuple(turns))


_PLACED = re.compile(r"\bpicture\(\s*(?:(\d+)|'([^']*)'|\"([^\"]*)\")\s*\)")


def _placed_by(ask: str, case: Case) -> Iterator[int]:
    """The pictures that a later turn's text names: they are shown then, and not at the beginning."""
    tags = [picture.tag for picture in case.pictures]
    for match in _PLACED.finditer(ask):
        number, *named = match.groups()
        tag = next((one for one in named if one is not None), None)
        if number is not None and 1 <= int(number) <= len(tags):
            yield int(number) - 1
        elif tag in tags and tag is not None:
            yield tags.index(tag)


class _Fields(dict[str, Any]):
    """An earlier answer's value: its fields by their names, and all of it as JSON where it is printed."""

    def __str__(self) -> str:
        return json.dumps(self, ensure_ascii=False)


def _printable(value: Any) -> Any:
    return _Fields(value) if type(value) is dict else value


def _no_picture(*_: object) -> str:
    raise ProjectError(Problem("picture() is in the system text", "pictures belong into 'ask'"))


_BARE = re.compile(r"\{\{ *(?!true|false|none)(\w+) *\}\}", re.IGNORECASE)
_PLAIN_AT_MOST = 100_000
"""Characters; what is longer is for the templates, which have their bounds."""


def _filled(text: str, variables: Mapping[str, Any]) -> str | None:
    """A text whose only slots are names of texts, filled in; None where it needs the templates' own means."""
    pieces = _BARE.split(text)
    values = [variables.get(name) for name in pieces[1::2]]
    if any("{" in piece or "\r" in piece for piece in pieces[::2]) or not all(type(value) is str for value in values):
        return None
    pieces[1::2] = values
    filled = "".join(pieces)
    return filled if len(filled) <= _PLAIN_AT_MOST else None


def _rendered(arm: Arm, place: str, text: str, variables: dict[str, Any], case: Case) -> str:
    filled = _filled(text, variables)
    if filled is not None:
        return filled.strip()
    # Jinja is slow to start: a question that needs no more than its pieces put together does without it.
    from drovik.project.prompt_templates import compile_template, render

    try:
        return render(compile_template(text, "", "")[0], variables).strip()
    except DrovikError as error:
        first = error.problems[0]
        raise ProjectError(Problem(first.what, first.remedy, arm.prompt.file, f"{place}, case {case.id}")) from None
    except TooMuch as error:
        raise ProjectError(Problem(str(error), "write it shorter", arm.prompt.file, place)) from None
    except Exception as error:
        # A stranger's template makes Python raise whatever it likes; each is one line about that template.
        what = f"fails on case '{case.id}': {str(error).rstrip('.')}"
        raise ProjectError(Problem(what, "fix the template or the case", arm.prompt.file, place)) from None


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


def canonical_conversation(
    arm: Arm,
    case: Case,
    asking: Conversation,
    digests: Sequence[str],
    revision: int,
    repeat: int,
    schema: Mapping[str, Any] | None = None,
) -> str:
    """The canonical form of what is asked, whose digest is its identity.

    :param digests: the digest of each source picture of the case.
    :param revision: the revision of Drovik's own preparing of pictures.
    :param schema: of the answer, where the service gets it.
    """
    turns: list[object] = [{"by": "system", "text": asking.system}] if asking.system else []
    for turn in asking.turns:
        parts: list[object] = []
        for part in turn.parts:
            if isinstance(part, TextPart):
                parts.append({"text": part.text})
            else:
                prep = prep_for(arm.prep, case, part.number).canonical()
                parts.append({"picture": digests[part.number], "prep": prep, "preparing": revision})
        turns.append({"by": turn.by, "parts": parts})
    model = {
        "endpoint": arm.endpoint,
        "id": arm.model.id,
        "revision": arm.model.revision,
        "settings": arm.model.canonical()["settings"],
    }
    told = {} if schema is None else {"schema": schema}
    return canonical({"model": model, "turns": turns, "repeat": repeat, **told})
