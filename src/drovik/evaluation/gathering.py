"""A project and its store → its tasks with their arms, answers and scores."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from drovik.errors import Problem, UsageError, known_words
from drovik.evaluation.controls import ControlScores, controls_of
from drovik.evaluation.scored_arms import ScoredArms, packed, scored_arms, unpacked
from drovik.evaluation.second_process import SecondProcess, second_process
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.planning.answers import answers_for
from drovik.planning.controls import MARK as CONTROL_MARK
from drovik.planning.conversation import arm_before, threads_of_task
from drovik.planning.sources import source_digests
from drovik.project.arms import Arm, arms_of, check_arm_words, fitting_arms, outside_arms
from drovik.project.cases import Case
from drovik.project.periods import period_of
from drovik.project.reading import Project
from drovik.project.tasks import Task, judged_id
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.catalogue import measures_of, measures_with_expectations
from drovik.scoring.json_pointer import Structure, structure_of
from drovik.scoring.measure import Measure
from drovik.scoring.measures.function import Function
from drovik.scoring.measures.judge import Judge
from drovik.scoring.scores import ArmScores, Expectations
from drovik.store.answer_store import Store

MARK = 4
"""This many characters of its digest tell an older arm apart."""
MANY = 40_000
"""Cases times arms from which on a second process is worth its start."""


@dataclass(frozen=True)
class TaskView:
    """A task with all that is known of its arms.

    `identities` are of all that is asked, `answers` of what has one, both by arm and by case; `older` are
    arms that asked before something of them was edited, with the number of cases they asked about. `not_run` are the
    own measures that nobody trusted.
    """

    task: Task
    measures: tuple[Measure, ...]
    arms: tuple[Arm, ...]
    cases: tuple[Case, ...]
    identities: Mapping[str, Mapping[str, str]]
    answers: Mapping[str, Mapping[str, Answer]]
    scores: tuple[ArmScores, ...]
    older: tuple[tuple[str, int], ...]
    not_run: tuple[str, ...] = ()
    controls: tuple[ControlScores, ...] = ()
    """The controls that were asked, beside the arms and never ranked with them."""

    def structure(self, arm: str) -> Structure | None:
        """The structure of an arm's JSON answers, where no schema holds them together."""
        if self.task.form != "json" or self.task.schema is not None:
            return None
        return structure_of(one.value for one in self.answers[arm].values() if one.status is Status.OK)

    def score_of(self, arm: str) -> ArmScores:
        """The scores of the arm of that name."""
        return next(one for one in self.scores if one.arm == arm)


def chosen_cases(project: Project, split: str) -> tuple[Case, ...]:
    """The cases of a split, or all."""
    return tuple(case for case in project.cases if split in ("all", case.split))


def chosen_tasks(project: Project, names: Sequence[str] | None) -> tuple[Task, ...]:
    """The tasks of those names, or all."""
    return tuple(project.task(name) for name in names) if names else project.tasks


def gather(
    project: Project,
    store: Store,
    tasks: Sequence[str] | None,
    arms: Sequence[str] | None,
    split: str,
    trust: bool = False,
    second: SecondProcess | None = None,
) -> list[TaskView]:
    """The views of the chosen tasks, with the chosen arms that each of them has.

    :param trust: whether the project's own functions may be run as measures.
    :param second: a `scoring_process`, which then does half of the work.

    :raises DrovikError: where a word fits no arm of any chosen task.
    """
    cases = chosen_cases(project, split)
    digests = source_digests(project, store, cases)
    chosen = chosen_tasks(project, tasks)
    words = arms or ()
    every = [arm for task in chosen for arm in all_arms(project, task)]
    check_arm_words(every, [word for word in words if "@" not in word])
    fitting = {task.name: _arms(project, store, task, words) for task in chosen}
    for word in words:
        if "@" in word and not any(arm.name.startswith(word) for one in fitting.values() for arm in one):
            known = known_words(word, [name for task in chosen for name, _ in _older_names(project, store, task)])
            raise UsageError(Problem(f"there is no older arm '{word}'", known))
    half = None if second is None else Half(second, tuple(words), split, trust)
    return [
        _view(project, store, task, own, cases, digests, trust, half if _is_halved(project, task, own) else None)
        for task in chosen
        if (own := fitting[task.name])
    ]


