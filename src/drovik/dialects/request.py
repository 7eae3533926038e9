"""What is asked, and a dialect → the HTTP requests: those of its steps, and the request proper.

A draft holds what is known before anything is sent. Steps add what they take from replies to it; then
the request proper is filled. Where a dialect has no steps it is filled at once, off the event loop.

What is said to a model: turns of text and pictures, as far as Drovik knows it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import pybase64

from drovik.dialects.request_template import HttpRequest, RequestTemplate
from drovik.dialects.template import COLLECTIONS, Raw, Scope, compile_text
from drovik.errors import Problem, RequestError
from drovik.images.prepare import Prepared
from drovik.project.arms import Arm
from drovik.project.dialects import Dialect, Step
from drovik.project.settings import Endpoint


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
class Conversation:
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


def as_one_text(conversation: Conversation, names: Mapping[Any, str]) -> str:
    """All turns as one text, for services that take no turns: each with who says it, if there are several."""
    if len(conversation.turns) == 1:
        return text_of(conversation.turns[0])
    return "\n\n".join(f"{names.get(turn.by, turn.by)}: {text_of(turn)}" for turn in conversation.turns)


def as_one_turn(conversation: Conversation, names: Mapping[Any, str]) -> Conversation:
    """All turns as one of the user's, for services whose parts do not say who speaks: each text with who said it."""
    parts: list[TextPart | PicturePart] = []
    for turn in conversation.turns:
        pictures = [part for part in turn.parts if not isinstance(part, TextPart)]
        parts += [*pictures, TextPart(f"{names.get(turn.by, turn.by)}: {text_of(turn)}")]
    return Conversation(conversation.system, (Turn("user", tuple(parts)),))


def text_of(turn: Turn) -> str:
    """A turn's text, its stretches each on lines of its own."""
    return "\n".join(part.text.strip() for part in turn.parts if isinstance(part, TextPart) and part.text.strip())


NEED_BYTES = ("base64", "data_url", "media_type", "format", "name")
"""The slots of a picture for which its bytes have to be read and prepared."""


@dataclass
class DraftPicture:
    """A picture of a draft: its bytes, and the values of its slots by their names."""

    prepared: Prepared | None
    values: dict[str, Any]


@dataclass
class Draft:
    """A request with all that is known before it is sent; `taken` is what its steps took so far.

    A picture of the case may be sent as several: the pages of a document, frames of a clip, parts of a page.
    """

    conversation: Conversation
    plain: dict[str, Any]
    pictures: dict[int, tuple[DraftPicture, ...]]
    taken: dict[str, Any] = field(default_factory=dict)

    def every_picture(self) -> list[DraftPicture]:
        """All that are sent, in order."""
        return [one for several in self.pictures.values() for one in several]


