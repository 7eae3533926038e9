"""The cases of a task that judges: answers of another task, with their pictures and what was expected."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from drovik.parsing.answer import Answer
from drovik.planning.answers import answers_for
from drovik.planning.plan import Thread
from drovik.project.arms import Arm, arms_of, check_arm_words, fitting_arms
from drovik.project.cases import Case
from drovik.project.judging import Judges, comes_first, judged_id
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.store.store import Store

Threads = Callable[[Project, Store, Task, Sequence[Arm], Sequence[Case], Mapping[str, str]], Sequence[Thread]]


def judged_cases(
    project: Project, store: Store, task: Task, cases: Sequence[Case], digests: Mapping[str, str], threads_of: Threads
) -> tuple[Case, ...]:
    """A case for each answer to be judged, of the chosen cases; those that are not there yet come later.

    :param threads_of: makes the conversations of the judged task.

    :raises DrovikError: where the judge names an arm that is none.
    """
    judges = task.judges
    assert judges is not None
    judged = project.task(judges.task)
    every = arms_of(judged, project.settings)
    check_arm_words(every, [*(judges.arms or ()), *([judges.against] if judges.against else [])])
    threads = threads_of(project, store, judged, every, cases, digests)
    answers = _answers(project, store, judged, threads)
    found = []
    for case in cases:
        for arm in fitting_arms(every, judges.arms or ()):
            given = _given(judged, judges, case, arm, answers)
            if given is not None:
                review = project.reviews.get((task.name, case.id, arm.name))
                expected = {} if review is None else {task.name: review}
                found.append(
                    case._replace(
                        id=judged_id(case.id, arm.name),
                        given={**case.given, **given},
                        expected=expected,
                        group=case.group or case.id,
                        refusal=frozenset(),
                    )
                )
    return tuple(found)


def _answers(
    project: Project, store: Store, judged: Task, threads: Sequence[Thread]
) -> dict[tuple[str, str], Answer]:
    """The first answer of each arm to each case, to the last turn."""
    last = [one for one in threads if one.repeat == 1 and len(one.asks) > len(one.arm.prompt.turns)]
    answers = answers_for(project, store, judged, [one.asks[-1] for one in last])
    return {
        (one.arm.name, one.case.id): answers[one.asks[-1].identity]
        for one in last
        if one.asks[-1].identity in answers
    }


def _given(
    judged: Task, judges: Judges, case: Case, arm: Arm, answers: Mapping[tuple[str, str], Answer]
) -> dict[str, Any] | None:
    """What a judge is told; None where an answer is not there, or has nothing in it."""
    said = _said(answers.get((arm.name, case.id)))
    if said is None:
        return None
    given: dict[str, Any] = {"expected": _printed(case.expected.get(judged.name))}
    if judges.against is None:
        return {**given, "answer": said}
    other = _said(answers.get((judges.against, case.id)))
    if other is None or arm.name == judges.against:
        return None
    first, second = (said, other) if comes_first(case.id, arm.name) else (other, said)
    return {**given, "first": first, "second": second}


def _said(answer: Answer | None) -> str | None:
    """What an answer says, in form or not; None where it declined, failed, or is empty: there is nothing to judge."""
    if answer is None or answer.status in ("failed", "refused", "empty"):
        return None
    return answer.text


def _printed(expected: Any) -> str:
    if expected is None:
        return ""
    return expected if isinstance(expected, str) else json.dumps(expected, ensure_ascii=False)
