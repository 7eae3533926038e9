"""One request: what an arm asks about a case, and the identity that its answer is known by.

Requests are light: text is rendered again when it is sent, pictures are read then, so that a hundred
thousand of them fit in memory.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, NamedTuple

from drovik.dialects.request import Conversation
from drovik.images.prepare import PREPARING_REVISION
from drovik.planning.rendering import canonical_conversation, conversation_of, is_same_for_all
from drovik.planning.sources import shown_of
from drovik.project.arms import Arm, digest_of_text
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.store.records import RequestRecord


@dataclass(frozen=True)
class RepairTurn:
    """A repair turn: the answer that was not valid, and what is wrong with it."""

    text: str
    errors: str


class Request(NamedTuple):
    """One request to make: what an arm asks about a case.

    `said` are the answers to the turns before, `earlier` the answers of the tasks before, `shown` is what the
    prompt may say of the pictures. `repair` is there in a repair turn.
    """

    task: Task
    arm: Arm
    case: Case
    repeat: int
    identity: str
    said: tuple[str, ...] = ()
    earlier: Mapping[str, Any] = MappingProxyType({})
    shown: Mapping[str, Any] = MappingProxyType({})
    repair: RepairTurn | None = None

    @property
    def turn(self) -> int:
        """Which turn of the conversation it asks, from 1."""
        return len(self.said) + 1

    def conversation(self) -> Conversation:
        """What is said, in turns."""
        return conversation_of(
            self.task, self.arm, self.case, self.said, self.earlier, self.shown, _pair(self.repair)
        )

    @property
    def known_as(self) -> str:
        """What the store knows it by among all that its arm asks (see the store's `asked`): the identity is of the
        whole conversation, with its turns and which repeat it is.
        """
        return f"{self.identity} {self.case.id}"

    def asked(self, text: str) -> RequestRecord:
        """The record of it for the store; `text` is the canonical form."""
        arm = self.arm
        return RequestRecord(
            task=self.task.name,
            arm=arm.digest,
            arm_name=arm.name,
            case_id=self.case.id,
            repeat=self.repeat,
            identity=self.identity,
            text=text,
            turn=self.turn,
            second=self.repair is not None,
        )


Pieces = tuple[str, list[tuple[int, str]]]
"""A canonical form in pieces: its beginning, then the number of a picture and what is behind its digest."""
_Forms = dict[tuple[str, int], Pieces | None]
"""By the arm's digest and the repeat: the form of what is asked of every case, or None where it is not the same."""
_STANDS_FOR = secrets.token_hex(16)


class Asking:
    """Makes the requests of a task, about one case after another: what is the same for many cases is written once."""

    def __init__(self, task: Task, digests: Mapping[str, str]) -> None:
        """
        :param digests: of each picture's file, by its path.
        """
        self.task, self.digests = task, digests
        self._forms: dict[tuple[str | None, ...], _Forms] = {}

    def about(self, case: Case) -> AskingAbout:
        """Makes the requests about one case."""
        written, found, has_page = [], [], False
        for picture in case.pictures:
            written.append(picture.tag)
            found.append(self.digests[picture.path])
            has_page = has_page or picture.page is not None
        tags = tuple(written)
        forms = self._forms.get(tags) if not has_page else {}
        if forms is None:
            forms = self._forms[tags] = {}
        return AskingAbout(self, case, forms, found, has_page)


class AskingAbout:
    """Makes the requests of a task about one case."""

    __slots__ = ("_asking", "_case", "_forms", "_found", "_has_page")

    def __init__(self, asking: Asking, case: Case, forms: _Forms, found: list[str], has_page: bool) -> None:
        """
        :param found: the digests of the case's pictures.
        """
        self._asking, self._case, self._forms, self._found, self._has_page = asking, case, forms, found, has_page

    def request(
        self,
        arm: Arm,
        said: tuple[str, ...] = (),
        earlier: Mapping[str, Any] = MappingProxyType({}),
        repeat: int = 1,
        repair: RepairTurn | None = None,
    ) -> Request:
        """A request with its identity."""
        task, case = self._asking.task, self._case
        if not said and repair is None:
            # The digest of the arm is also of its prompt, of the labels in it, and of the schema that is sent.
            key = arm.digest, repeat
            form = self._forms[key] if key in self._forms else self._form(arm, repeat)
            if form is not None:
                text, others = form
                for number, behind in others:
                    text += self._found[number] + behind
                return Request(task, arm, case, repeat, digest_of_text(text), (), earlier)
        shown = shown_of(arm, case, self._asking.digests)
        asked = conversation_of(task, arm, case, said, earlier, shown, _pair(repair))
        text = canonical_conversation(arm, case, asked, self._found, PREPARING_REVISION, repeat, task.told_schema())
        return Request(task, arm, case, repeat, digest_of_text(text), said, earlier, shown, repair)

    def _form(self, arm: Arm, repeat: int) -> Pieces | None:
        """The canonical form of what is asked of every case, where only the pictures differ; None where more does."""
        form = None
        if is_same_for_all(arm, (), False) and not self._has_page and not isinstance(arm.prep.crop, str):
            task, case = self._asking.task, self._case
            places = [f"{_STANDS_FOR}{number:04d}" for number in range(len(case.pictures))]
            asked = conversation_of(task, arm, case)
            made = canonical_conversation(arm, case, asked, places, PREPARING_REVISION, repeat, task.told_schema())
            first, *rest = re.split(f"{_STANDS_FOR}([0-9]{{4,}})", made)
            form = first, [(int(number), text) for number, text in zip(rest[::2], rest[1::2], strict=True)]
        self._forms[arm.digest, repeat] = form
        return form


def request_of(
    task: Task,
    arm: Arm,
    case: Case,
    digests: Mapping[str, str],
    said: tuple[str, ...] = (),
    earlier: Mapping[str, Any] | None = None,
    repeat: int = 1,
    repair: RepairTurn | None = None,
) -> Request:
    """A request with its identity.

    :param digests: of each picture's file, by its path.
    """
    return Asking(task, digests).about(case).request(arm, said, earlier or {}, repeat, repair)


def _pair(repair: RepairTurn | None) -> tuple[str, str] | None:
    return None if repair is None else (repair.text, repair.errors)