class RequestWriter:
    """Writes the requests of one endpoint by its dialect; templates are compiled once.

    :param lend: makes a URL on this machine for a picture; None where the service cannot reach it.
    :raises DrovikError: where the dialect's templates cannot be compiled.
    """

    def __init__(
        self, endpoint: Endpoint, dialect: Dialect, key: str | None, lend: Callable[[Prepared], str] | None = None
    ) -> None:
        self.url, self.key = endpoint.url, key
        self._basic = _basic(key)
        self.dialect = dialect
        self.steps: list[tuple[Step, RequestTemplate]] = [(step, RequestTemplate(step)) for step in dialect.steps]
        self.proper = RequestTemplate(dialect.request)
        self._lend = lend
        self.slots = self.proper.slots.union(*(template.slots for _, template in self.steps))
        self._picture_slots = {name.partition(".")[2] for name in self.slots if name.startswith(("part.", "image."))}
        whole = [step for step in dialect.steps if step.per == "request"] + [dialect.request]
        self._one_picture = any(_stands_alone(form.tree(), form.texts(), "image") for form in whole)
        self._has_turns = any(_repeats(form.tree(), "turn") for form in whole)

    def takes_bytes(self) -> bool:
        """Whether the bytes of pictures are sent."""
        return bool(self._picture_slots & set(NEED_BYTES))

    def takes_pictures(self) -> bool:
        """Whether there is a place for pictures at all."""
        return bool(self._picture_slots - {"text"})

    def takes_addresses(self) -> bool:
        """Whether the URLs of pictures are sent."""
        return "address" in self._picture_slots

    def keeps_history(self) -> bool:
        """Whether what was said before has a place in the request."""
        return self._has_turns or "turns.text" in self.slots

    def knows_speakers(self) -> bool:
        """Whether the request says who speaks; if not, what was said before is written into the question."""
        return "turn.by" in self.slots

    def draft(
        self,
        arm: Arm,
        conversation: Conversation,
        pictures: Sequence[Sequence[Prepared]],
        request_id: str,
        addresses: Sequence[str | None] = (),
        schema: Mapping[str, Any] | None = None,
        repeat: int = 1,
    ) -> Draft:
        """What is asked, as far as it is known before anything is sent.

        :param pictures: the prepared pictures by their number in the case; none for one that is not sent.
        :param request_id: what `{request.id}` stands for; the same over tries.
        :param addresses: where each picture is on the web, where it does.
        :param schema: of the answer, where the service is to be told.
        :param repeat: which repeat it is, from 1; each has another seed, if there is one.
        """
        if len(conversation.turns) > 1 and self._has_turns and not self.knows_speakers():
            conversation = as_one_turn(conversation, self.dialect.names)
        conversation = self._fitted(conversation, [max(1, len(one)) for one in pictures])
        plain: dict[str, Any] = {f"extra.{name}": value for name, value in arm.prep.extra.items()}
        plain |= arm.model.settings.slots()
        if plain.get("seed") is not None:
            plain["seed"] += repeat - 1
        plain |= {
            "model": arm.model.id,
            "system": conversation.system or None,
            "request.id": request_id,
            "schema": schema,
        }
        numbers = dict.fromkeys(conversation.picture_numbers())
        known = {
            number: self._several(pictures[number], addresses[number] if addresses else None, number, arm.prep.extra)
            for number in numbers
        }
        return Draft(conversation, plain, known)

    def write(self, draft: Draft) -> HttpRequest:
        """The request proper, once every step has added to the draft."""
        return self.proper.fill(self.url, self.scope(draft))

    def scope(self, draft: Draft, picture: DraftPicture | None = None) -> Scope:
        """The slots' values.

        :param picture: the one that a step is about.
        """
        scope: dict[str, Any] = {**draft.plain, "key": self.key, "key.basic": self._basic}
        scope |= {f"taken.{name}": value for name, value in draft.taken.items()}
        every = draft.every_picture()
        alone = picture or (every[0] if len(every) == 1 else None)
        scope |= self._image_scope(alone)
        scope["images"] = [self._image_scope(one) for one in ([picture] if picture else every)]
        turns = draft.conversation.turns
        if "last.text" in self.slots:
            scope["last.text"] = text_of(turns[-1]) or None
        if "turns.text" in self.slots:
            scope["turns.text"] = as_one_text(draft.conversation, self.dialect.names) or None
        scope["pictures"] = True if every else None
        scope["turns"] = [self._turn_scope(turn, draft) for turn in turns]
        return scope

    def _turn_scope(self, turn: Turn, draft: Draft) -> Scope:
        name = self.dialect.names.get(turn.by, turn.by)  # type: ignore[call-overload]
        pictures: list[DraftPicture] = []
        parts: list[Scope] = []
        for part in turn.parts:
            if isinstance(part, TextPart):
                parts.append({"part.text": part.text})
                continue
            pictures += draft.pictures[part.number]
            for one in draft.pictures[part.number]:
                parts.append({f"part.{name}": value for name, value in one.values.items()})
        scope = {"turn.by": name, "turn.text": text_of(turn) or None, "parts": parts}
        scope["images"] = [self._image_scope(one) for one in pictures]
        scope["pictures"] = True if pictures else None
        return scope | self._image_scope(pictures[0] if len(pictures) == 1 else None)

    def _image_scope(self, picture: DraftPicture | None) -> dict[str, Any]:
        """A picture's slots; if there is none they are there empty, to hide those of an outer scope."""
        if picture is None:
            return dict.fromkeys((f"image.{name}" for name in self._picture_slots), None)
        return {f"image.{name}": value for name, value in picture.values.items()}

    def _several(
        self, made: Sequence[Prepared], address: str | None, number: int, extra: Mapping[str, Any]
    ) -> tuple[DraftPicture, ...]:
        """What one picture of the case is sent as; where that is several, each has a name of its own."""
        if len(made) < 2 or (address is not None and self.takes_addresses() and not self.takes_bytes()):
            return (self._picture(made[0] if made else None, address, f"{number + 1}", extra),)
        return tuple(self._picture(one, None, f"{number + 1}-{place}", extra) for place, one in enumerate(made, 1))

    def _picture(
        self, made: Prepared | None, address: str | None, name: str, extra: Mapping[str, Any]
    ) -> DraftPicture:
        values: dict[str, Any] = {"picture": True, "address": address}
        values |= {f"extra.{key}": value for key, value in extra.items()}
        if made is not None:
            format_ = made.media_type.partition("/")[2]
            ending = "jpg" if format_ == "jpeg" else format_
            values |= {"media_type": made.media_type, "format": format_, "name": f"picture-{name}.{ending}"}
            if self._picture_slots & {"base64", "data_url", "picture"}:
                encoded = pybase64.b64encode(made.data)
                values["base64"] = Raw(encoded)
                if "data_url" in self._picture_slots:
                    values["data_url"] = Raw(f"data:{made.media_type};base64,".encode() + encoded)
            if address is None and self.takes_addresses():
                values["address"] = self._lent(made)
        elif address is None or self.takes_bytes():
            raise RequestError(Problem("a picture of the request was not prepared"))
        return DraftPicture(made, values)

    def _lent(self, made: Prepared) -> str | None:
        if self._lend is not None:
            return self._lend(made)
        if self.takes_bytes():
            return None
        what = "this dialect gives pictures as URLs, and a picture of the case has none"
        raise RequestError(Problem(what, "give the picture's URL, or write {part.data_url} into the dialect"))

    def _fitted(self, conversation: Conversation, sizes: Sequence[int]) -> Conversation:
        """What is asked, as far as the dialect has places for it.

        :param sizes: as how many pictures each of the case's is sent.
        :raises DrovikError: where it has none for several turns, or for this many pictures.
        """
        together = [[turn] for turn in conversation.turns] if self._has_turns else [list(conversation.turns)]
        at_once = [_pictures_in(turns, sizes) for turns in together]
        count = max(at_once)
        if count and not self.takes_pictures():
            remedy = "add a slot such as {part.base64}, or set takes_pictures = false to ask without pictures"
            raise RequestError(Problem("the dialect has no place for a picture", remedy))
        if count > 1 and self._one_picture:
            what = f"the dialect has a place for one picture, and {count} are asked about"
            raise RequestError(Problem(what, 'write {"each image": …} where the service takes a list'))
        if len(conversation.turns) > 1 and not self.keeps_history():
            what = "the dialect has a place for one question, and this is a conversation"
            raise RequestError(Problem(what, 'write {turns.text} in place of {last.text}, or {"each turn": …}'))
        if conversation.system and "system" not in self.slots:
            first = conversation.turns[0]
            before = Turn(first.by, (TextPart(conversation.system), *first.parts))
            return Conversation("", (before, *conversation.turns[1:]))
        return conversation


