"""A project and its store → its tasks with their arms, answers and scores."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from drovik.errors import Problem, UsageError, known_words
from drovik.evaluation.chosen_arms import all_arms, chosen_arms, chosen_cases, chosen_tasks, older_names
from drovik.evaluation.controls import ControlScores, controls_of
from drovik.evaluation.judged_elsewhere import JudgesElsewhere
from drovik.evaluation.scored_arms import ToScore, scored_arms
from drovik.evaluation.second_process import LocalJudges
from drovik.evaluation.task_measures import task_measures
from drovik.following import following
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.planning.conversation import arm_before
from drovik.planning.sources import source_digests
from drovik.project.arms import Arm, check_arm_words
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.json_pointer import Structure, structure_of
from drovik.scoring.measure import Measure
from drovik.scoring.scores import ArmScores
from drovik.store.answer_store import Store


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


def gather(
    project: Project,
    store: Store,
    tasks: Sequence[str] | None,
    arms: Sequence[str] | None,
    split: str,
    trust: bool = False,
    judges: JudgesElsewhere | None = None,
) -> list[TaskView]:
    """The views of the chosen tasks, with the chosen arms that each of them has.

    :param trust: whether the project's own functions may be run as measures.
    :param judges: what runs measures on other machines; None: they are run here.

    :raises DrovikError: where a word fits no arm of any chosen task.
    """
    cases = chosen_cases(project, split)
    digests = source_digests(project, store, cases, are_sent=False)
    chosen = chosen_tasks(project, tasks)
    words = arms or ()
    every = [arm for task in chosen for arm in all_arms(project, task)]
    check_arm_words(every, [word for word in words if "@" not in word])
    fitting = {task.name: chosen_arms(project, store, task, words) for task in chosen}
    for word in words:
        if "@" in word and not any(arm.name.startswith(word) for one in fitting.values() for arm in one):
            known = known_words(word, [name for task in chosen for name, _ in older_names(project, store, task)])
            raise UsageError(Problem(f"there is no older arm '{word}'", known))
    with following("scoring"), LocalJudges() as here:
        return [
            _view(project, store, task, own, cases, digests, judges or here, trust)
            for task in chosen
            if (own := fitting[task.name])
        ]


def _wrong_before(
    project: Project,
    store: Store,
    task: Task,
    arms: Sequence[Arm],
    cases: tuple[Case, ...],
    digests: dict[str, str],
    judges: JudgesElsewhere,
) -> dict[str, frozenset[str]]:
    """For a task that comes after another: by arm, the cases whose answer before was wrong already."""
    if task.after is None:
        return {}
    before = project.task(task.after.task)
    wanted = {arm.name: one for arm in arms if (one := arm_before(project, task, arm)) is not None}
    distinct = tuple({one.name: one for one in wanted.values()}.values())
    view = _view(project, store, before, distinct, cases, digests, judges)
    found = {}
    for name, one in wanted.items():
        measure = view.score_of(one.name).measure(before.decide_on or "")
        wrong = [case.case.id for case in measure.scored if case.score and case.score.value < 1] if measure else []
        found[name] = frozenset(wrong)
    return found


def _view(
    project: Project,
    store: Store,
    task: Task,
    arms: tuple[Arm, ...],
    cases: tuple[Case, ...],
    digests: dict[str, str],
    judges: JudgesElsewhere,
    trust: bool = False,
) -> TaskView:
    measures, not_run = task_measures(project, store, task, cases, digests, trust)
    wrong = _wrong_before(project, store, task, arms, cases, digests, judges)
    to_score = ToScore(project, store, task, cases, digests, measures, judges, wrong)
    found = scored_arms(to_score, arms)

    def score(name: str, of: Sequence[Case], answers: Mapping[str, Sequence[Answer | None]]) -> ArmScores:
        every = {one: tuple(given) for one, given in answers.items()}
        return score_arm(task, name, found.measures, of, every, {}, {}, to_score.expectations)

    return TaskView(
        task=task,
        measures=found.measures,
        arms=arms,
        cases=found.cases,
        identities=found.identities,
        answers=found.answers,
        scores=found.scores,
        older=older_names(project, store, task),
        not_run=not_run,
        controls=controls_of(project, store, task, arms, found.cases, digests, found.answers, score),
    )
