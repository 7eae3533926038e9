"""What there is to ask, and what of it has no answer yet.

Asks are light: text is rendered again when it is sent, pictures are read then, so that a hundred
thousand of them fit in memory. What is asked next in a conversation, or by a task that comes after
another, depends on answers: it is planned when those are there (see `threads`).
"""

from __future__ import annotations

import hashlib
import re
import secrets
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any, NamedTuple

from drovik.images.prepare import PREPARING_REVISION
from drovik.project.arms import Arm
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.sending.sources import shown_of
from drovik.sending.turns import Asking, asking_of, canonical_asking, is_same_for_all
from drovik.store.records import Asked


@dataclass(frozen=True)
class Mend:
    """A second try: the answer that was not in form, and what is wrong with it."""

    text: str
    errors: str


class Ask(NamedTuple):
    """One request to make: what an arm asks about a case.

    `said` are the answers to the turns before, `earlier` the answers of the tasks before, `shown` is what the
    prompt may say of the pictures. `mend` is there in a second try.
    """

    task: Task
    arm: Arm
    case: Case
    repeat: int
    identity: str
    said: tuple[str, ...] = ()
    earlier: Mapping[str, Any] = MappingProxyType({})
    shown: Mapping[str, Any] = MappingProxyType({})
    mend: Mend | None = None

    @property
    def turn(self) -> int:
        """Which turn of the conversation it asks, from 1."""
        return len(self.said) + 1

    def asking(self) -> Asking:
        """What is said, in turns."""
        return asking_of(self.task, self.arm, self.case, self.said, self.earlier, self.shown, _pair(self.mend))

    def row(self) -> tuple[str, str, str, int, int, int, str]:
        """What the store knows it by: task, arm, case, repeat, turn, whether a second try, identity."""
        task, arm, case, second = self.task.name, self.arm.digest, self.case.id, int(self.mend is not None)
        return task, arm, case, self.repeat, self.turn, second, self.identity

    def asked(self, text: str) -> Asked:
        """The record of it for the store; `text` is the canonical form."""
        arm = self.arm
        return Asked(
            self.task.name, arm.digest, arm.name, self.case.id, self.repeat, self.identity, text, self.turn,
            self.mend is not None,
        )  # fmt: skip


Follow = Callable[[Ask], Sequence[Ask]]


def _no_more(ask: Ask) -> Sequence[Ask]:
    return ()


@dataclass
class Plan:
    """What `send` would do. `shared` are asks that the same request as another's answers.

    `follow` gives what to ask once an ask has its answer; `waiting` is how many asks wait for a task that
    is not sent, by the words for it. In a `recheck` all of it is asked anew, and the answers stay those of before.
    """

    to_send: dict[str, list[Ask]] = field(default_factory=dict)
    shared: dict[str, list[Ask]] = field(default_factory=dict)
    answered: int = 0
    known_of: list[Ask] = field(default_factory=list)
    again: frozenset[str] = frozenset()
    recheck: bool = False
    follow: Follow = _no_more
    waiting: dict[str, int] = field(default_factory=dict)

    def count(self) -> int:
        """How many requests there are to send at once."""
        return sum(len(asks) for asks in self.to_send.values())


def ask_of(
    task: Task,
    arm: Arm,
    case: Case,
    digests: Mapping[str, str],
    said: tuple[str, ...] = (),
    earlier: Mapping[str, Any] | None = None,
    repeat: int = 1,
    mend: Mend | None = None,
) -> Ask:
    """An ask with its identity.

    :param digests: of each picture's file, by its path.
    """
    found = [digests[picture.path] for picture in case.pictures]
    shown = shown_of(arm, case, digests)
    asking = asking_of(task, arm, case, said, earlier, shown, _pair(mend))
    if is_same_for_all(asking) and not _has_a_part_of_its_own(arm, case):
        text = _filled_in(task, arm, case, asking, found, repeat)
    else:
        text = canonical_asking(arm, case, asking, found, PREPARING_REVISION, repeat, task.told_schema())
    identity = hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()
    return Ask(task, arm, case, repeat, identity, said, earlier or {}, shown, mend)


def _has_a_part_of_its_own(arm: Arm, case: Case) -> bool:
    """Whether what is shown of the pictures differs from case to case: a region, or one page."""
    if isinstance(arm.prep.crop, str):
        return True
    return [one for one in case.pictures if one.page] != []


_FORMS: dict[tuple[int, int], tuple[str, list[tuple[int, str]]]] = {}
_STANDS_FOR = secrets.token_hex(16)


def _filled_in(task: Task, arm: Arm, case: Case, asking: Asking, digests: Sequence[str], repeat: int) -> str:
    """The canonical form where only the pictures differ from case to case: made once, in pieces between digests.

    :param asking: the very object that all such cases share, which is kept as long as the program runs.
    """
    key = (id(asking), repeat)
    if key not in _FORMS:
        places = [f"{_STANDS_FOR}{number:04d}" for number in range(len(digests))]
        made = canonical_asking(arm, case, asking, places, PREPARING_REVISION, repeat, task.told_schema())
        first, *rest = re.split(f"{_STANDS_FOR}([0-9]{{4,}})", made)
        _FORMS[key] = first, [(int(number), text) for number, text in zip(rest[::2], rest[1::2], strict=True)]
    first, others = _FORMS[key]
    return first + "".join([digests[number] + text for number, text in others])


def _pair(mend: Mend | None) -> tuple[str, str] | None:
    return None if mend is None else (mend.text, mend.errors)


def plan_sending(asks: Iterable[Ask], concluded: Collection[str], again: Collection[str] = ()) -> Plan:
    """Sort asks into those to send, by endpoint, and those that are answered.

    :param concluded: the identities that have an answer.
    :param again: of these, the identities to ask anew.
    """
    plan = Plan(again=frozenset(again))
    first: dict[str, Ask] = {}
    for ask in asks:
        if ask.identity in concluded and ask.identity not in again:
            plan.answered += 1
            plan.known_of.append(ask)
        elif ask.identity in first:
            plan.shared.setdefault(ask.identity, []).append(ask)
        else:
            first[ask.identity] = ask
            plan.to_send.setdefault(ask.arm.model.endpoint, []).append(ask)
    return plan