def all_arms(project: Project, task: Task) -> tuple[Arm, ...]:
    """The arms of a task: those that are asked, and those that were brought in."""
    return arms_of(task, project.settings) + outside_arms(task, project.outside.get(task.name, ()))


def _arms(project: Project, store: Store, task: Task, words: Sequence[str]) -> tuple[Arm, ...]:
    current = all_arms(project, task)
    if not words:
        return current
    found = list(fitting_arms(current, [word for word in words if "@" not in word]) if _plain(words) else ())
    for word in words:
        if "@" in word:
            found += _older(store, task, current, word) or _of_a_period(current, word)
    return tuple({(arm.name, arm.digest): arm for arm in found}.values())


def _plain(words: Sequence[str]) -> bool:
    return any("@" not in word for word in words)


def _older(store: Store, task: Task, current: Sequence[Arm], word: str) -> list[Arm]:
    """An arm as it was: its answers are read by the model's endpoint of today."""
    name, _, mark = word.partition("@")
    arm = next((one for one in current if one.name == name), None)
    known = store.older_arms(task.name, [one.digest for one in current])
    digests = [digest for digest, asked, _ in known if asked == name and digest.startswith(mark)]
    return [replace(arm, name=f"{name}@{one[:MARK]}", digest=one) for one in digests] if arm else []


def _of_a_period(current: Sequence[Arm], word: str) -> list[Arm]:
    """The arms of a word such as `fulmar/v2@2026-03`, as they answered in those days."""
    name, _, days = word.partition("@")
    period = period_of(days)
    fitting = [arm for arm in fitting_arms(current, [name]) if arm.outside is None] if period else []
    return [replace(arm, name=f"{arm.name}@{days}", period=period) for arm in fitting]


def _older_names(project: Project, store: Store, task: Task) -> tuple[tuple[str, int], ...]:
    current = [arm.digest for arm in arms_of(task, project.settings)]
    return tuple(
        (f"{name}@{digest[:MARK]}", count)
        for digest, name, count in store.older_arms(task.name, current)
        if CONTROL_MARK not in name
    )


def _wrong_before(
    project: Project,
    store: Store,
    task: Task,
    arms: Sequence[Arm],
    cases: tuple[Case, ...],
    digests: dict[str, str],
) -> dict[str, frozenset[str]]:
    """For a task that comes after another: by arm, the cases whose answer before was wrong already."""
    if task.after is None:
        return {}
    before = project.task(task.after.task)
    wanted = {arm.name: one for arm in arms if (one := arm_before(project, task, arm)) is not None}
    distinct = tuple({one.name: one for one in wanted.values()}.values())
    view = _view(project, store, before, distinct, cases, digests)
    found = {}
    for name, one in wanted.items():
        measure = view.score_of(one.name).measure(before.decide_on or "")
        wrong = [case.case.id for case in measure.scored if case.score and case.score.value < 1] if measure else []
        found[name] = frozenset(wrong)
    return found


def _heard(project: Project, store: Store, judge: Judge, cases: tuple[Case, ...], digests: dict[str, str]) -> Judge:
    """The measure with what its judge said of every answer, and people of some.

    :raises DrovikError: if the judge does not exist, or it has no such arm.
    """
    task = project.task(judge.by)
    if task.judges is None:
        what = f"the task '{judge.by}' judges no other"
        raise UsageError(Problem(what, f"say whose answers: [judges] in {task.file}"))
    arms = arms_of(task, project.settings)
    check_arm_words(arms, [judge.arm] if judge.arm else [])
    chosen = fitting_arms(arms, [judge.arm] if judge.arm else ())[:1]
    threads = threads_of_task(project, store, task, chosen, cases, digests)
    requests = [
        one.requests[-1] for one in threads if one.repeat == 1 and len(one.requests) > len(one.arm.prompt.turns)
    ]
    answers = answers_for(project, store, task, requests)
    verdicts = {
        request.case.id: answers[request.identity].value
        for request in requests
        if request.identity in answers and answers[request.identity].status is Status.OK
    }
    reviews = {
        judged_id(case, arm): verdict for (name, case, arm), verdict in project.reviews.items() if name == judge.by
    }
    return judge.heard(verdicts, reviews)


