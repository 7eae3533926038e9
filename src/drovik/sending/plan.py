"""What there is to ask, and what of it has no answer yet.

Asks are light: text is rendered again when it is sent, pictures are read then, so that a hundred
thousand of them fit in memory.
"""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from drovik.images.prepare import PREPARING_REVISION
from drovik.images.source import FileState, file_state, read_source, source_digest
from drovik.problems import DrovikError, Problem
from drovik.project.arms import Arm
from drovik.project.cases import Case
from drovik.project.opening import Project
from drovik.project.tasks import Task
from drovik.sending.turns import asking_of, canonical_asking
from drovik.store.keeping import Store
from drovik.store.records import Asked


@dataclass(frozen=True)
class Ask:
    """One request to make: what an arm asks about a case."""

    task: Task
    arm: Arm
    case: Case
    repeat: int
    identity: str

    def asked(self, text: str) -> Asked:
        """The record of it for the store; `text` is the canonical form."""
        arm = self.arm
        return Asked(self.task.name, arm.digest, arm.name, self.case.id, self.repeat, self.identity, text)


@dataclass
class Plan:
    """What `send` would do. `shared` are asks that the same request as another's answers."""

    to_send: dict[str, list[Ask]] = field(default_factory=dict)
    shared: dict[str, list[Ask]] = field(default_factory=dict)
    answered: int = 0
    known_of: list[Ask] = field(default_factory=list)
    again: frozenset[str] = frozenset()

    def count(self) -> int:
        """How many requests there are to send."""
        return sum(len(asks) for asks in self.to_send.values())


def source_digests(project: Project, store: Store, cases: Iterable[Case]) -> dict[str, str]:
    """The digest of every picture of the cases, by its path; files that look unchanged are not read.

    :raises DrovikError: with every picture that is not there.
    """
    paths = dict.fromkeys(picture.path for case in cases for picture in case.pictures)
    states: list[FileState] = []
    missing: list[Problem] = []
    for path in paths:
        try:
            states.append(file_state(project.folder, path))
        except DrovikError as error:
            missing += error.problems
    if missing:
        raise DrovikError(missing)
    return store.digests.of_sources(states, lambda path: source_digest(read_source(project.folder, path)))


def asks_of(task: Task, arms: Sequence[Arm], cases: Iterable[Case], digests: dict[str, str]) -> Iterator[Ask]:
    """Every ask of a task, spread over the arms: all of them about the first case, then about the next.

    :param digests: of each picture's file, by its path.
    """
    for case in cases:
        for arm in arms:
            text = canonical_text(task, arm, case, [digests[picture.path] for picture in case.pictures])
            yield Ask(task, arm, case, 1, hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest())


def canonical_text(task: Task, arm: Arm, case: Case, digests: list[str], repeat: int = 1) -> str:
    """The canonical form of what an arm asks about a case."""
    return canonical_asking(arm, asking_of(task, arm, case), digests, PREPARING_REVISION, repeat)


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
