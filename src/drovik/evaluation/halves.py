"""Half of a task's arms, scored by a second process where there is much to score."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from typing import NamedTuple

from drovik.evaluation.chosen_arms import all_arms, chosen_arms, chosen_cases
from drovik.evaluation.scored_arms import ScoredArms, ToScore, packed, scored_arms, unpacked
from drovik.evaluation.second_process import SecondProcess, second_process
from drovik.evaluation.task_measures import task_measures
from drovik.planning.sources import Sources
from drovik.project.arms import Arm
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.store.answer_store import Store

MANY = 40_000
"""Cases times arms from which on a second process is worth its start."""
_OWN_SHARE = 0.6
"""Of the arms that the first process scores: the second has to hand over what it made, and is waited for."""


class _Job(NamedTuple):
    """What the second process is asked for: arms of a task, by their places among those that the words choose.

    `digests` are of the pictures' files, which the first process has looked at.
    """

    task: str
    words: tuple[str, ...]
    places: tuple[int, ...]
    split: str
    trust: bool
    digests: dict[str, str]


class Half(NamedTuple):
    """The second process, with what it has to know to score half of the arms."""

    process: SecondProcess
    words: tuple[str, ...]
    split: str
    trust: bool


def scored_by_two(half: Half, to_score: ToScore, arms: Sequence[Arm]) -> ScoredArms:
    """The arms, half of them scored by the second process; by this one where that fails."""
    middle = max(1, round(_OWN_SHARE * len(arms)))
    places = tuple(range(middle, len(arms)))
    is_begun = half.process.ask(
        _Job(to_score.task.name, half.words, places, half.split, half.trust, dict(to_score.digests))
    )
    mine = scored_arms(to_score, arms[:middle])
    done = half.process.answer() if is_begun else None
    if done is None:
        return mine.joined(scored_arms(to_score, arms[middle:]))
    return mine.joined(unpacked(done, to_score.cases, to_score.measures))


class _HalfScorer:
    """What the second process does."""

    def __init__(self, project: Project) -> None:
        self._project = project

    def __call__(self, job: _Job) -> bytes:
        project, task = self._project, self._project.task(job.task)
        cases = chosen_cases(project, job.split)
        with Store(project.store_place, create=False) as store:
            digests = Sources(job.digests, project, store)
            arms = chosen_arms(project, store, task, job.words)
            measures, _ = task_measures(project, store, task, cases, digests, job.trust)
            to_score = ToScore(project, store, task, cases, digests, measures)
            return packed(scored_arms(to_score, [arms[place] for place in job.places]))


def scoring_process(project: Project) -> contextlib.AbstractContextManager[SecondProcess | None]:
    """A second process that scores half of the arms, where there is much to score; before the store is opened."""
    many = sum(
        len(project.cases) * len(all_arms(project, task)) for task in project.tasks if _may_be_halved(project, task)
    )
    return second_process(_HalfScorer(project), many >= MANY)


def is_halved(project: Project, task: Task, arms: Sequence[Arm]) -> bool:
    """Whether it is worth it for arms of a task."""
    return len(arms) > 1 and len(arms) * len(project.cases) >= MANY and _may_be_halved(project, task)


def _may_be_halved(project: Project, task: Task) -> bool:
    """Whether arms of a task can be scored without knowing of the others, or of another task."""
    return task.judges is None and task.after is None and not project.judgements
