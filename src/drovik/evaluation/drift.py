"""Whether a service still answers as it did: the answers of before beside those of a recheck."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from math import comb

from drovik.parsing.answer_text import Reader
from drovik.parsing.status import Status
from drovik.planning.answers import answers_for, read_reply
from drovik.planning.requests import Request
from drovik.project.reading import Project
from drovik.scoring.agreement import comparable, pairwise_agreement
from drovik.store.answer_store import Store


@dataclass
class Drift:
    """One arm: how many were asked again, how many answered the same, and which models the service reported.

    `expected_same` is the share of pairs of its repeats that agree, where it has repeats: this much is chance.
    """

    task: str
    arm: str
    asked: int = 0
    same: int = 0
    failed: int = 0
    models_before: Counter[str] = field(default_factory=Counter)
    models_now: Counter[str] = field(default_factory=Counter)
    changed: list[str] = field(default_factory=list)
    expected_same: float | None = None

    @property
    def verdict(self) -> str:
        """In words, whether it answers as before."""
        if self.models_before and self.models_now and set(self.models_before) != set(self.models_now):
            return "another model is reported"
        if not self.asked:
            return "no reply"
        if self.same == self.asked:
            return "as before"
        if self.expected_same is None:
            return "differs; without repeats nobody can say how much of that is chance"
        return "within chance" if self.chance_of_so_few() > 0.05 else "differs, by more than chance"

    def chance_of_so_few(self) -> float:
        """How likely so few same answers are if each is the same by the chance that repeats show (binomial)."""

        p = self.expected_same or 0.0
        return sum(comb(self.asked, k) * p**k * (1 - p) ** (self.asked - k) for k in range(self.same + 1))


def drift_of(project: Project, store: Store, requests: Iterable[Request], repeats: Iterable[Request]) -> list[Drift]:
    """What a recheck showed, by arm.

    :param requests: those that were asked again.
    :param repeats: all requests of those arms, for the agreement of their repeats.
    """
    found: dict[tuple[str, str], Drift] = {}
    every = list(requests)
    for task in project.tasks:
        own = [request for request in every if request.task.name == task.name]
        before = answers_for(project, store, task, own)
        reader = Reader(task.form, task.schema)
        for request in own:
            one = found.setdefault((task.name, request.arm.name), Drift(task.name, request.arm.name))
            reply = store.recheck_for(request.identity)
            if request.identity not in before or reply is None:
                one.failed += 1
                continue
            now, model = read_reply(project, reader, request.arm, reply), reply.model
            if now.status is Status.FAILED:
                one.failed += 1
                continue
            old = before[request.identity]
            one.asked += 1
            one.models_before[old.model or ""] += bool(old.model)
            one.models_now[model or ""] += bool(model)
            if comparable(old) == comparable(now):
                one.same += 1
            else:
                one.changed.append(request.case.id)
    shares = agreement_of_repeats(project, store, repeats)
    for key, one in found.items():
        one.expected_same = shares.get(key)
        one.models_before, one.models_now = +one.models_before, +one.models_now
    return list(found.values())


def agreement_of_repeats(project: Project, store: Store, requests: Iterable[Request]) -> dict[tuple[str, str], float]:
    """By task and arm, the share of pairs of repeats that answer the same; only for arms that have repeats."""
    groups: dict[tuple[str, str], dict[str, list[str]]] = {}
    every = list(requests)
    for task in project.tasks:
        own = [request for request in every if request.task.name == task.name and request.repair is None]
        answers = answers_for(project, store, task, own)
        for request in own:
            if request.identity in answers and answers[request.identity].status is not Status.FAILED:
                cases = groups.setdefault((task.name, request.arm.name), {})
                cases.setdefault(request.case.id, []).append(comparable(answers[request.identity]))
    return {key: share for key, cases in groups.items() if (share := pairwise_agreement(cases)) is not None}