def _measures(
    project: Project, store: Store, task: Task, cases: tuple[Case, ...], digests: dict[str, str], trust: bool
) -> tuple[tuple[Measure, ...], tuple[str, ...]]:
    """A task's measures, with all that they have to know; and the names of those that nobody trusted."""
    found: list[Measure] = []
    for one in measures_with_expectations(measures_of(task, []), task, project.cases):
        if isinstance(one, Judge):
            found.append(_heard(project, store, one, cases, digests))
        else:
            found.append(one.trusted(project.folder) if isinstance(one, Function) and trust else one)
    not_run = tuple(one.name for one in found if isinstance(one, Function) and not one.may_run)
    return tuple(one for one in found if one.name not in not_run), not_run


def _view(
    project: Project,
    store: Store,
    task: Task,
    arms: tuple[Arm, ...],
    cases: tuple[Case, ...],
    digests: dict[str, str],
    trust: bool = False,
    half: Half | None = None,
) -> TaskView:
    measures, not_run = _measures(project, store, task, cases, digests, trust)
    expectations = Expectations(task)
    wrong = _wrong_before(project, store, task, arms, cases, digests)

    def scored(chosen: Sequence[Arm]) -> ScoredArms:
        return scored_arms(project, store, task, chosen, cases, digests, measures, expectations, wrong)

    found = scored(arms) if half is None else _scored_by_two(half, scored, task, arms, cases, measures)

    def score(name: str, of: Sequence[Case], answers: Mapping[str, Sequence[Answer | None]]) -> ArmScores:
        every = {one: tuple(given) for one, given in answers.items()}
        return score_arm(task, name, found.measures, of, every, {}, {}, expectations)

    return TaskView(
        task=task,
        measures=found.measures,
        arms=arms,
        cases=found.cases,
        identities=found.identities,
        answers=found.answers,
        scores=found.scores,
        older=_older_names(project, store, task),
        not_run=not_run,
        controls=controls_of(project, store, task, arms, found.cases, digests, found.answers, score),
    )


class _Job(NamedTuple):
    """What the second process is asked for: arms of a task, by their places among those that the words choose."""

    task: str
    words: tuple[str, ...]
    places: tuple[int, ...]
    split: str
    trust: bool


class Half(NamedTuple):
    """The second process, with what it has to know to score half of the arms."""

    process: SecondProcess
    words: tuple[str, ...]
    split: str
    trust: bool


def _scored_by_two(
    half: Half,
    scored: Callable[[Sequence[Arm]], ScoredArms],
    task: Task,
    arms: tuple[Arm, ...],
    cases: tuple[Case, ...],
    measures: tuple[Measure, ...],
) -> ScoredArms:
    """The arms, half of them scored by the second process; by this one where that fails."""
    middle = (len(arms) + 1) // 2
    job = _Job(task.name, half.words, tuple(range(middle, len(arms))), half.split, half.trust)
    is_begun = half.process.ask(job)
    mine = scored(arms[:middle])
    done = half.process.answer() if is_begun else None
    return mine.joined(scored(arms[middle:]) if done is None else unpacked(done, cases, measures))


class _HalfScorer:
    """What the second process does."""

    def __init__(self, project: Project) -> None:
        self._project = project
        self._digests: dict[str, dict[str, str]] = {}

    def __call__(self, job: _Job) -> bytes:
        project, task = self._project, self._project.task(job.task)
        cases = chosen_cases(project, job.split)
        with Store(project.store_path, create=False) as store:
            if job.split not in self._digests:
                self._digests[job.split] = source_digests(project, store, cases)
            digests = self._digests[job.split]
            arms = _arms(project, store, task, job.words)
            measures, _ = _measures(project, store, task, cases, digests, job.trust)
            chosen = [arms[place] for place in job.places]
            return packed(scored_arms(project, store, task, chosen, cases, digests, measures, Expectations(task), {}))


def scoring_process(project: Project) -> contextlib.AbstractContextManager[SecondProcess | None]:
    """A second process that scores half of the arms, where there is much to score; before the store is opened."""
    many = sum(
        len(project.cases) * len(all_arms(project, task)) for task in project.tasks if _may_be_halved(project, task)
    )
    return second_process(_HalfScorer(project), many >= MANY)


def _is_halved(project: Project, task: Task, arms: Sequence[Arm]) -> bool:
    return len(arms) > 1 and len(arms) * len(project.cases) >= MANY and _may_be_halved(project, task)


def _may_be_halved(project: Project, task: Task) -> bool:
    """Whether arms of a task can be scored without knowing of the others, or of another task."""
    return task.judges is None and task.after is None and not project.judgements
