"""What the arms of a task were asked and what they answered, by arm and case: of today, of a period, brought in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from drovik.parsing.answer_text import Answer, Reader
from drovik.planning.answers import answers_for, answers_within
from drovik.planning.conversation import threads_of_task
from drovik.planning.plan import Thread
from drovik.planning.requests import Request
from drovik.project.arms import Arm
from drovik.project.cases import Case
from drovik.project.outside import OutsideAnswer
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.store.answer_store import Store


class OnceEach(Mapping[str, Sequence[Answer | None]]):
    """The answers of an arm that was asked once about each case, as those of one that was asked several times are."""

    def __init__(self, answers: Mapping[str, Answer]) -> None:
        self._answers = answers

    def __getitem__(self, case: str) -> tuple[Answer]:
        return (self._answers[case],)

    def __iter__(self) -> Iterator[str]:
        return iter(self._answers)

    def __len__(self) -> int:
        return len(self._answers)


class Identities(Mapping[str, str]):
    """What an arm was asked about each case, as it is known by: of a million, half of the memory that texts take."""

    def __init__(self) -> None:
        self._packed: dict[str, bytes] = {}

    def add(self, case: str, identity: str) -> None:
        """Take in one of them."""
        self._packed[case] = bytes.fromhex(identity)

    def __getitem__(self, case: str) -> str:
        return self._packed[case].hex()

    def __iter__(self) -> Iterator[str]:
        return iter(self._packed)

    def __len__(self) -> int:
        return len(self._packed)


@dataclass(frozen=True)
class Asked:
    """What was asked and answered, by arm and case: identities and answers of the first repeat, and all repeats."""

    identities: dict[str, Identities]
    answers: dict[str, dict[str, Answer]]
    repeats: dict[str, Mapping[str, Sequence[Answer | None]]]

    def add(self, other: Asked) -> None:
        """Take in what other arms were asked."""
        self.identities.update(other.identities)
        self.answers.update(other.answers)
        self.repeats.update(other.repeats)


class Asks:
    """What arms were asked, with no more of each request than it is known by: there may be a million."""

    def __init__(self, arms: Sequence[Arm]) -> None:
        self._arms = {arm.name: arm for arm in arms}
        self._first: dict[str, Identities] = {name: Identities() for name in self._arms}
        self._again: list[tuple[str, str, str]] = []

    def add(self, requests: Iterable[Request]) -> None:
        """Take in what was asked: of a case its repeats in their order."""
        for request in requests:
            name, case = request.arm.name, request.case.id
            if request.repeat > 1:
                self._again.append((name, case, request.identity))
            else:
                self._first[name].add(case, request.identity)

    def arms(self) -> dict[str, Arm]:
        """The arm that asked, by identity."""
        found = {
            identity: self._arms[name] for name, identities in self._first.items() for identity in identities.values()
        }
        return found | {identity: self._arms[name] for name, _, identity in self._again}

    def answered(self, found: Mapping[str, Answer]) -> Asked:
        """What was asked with its answers.

        :param found: by identity.
        """
        answers = {
            name: {case: answer for case, one in identities.items() if (answer := found.get(one)) is not None}
            for name, identities in self._first.items()
        }
        repeats: dict[str, Mapping[str, Sequence[Answer | None]]]
        repeats = {name: OnceEach(answered) for name, answered in answers.items()}
        several: dict[str, dict[str, list[Answer | None]]] = {}
        for name, case, identity in self._again:
            if name not in several:
                several[name] = {one: [found.get(first)] for one, first in self._first[name].items()}
            several[name].setdefault(case, []).append(found.get(identity))
        return Asked(self._first, answers, {**repeats, **several})


def answered_within(
    project: Project, store: Store, task: Task, arm: Arm, cases: tuple[Case, ...], digests: dict[str, str]
) -> Asked:
    """What an arm answered in its period."""
    assert arm.period is not None, "only of arms that have one"
    threads = threads_of_task(project, store, task, [arm], cases, digests)
    requests = [one.requests[-1] for one in threads if len(one.requests) > len(one.arm.prompt.turns)]
    asks = Asks([arm])
    asks.add(requests)
    return asks.answered(answers_within(project, store, task, requests, arm.period))


def add_outside(asked: Asked, task: Task, arms: Sequence[Arm], cases: Sequence[Case]) -> None:
    """The answers of the arms that were brought in, read as replies are."""
    reader = Reader(task.form, task.schema)
    for arm in arms:
        for case in cases if arm.outside else ():
            brought = arm.outside.answers.get(case.id) if arm.outside else None
            if brought is not None:
                asked.answers[arm.name][case.id] = _outside_answer(reader, brought)


def _outside_answer(reader: Reader, brought: OutsideAnswer) -> Answer:
    read = reader.read(brought.text())
    return Answer(
        read.status, read.how, brought.text(), read.value, read.errors, spent=brought.spent, seconds=brought.seconds
    )


def asks_of_older(store: Store, task: Task, arms: Sequence[Arm], cases: Sequence[Case]) -> list[Request]:
    """What arms asked before something of them was edited."""
    by_id = {case.id: case for case in cases}
    return [
        Request(task, arm, by_id[case], repeat, identity)
        for arm in arms
        if "@" in arm.name and arm.period is None
        for case, repeat, identity in store.asked_by(task.name, arm.digest)
        if case in by_id
    ]


def earlier_turns(
    project: Project, store: Store, task: Task, threads: Sequence[Thread]
) -> dict[str, dict[int, dict[str, list[Answer | None]]]]:
    """The answers to the turns before the last, by arm, turn and case, of all repeats."""
    before = [request for one in threads for request in one.requests if request.turn <= len(one.arm.prompt.turns)]
    answers = answers_for(project, store, task, before) if before else {}
    found: dict[str, dict[int, dict[str, list[Answer | None]]]] = {}
    for request in before:
        turn = found.setdefault(request.arm.name, {}).setdefault(request.turn, {})
        turn.setdefault(request.case.id, []).append(answers.get(request.identity))
    return found


def repair_turns(
    project: Project, store: Store, task: Task, threads: Sequence[Thread]
) -> dict[str, dict[tuple[str, int], Answer]]:
    """The answers of repair turns at the last turn, by arm, case and repeat (from 0)."""
    requests = [request for one in threads for request in one.second if request.turn > len(one.arm.prompt.turns)]
    answers = answers_for(project, store, task, requests) if requests else {}
    found: dict[str, dict[tuple[str, int], Answer]] = {}
    for request in requests:
        if request.identity in answers:
            found.setdefault(request.arm.name, {})[request.case.id, request.repeat - 1] = answers[request.identity]
    return found