def _basic(key: str | None) -> str | None:
    """A key as basic authorization has it (RFC 7617): NAME:PASSWORD in base64; a key alone has an empty password."""
    if key is None:
        return None
    return pybase64.b64encode((key if ":" in key else f"{key}:").encode()).decode("ascii")


def _pictures_in(turns: Sequence[Turn], sizes: Sequence[int]) -> int:
    numbers = {part.number for turn in turns for part in turn.parts if not isinstance(part, TextPart)}
    return sum(sizes[number] for number in numbers)


def _stands_alone(tree: Any, texts: Sequence[tuple[str, str]], head: str) -> bool:
    """Whether a slot such as `{image.…}` stands outside of `each image`."""

    def within(tree: Any) -> bool:
        if isinstance(tree, dict):
            return any(within(value) for key, value in tree.items() if len(tree) != 1 or key != f"each {head}")
        if isinstance(tree, list):
            return any(within(one) for one in tree)
        return isinstance(tree, str) and _has(tree)

    def _has(text: str) -> bool:
        return any(slot.startswith(f"{head}.") for slot in compile_text(text).slots())

    return within(tree) or any(_has(text) for _, text in texts)


def _repeats(tree: Any, what: str) -> bool:
    assert what in COLLECTIONS
    if isinstance(tree, dict):
        return f"each {what}" in tree or any(_repeats(value, what) for value in tree.values())
    return isinstance(tree, list) and any(_repeats(one, what) for one in tree)
