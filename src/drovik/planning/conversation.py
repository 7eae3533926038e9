"""Threads: what is asked of an arm about a case, turn after turn, and after the tasks that come before.

What a later turn asks holds the answers to the turns before, and a task that comes `after` another may
hold that one's answer: so a thread is known as far as there are answers, and grows with each.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from drovik.errors import DrovikError
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.planning.answers import answer_to, answers_for, judged_cases
from drovik.planning.plan import Follow, State, Thread
from drovik.planning.requests import Asking, AskingAbout, RepairTurn, Request, request_of
from drovik.project.arms import Arm, arms_of, repeats_of
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.store.answer_store import Store

MOST_ERRORS_TOLD = 8
"""Errors that a repair turn lists: a model does not follow more."""


def threads_of_task(
    project: Project,
    store: Store,
    task: Task,
    arms: Sequence[Arm],
    cases: Sequence[Case],
    digests: Mapping[str, str],
) -> list[Thread]:
    """The threads of a task, spread over the arms: all of them about the first case, then about the next."""
    if task.judges is not None:
        cases = judged_cases(project, store, task, cases, digests, threads_of_task)
    earlier = _earlier(project, store, task, arms, cases, digests)
    threads = []
    most = max((repeats_of(task, arm.model) for arm in arms), default=1)
    spread = [(arm, repeat) for repeat in range(1, most + 1) for arm in arms if repeat <= repeats_of(task, arm.model)]
    asking = Asking(task, digests)
    for case in cases:
        about = asking.about(case)
        if task.after:
            threads += [_begun(about, arm, case, earlier[arm.name, case.id], repeat) for arm, repeat in spread]
        else:  # quickly, for there may be a million
            threads += [
                Thread(arm, case, repeat, (about.request(arm, repeat=repeat),), "open") for arm, repeat in spread
            ]
    for turn in range(2, max((len(arm.prompt.turns) + 1 for arm in arms), default=1) + 1):
        threads = _grown(project, store, task, threads, digests, turn)
    return _with_repair_turns(project, store, task, threads, digests) if task.repair_turn else threads


class Earlier(NamedTuple):
    """What a task takes up of those before: their answers by the task's name, and whether the last was valid."""

    answers: Mapping[str, Any]
    was_valid: bool


def _begun(about: AskingAbout, arm: Arm, case: Case, earlier: Earlier | State, repeat: int) -> Thread:
    """A thread with its first request; none where the answer that it takes up is not valid, and lacks something.

    :raises DrovikError: where the prompt fails although that answer is valid.
    """
    if isinstance(earlier, str):
        return Thread(arm, case, repeat, (), earlier)
    try:
        return Thread(arm, case, repeat, (about.request(arm, (), earlier.answers, repeat),), "open")
    except DrovikError:
        if earlier.was_valid:
            raise
        return Thread(arm, case, repeat, (), "stuck")


def _with_repair_turns(
    project: Project, store: Store, task: Task, threads: list[Thread], digests: Mapping[str, str]
) -> list[Thread]:
    """Each thread with the repair turns that its answers ask for."""
    answers = answers_for(project, store, task, [request for one in threads for request in one.requests])
    found = []
    for one in threads:
        pairs = [(request, answers[request.identity]) for request in one.requests if request.identity in answers]
        second = tuple(
            made for request, answer in pairs if (made := repair_turn(request, answer, digests)) is not None
        )
        found.append(one._replace(second=second))
    return found


def repair_turn(request: Request, answer: Answer, digests: Mapping[str, str]) -> Request | None:
    """What is asked after an answer that is not valid, where the task has repair turns."""
    if not request.task.repair_turn or request.repair is not None or not answer.status.repairable:
        return None
    lines = [f"- {error.at or 'the whole answer'}: {error.what}" for error in answer.errors[:MOST_ERRORS_TOLD]]
    repair = RepairTurn(answer.text, "\n".join(lines) or "- there is no JSON in it")
    return request_of(
        request.task, request.arm, request.case, digests, request.said, request.earlier, request.repeat, repair
    )


def _grown(
    project: Project, store: Store, task: Task, threads: list[Thread], digests: Mapping[str, str], turn: int
) -> list[Thread]:
    """Each thread with its request of a turn, where the turn before is answered."""
    before = [
        one.requests[-1] for one in threads if len(one.requests) == turn - 1 and one.arm.prompt.turns[turn - 2 :]
    ]
    answers = answers_for(project, store, task, before)
    grown = []
    for one in threads:
        answer = answers.get(one.requests[-1].identity) if one.requests else None
        if answer is None or len(one.requests) != turn - 1 or not one.arm.prompt.turns[turn - 2 :]:
            grown.append(one)
        elif (next_ := _next_turn(one.requests[-1], answer, digests)) is None:
            grown.append(Thread(one.arm, one.case, one.repeat, one.requests, "stuck"))
        else:
            grown.append(Thread(one.arm, one.case, one.repeat, (*one.requests, next_), "open"))
    return grown


def _next_turn(request: Request, answer: Answer, digests: Mapping[str, str]) -> Request | None:
    """What is asked once a turn is answered; None where the answer cannot be gone on from."""
    if answer.status is Status.FAILED or not answer.text.strip():
        return None
    return request_of(
        request.task,
        request.arm,
        request.case,
        digests,
        (*request.said, answer.text),
        request.earlier,
        request.repeat,
    )


