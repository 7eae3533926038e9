"""The controls that an arm was asked: its scores without looking, beside those with the picture."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from drovik.parsing.answer_text import Answer
from drovik.planning.answers import answers_for
from drovik.planning.control_kinds import CONTROLS, Control
from drovik.planning.controls import control_arm, control_cases, control_task
from drovik.planning.conversation import threads_of_task
from drovik.project.arms import Arm
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.scoring.agreement import comparable
from drovik.scoring.scores import ArmScores
from drovik.store.answer_store import Store


@dataclass(frozen=True)
class ControlScores:
    """A control of an arm: what it scores, and of how many cases, answered by both, the answer is another."""

    arm: str
    control: Control
    scores: ArmScores
    asked: int
    moved: int


Score = Callable[[str, Sequence[Case], Mapping[str, Sequence[Answer | None]]], ArmScores]
"""Scores answers under the name of an arm."""


def controls_of(
    project: Project, store: Store, task: Task, arms: Sequence[Arm], cases: Sequence[Case],
    digests: Mapping[str, str], answers: Mapping[str, Mapping[str, Answer]], score: Score,
) -> tuple[ControlScores, ...]:  # fmt: skip
    """The controls of a task's arms that were asked, in the order of the arms.

    :param answers: of the arms themselves, by arm and case.
    """
    if task.after is not None or task.judges is not None:
        return ()
    found = []
    for arm in arms:
        for control in CONTROLS if arm.outside is None and "@" not in arm.name else ():
            changed = control_arm(arm, control)
            if not store.has_asked(task.name, changed.digest):
                continue
            own = control_cases(cases, project.cases, task, control)
            asks = control_task(task, control)
            threads = threads_of_task(project, store, asks, [changed], own, digests)
            requests = [one.requests[-1] for one in threads if len(one.requests) > len(changed.prompt.turns)]
            got = answers_for(project, store, task, requests)
            by_case: dict[str, list[Answer | None]] = {}
            for request in requests:
                by_case.setdefault(request.case.id, []).append(got.get(request.identity))
            first = {name: one[0] for name, one in by_case.items() if one[0] is not None}
            real = answers.get(arm.name, {})
            both = [name for name in first if name in real]
            moved = sum(comparable(first[name]) != comparable(real[name]) for name in both)
            found.append(ControlScores(arm.name, control, score(changed.name, cases, by_case), len(both), moved))
    return tuple(found)
