"""What there is to ask, and what of it has no answer yet.

What is asked next in a conversation, or by a task that comes after another, depends on answers: it is
planned when those are there (see `threads`).

A part of the cases or answers, drawn by a seed: for a first look, or to see whether a service is as it was.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Literal, NamedTuple

from jsonpointer import JsonPointer, JsonPointerException

from drovik.planning.requests import Request
from drovik.project.arms import Arm, canonical
from drovik.project.cases import Case
from drovik.project.tasks import Task


def sample_of_cases(cases: Sequence[Case], tasks: Iterable[Task], count: int, seed: int) -> list[Case]:
    """This many cases, spread over the labels as evenly as there are cases of each, in the order of the project.

    The labels are those expected by the first task that has a label measure; cases without one are a label of
    their own.
    """
    by_label: dict[str, list[Case]] = {}
    place = label_place(tasks)
    for case in cases:
        by_label.setdefault(label_of(case, place), []).append(case)
    chance = random.Random(seed)
    heaps = [chance.sample(by_label[label], len(by_label[label])) for label in sorted(by_label)]
    chance.shuffle(heaps)
    taken: set[str] = set()
    while heaps and len(taken) < count:
        for heap in heaps:
            if len(taken) < count:
                taken.add(heap.pop().id)
        heaps = [heap for heap in heaps if heap]
    return [case for case in cases if case.id in taken]


def label_place(tasks: Iterable[Task]) -> tuple[str, str] | None:
    """Where the first task with a label measure has its label: the task, and the place in its expected output."""
    for task in tasks:
        for measure in sorted(task.measures, key=lambda one: one.name != task.decide_on):
            if measure.type == "label":
                return task.name, str(measure.table.get("at", ""))
    return None


def label_of(case: Case, place: tuple[str, str] | None) -> str:
    """The label that is expected of a case, in canonical form; empty where there is none."""
    if place is None or place[0] not in case.expected:
        return ""
    try:
        return canonical(JsonPointer(place[1]).resolve(case.expected[place[0]], None))
    except JsonPointerException:
        return ""


def sample_of_asks(requests: Iterable[Request], count: int, seed: int) -> list[Request]:
    """Of each arm this many requests that have an answer, in order."""
    by_arm: dict[tuple[str, str], list[Request]] = {}
    for request in requests:
        by_arm.setdefault((request.task.name, request.arm.name), []).append(request)
    chance = random.Random(seed)
    chosen = {
        one.identity for name in sorted(by_arm) for one in chance.sample(by_arm[name], min(count, len(by_arm[name])))
    }
    return [request for requests in by_arm.values() for request in requests if request.identity in chosen]


State = Literal["open", "before", "stuck", "not_asked"]
"""`open`: as far as it got; `before`: the task before has no answer; `stuck`: a turn or task before failed;
`not_asked`: its `where` does not hold."""


class Thread(NamedTuple):
    """All requests of a thread that are known; all but the last have an answer.

    `second` are the repair turns after answers that were not valid.
    """

    arm: Arm
    case: Case
    repeat: int
    requests: tuple[Request, ...]
    state: State
    second: tuple[Request, ...] = ()

    @property
    def every(self) -> tuple[Request, ...]:
        """All that is asked, repair turns too."""
        return (*self.requests, *self.second) if self.second else self.requests


Follow = Callable[[Request], Sequence[Request]]


def _no_more(request: Request) -> Sequence[Request]:
    return ()


@dataclass(frozen=True)
class Plan:
    """What `send` would do. `shared` are requests that the same request as another's answers.

    `to_send` is by endpoint, with those to which only what follows may go; `known_of` are those that are answered.
    `follow` gives what to ask once a request has its answer; `waiting` is how many requests wait for a task that
    is not sent, by the words for it. In a `recheck` all of it is asked again, and the answers stay those of before.
    """

    to_send: Mapping[str, Sequence[Request]]
    shared: Mapping[str, Sequence[Request]]
    known_of: Sequence[Request]
    again: frozenset[str] = frozenset()
    recheck: bool = False
    follow: Follow = _no_more
    waiting: Mapping[str, int] = field(default_factory=dict)

    @property
    def answered(self) -> int:
        """How many are answered already."""
        return len(self.known_of)

    def count(self) -> int:
        """How many requests there are to send at once."""
        return sum(len(requests) for requests in self.to_send.values())


def plan_sending(
    requests: Iterable[Request],
    concluded: Collection[str],
    again: Collection[str] = (),
    *,
    recheck: bool = False,
    follow: Follow = _no_more,
    endpoints: Iterable[str] = (),
    waiting: Mapping[str, int] = MappingProxyType({}),
) -> Plan:
    """Sort requests into those to send, by endpoint, and those that are answered.

    :param concluded: the identities that have an answer.
    :param again: of these, the identities to ask again.
    :param recheck: whether all of it is asked only to see whether it is still answered so.
    :param follow: what to ask once a request has its answer.
    :param endpoints: where that may go, if anything is sent at all.
    :param waiting: how many wait for a task that is not sent, by the words for it.
    """
    to_send: dict[str, list[Request]] = {}
    shared: dict[str, list[Request]] = {}
    known_of: list[Request] = []
    first: dict[str, Request] = {}
    for request in requests:
        if request.identity in concluded and request.identity not in again:
            known_of.append(request)
        elif request.identity in first:
            shared.setdefault(request.identity, []).append(request)
        else:
            first[request.identity] = request
            to_send.setdefault(request.arm.model.endpoint, []).append(request)
    for endpoint in endpoints if first else ():
        to_send.setdefault(endpoint, [])
    return Plan(
        to_send=to_send,
        shared=shared,
        known_of=known_of,
        again=frozenset(again),
        recheck=recheck,
        follow=follow,
        waiting=waiting,
    )