def _earlier(
    project: Project,
    store: Store,
    task: Task,
    arms: Sequence[Arm],
    cases: Sequence[Case],
    digests: Mapping[str, str],
) -> dict[tuple[str, str], Earlier | State]:
    """What the task before answered, by arm and case of this one; or why there is nothing to take up."""
    if task.after is None:
        return {}
    before = project.task(task.after.task)
    found: dict[tuple[str, str], Earlier | State] = {}
    wanted = {arm.name: arm_before(project, task, arm) for arm in arms}
    distinct = {one.name: one for one in wanted.values() if one is not None}
    threads = threads_of_task(project, store, before, list(distinct.values()), cases, digests)
    answers = answers_for(project, store, before, [one.requests[-1] for one in threads if one.requests])
    by_place = {(one.arm.name, one.case.id): one for one in threads if one.repeat == 1}
    for arm in arms:
        one = wanted[arm.name]
        for case in cases:
            thread = by_place.get((one.name, case.id)) if one else None
            found[arm.name, case.id] = _taken_up(task, thread, answers)
    return found


def _taken_up(task: Task, thread: Thread | None, answers: Mapping[str, Answer]) -> Earlier | State:
    if thread is None or not thread.requests:
        return thread.state if thread and thread.state != "open" else "before"
    last = thread.requests[-1]
    answer = answers.get(last.identity)
    if thread.state == "stuck":
        return "stuck"
    if answer is None or len(thread.requests) <= len(thread.arm.prompt.turns):
        return "before"
    return earlier_of(task, last, answer)


def earlier_of(task: Task, request: Request, answer: Answer) -> Earlier | State:
    """What is taken up for a task that comes after a request's, or why it is not asked."""
    if answer.status is Status.FAILED:
        return "stuck"
    value = answer.value if answer.value is not None else answer.text
    if task.where is not None and not task.where.holds(value):
        return "not_asked"
    return Earlier({**request.earlier, request.task.name: value}, answer.status is Status.OK)


def arm_before(project: Project, task: Task, arm: Arm) -> Arm | None:
    """Which arm's answer an arm of a chained task takes up; None if there is none."""
    if task.after is None:
        return None
    before = project.task(task.after.task)
    model = task.after.model or arm.model_name
    every = [one for one in arms_of(before, project.settings) if one.model_name == model]
    fitting = [one for one in every if one.prep_name == arm.prep_name] or every
    wanted = task.after.prompt or arm.prompt_name
    return next((one for one in fitting if one.prompt_name == wanted), fitting[-1] if fitting else None)


def next_request(
    project: Project, store: Store, chosen: Mapping[str, Sequence[Arm]], digests: Mapping[str, str]
) -> Follow:
    """What is to be asked once a request has its answer: a repair turn, its next turn, or the tasks that come after.

    :param chosen: the arms that are sent, by task.
    """
    return _Follower(project, store, chosen, digests).follow


class _Follower:
    def __init__(
        self, project: Project, store: Store, chosen: Mapping[str, Sequence[Arm]], digests: Mapping[str, str]
    ) -> None:
        self._project, self._store, self._digests = project, store, digests
        self._asking: dict[str, Asking] = {}
        self._after: dict[tuple[str, str], list[tuple[Task, Arm]]] = {}
        for name, arms in chosen.items():
            task = project.task(name)
            for arm in arms if task.after else ():
                before = arm_before(project, task, arm)
                if before is not None and task.after is not None:
                    self._after.setdefault((task.after.task, before.name), []).append((task, arm))

    def follow(self, request: Request) -> Sequence[Request]:
        last = request.turn > len(request.arm.prompt.turns)
        chained = request.repeat == 1 and (request.task.name, request.arm.name) in self._after
        if request.repair is not None or (last and not chained and not request.task.repair_turn):
            return ()
        answer = answer_to(self._project, self._store, request)
        if answer is None:
            return ()
        return [one for next_ in self._following(request, answer) for one in self._not_answered(next_)]

    def _following(self, request: Request, answer: Answer) -> Iterable[Request]:
        second = repair_turn(request, answer, self._digests)
        if second is not None:
            yield second
        if request.turn <= len(request.arm.prompt.turns):
            next_ = _next_turn(request, answer, self._digests)
            if next_ is not None:
                yield next_
        elif request.repeat == 1:  # the tasks that come after take up the first answer
            yield from self._of_tasks_after(request, answer)

    def _of_tasks_after(self, request: Request, answer: Answer) -> Iterable[Request]:
        for task, arm in self._after.get((request.task.name, request.arm.name), ()):
            earlier = earlier_of(task, request, answer)
            if not isinstance(earlier, str):
                asking = self._asking.setdefault(task.name, Asking(task, self._digests))
                about = asking.about(request.case)
                for repeat in range(1, repeats_of(task, arm.model) + 1):
                    yield from _begun(about, arm, request.case, earlier, repeat).requests

    def _not_answered(self, request: Request) -> Iterable[Request]:
        """The request itself, or what follows it where it has its answer from before."""
        if self._store.reply_for(request.identity) is None:
            return [request]
        self._store.note_asked([request.asked("")])
        return self.follow(request)
