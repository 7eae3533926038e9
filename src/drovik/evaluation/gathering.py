"""A project and its store → its tasks with their arms, answers and scores."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from drovik.errors import Problem, UsageError, known_words
from drovik.evaluation.controls import ControlScores, controls_of
from drovik.evaluation.judgements import people_measure
from drovik.parsing.answer_text import Answer, Reader
from drovik.parsing.status import Status
from drovik.planning.answers import answers_for, answers_within, judged_cases, pictures_sent
from drovik.planning.controls import MARK as CONTROL_MARK
from drovik.planning.conversation import arm_before, threads_of_task
from drovik.planning.plan import Thread
from drovik.planning.requests import Request
from drovik.planning.sources import source_digests
from drovik.project.arms import Arm, arms_of, check_arm_words, fitting_arms, outside_arms
from drovik.project.cases import Case
from drovik.project.outside import OutsideAnswer
from drovik.project.periods import period_of
from drovik.project.reading import Project
from drovik.project.tasks import Task, judged_id
from drovik.scoring.arm_scores import score_arm, with_wrong_before
from drovik.scoring.catalogue import measures_of, measures_with_expectations
from drovik.scoring.json_pointer import Structure, structure_of
from drovik.scoring.measure import Measure
from drovik.scoring.measures.function import Function
from drovik.scoring.measures.judge import Judge
from drovik.scoring.scores import ArmScores, Expectations
from drovik.store.answer_store import Store

MARK = 4
"""This many characters of its digest tell an older arm apart."""


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
) -> list[TaskView]:
    """The views of the chosen tasks, with the chosen arms that each of them has.

    :param trust: whether the project's own functions may be run as measures.

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
    return [
        _view(project, store, task, fitting[task.name], cases, digests, trust)
        for task in chosen
        if fitting[task.name]
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


def _earlier_turns(
    project: Project, store: Store, task: Task, threads: Sequence[Thread]
) -> dict[str, dict[int, dict[str, Answer]]]:
    """The answers to the turns before the last, by arm, turn and case."""
    first = [one for one in threads if one.repeat == 1 and one.arm.prompt.turns]
    before = [request for one in first for request in one.requests if request.turn <= len(one.arm.prompt.turns)]
    answers = answers_for(project, store, task, before) if before else {}
    found: dict[str, dict[int, dict[str, Answer]]] = {}
    for request in before:
        if request.identity in answers:
            turns = found.setdefault(request.arm.name, {})
            turns.setdefault(request.turn, {})[request.case.id] = answers[request.identity]
    return found


def _repair_turns(
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


@dataclass(frozen=True)
class _Asked:
    """What was asked and answered, by arm and case: identities and answers of the first repeat, and all repeats."""

    identities: dict[str, dict[str, str]]
    answers: dict[str, dict[str, Answer]]
    repeats: dict[str, dict[str, list[Answer | None]]]

    def add(self, other: _Asked) -> None:
        """Take in what other arms were asked."""
        self.identities.update(other.identities)
        self.answers.update(other.answers)
        self.repeats.update(other.repeats)


def _asked(arms: Sequence[Arm], requests: Sequence[Request], found: Mapping[str, Answer]) -> _Asked:
    names = [arm.name for arm in arms]
    made = _Asked({name: {} for name in names}, {name: {} for name in names}, {name: {} for name in names})
    again = []
    of_arm = {name: (made.repeats[name], made.identities[name], made.answers[name]) for name in names}
    for request in requests:
        if request.repeat > 1:
            again.append(request)
            continue
        repeats, identities, answers = of_arm[request.arm.name]
        case, identity = request.case.id, request.identity
        answer = found.get(identity)
        repeats[case] = [answer]
        identities[case] = identity
        if answer is not None:
            answers[case] = answer
    for request in sorted(again, key=lambda one: one.repeat):
        made.repeats[request.arm.name].setdefault(request.case.id, []).append(found.get(request.identity))
    return made


def _answered_within(
    project: Project, store: Store, task: Task, arm: Arm, cases: tuple[Case, ...], digests: dict[str, str]
) -> _Asked:
    """What an arm answered in its period."""
    assert arm.period is not None, "only of arms that have one"
    threads = threads_of_task(project, store, task, [arm], cases, digests)
    requests = [one.requests[-1] for one in threads if len(one.requests) > len(one.arm.prompt.turns)]
    return _asked([arm], requests, answers_within(project, store, task, requests, arm.period))


def _add_outside(asked: _Asked, task: Task, arms: Sequence[Arm], cases: Sequence[Case]) -> None:
    """The answers of the arms that were brought in, read as replies are."""
    reader = Reader(task.form, task.schema)
    for arm in arms:
        for case in cases if arm.outside else ():
            brought = arm.outside.answers.get(case.id) if arm.outside else None
            answer = None if brought is None else _outside_answer(reader, brought)
            asked.repeats[arm.name][case.id] = [answer]
            if answer is not None:
                asked.answers[arm.name][case.id] = answer


def _outside_answer(reader: Reader, brought: OutsideAnswer) -> Answer:
    read = reader.read(brought.text())
    return Answer(
        read.status, read.how, brought.text(), read.value, read.errors, spent=brought.spent, seconds=brought.seconds
    )


def _asks_of_older(store: Store, task: Task, arms: Sequence[Arm], cases: Sequence[Case]) -> list[Request]:
    """What arms asked before something of them was edited."""
    by_id = {case.id: case for case in cases}
    return [
        Request(task, arm, by_id[case], repeat, identity)
        for arm in arms
        if "@" in arm.name and arm.period is None
        for case, repeat, identity in store.asked_by(task.name, arm.digest)
        if case in by_id
    ]


def _view(
    project: Project,
    store: Store,
    task: Task,
    arms: tuple[Arm, ...],
    cases: tuple[Case, ...],
    digests: dict[str, str],
    trust: bool = False,
) -> TaskView:
    measures, not_run = _measures(project, store, task, cases, digests, trust)
    today = [arm for arm in arms if "@" not in arm.name and arm.outside is None]
    threads = threads_of_task(project, store, task, today, cases, digests)
    if task.judges is not None:
        cases = judged_cases(project, store, task, cases, digests, threads_of_task)
    requests = [one.requests[-1] for one in threads if len(one.requests) > len(one.arm.prompt.turns)]
    requests += _asks_of_older(store, task, arms, cases)
    left_out = {(one.arm.name, one.case.id) for one in threads if one.state == "not_asked"}
    found = answers_for(project, store, task, requests)
    of_periods = {arm.name: _answered_within(project, store, task, arm, cases, digests) for arm in arms if arm.period}
    if any(measure.wants_pictures for measure in measures):
        found = {one: answer._replace(pictures=tuple(pictures_sent(store, one))) for one, answer in found.items()}
    asked = _asked(arms, requests, found)
    for answered in of_periods.values():
        asked.add(answered)
    _add_outside(asked, task, arms, cases)
    if people := people_measure(project, task, asked.answers):
        measures = (*measures, people)
    by_turn = _earlier_turns(project, store, task, threads)
    second = _repair_turns(project, store, task, threads)
    wrong = _wrong_before(project, store, task, arms, cases, digests)
    scores = []
    expectations = Expectations(task)
    for arm in arms:
        own = [case for case in cases if (arm.name, case.id) not in left_out] if left_out else cases
        answers = asked.repeats[arm.name]
        made = score_arm(
            task, arm.name, measures, own, answers, by_turn.get(arm.name), second.get(arm.name), expectations
        )
        before = task.after.task if task.after else ""
        scores.append(with_wrong_before(made, before, wrong.get(arm.name, frozenset())))
    older = _older_names(project, store, task)

    def score(name: str, of: Sequence[Case], answers: Mapping[str, Sequence[Answer | None]]) -> ArmScores:
        return score_arm(
            task, name, measures, of, {one: tuple(found) for one, found in answers.items()}, {}, {}, expectations
        )

    return TaskView(
        task=task,
        measures=measures,
        arms=arms,
        cases=cases,
        identities=asked.identities,
        answers=asked.answers,
        scores=tuple(scores),
        older=older,
        not_run=not_run,
        controls=controls_of(project, store, task, arms, cases, digests, asked.answers, score),
    )
