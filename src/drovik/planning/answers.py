"""Replies in the store → answers, read by the dialect, the form and the schema of today.

A reading is kept with the digest of all that it depends on; where that has changed, the same reply is
read again and nothing is sent.

The cases of a task that judges: answers of another task, with their pictures and what was expected.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import islice
from typing import Any

from drovik.dialects.response import is_error, parse_reply
from drovik.following import followed
from drovik.parsing.answer_text import READING_REVISION, Answer, Reader
from drovik.parsing.status import Status
from drovik.planning.plan import Thread
from drovik.planning.requests import Request
from drovik.project.arms import Arm, arms_of, check_arm_words, digest, fitting_arms
from drovik.project.cases import Case
from drovik.project.dialects import Dialect
from drovik.project.periods import Period
from drovik.project.reading import Project
from drovik.project.tasks import JudgedArms, Task, is_shown_first, judged_id
from drovik.store.answer_store import KeptReply, Store
from drovik.store.readings import Reading
from drovik.store.records import Facts, preparations

_KEPT_AT_ONCE = 10_000
"""Answers that are read until they are kept."""


def _dialect(project: Project, arm: Arm, endpoint: str) -> Dialect:
    """The dialect that a reply is in: that of the endpoint it came from, which may be another than the arm's own.

    Models of one id share their answers, wherever they were asked.
    """
    known = project.settings.endpoints
    return project.dialects[known[endpoint if endpoint in known else arm.model.endpoint].dialect]


def reading_digest(task: Task, project: Project, arm: Arm, endpoint: str) -> str:
    """The digest of what a reading depends on: the dialect's reply half, the form, the schema, our reader."""
    return digest(
        {
            "reply": _dialect(project, arm, endpoint).reply.model_dump(),
            "form": task.form,
            "schema": task.schema,
            "reader": READING_REVISION,
        }
    )


def answers_for(project: Project, store: Store, task: Task, requests: Iterable[Request]) -> dict[str, Answer]:
    """The answer to each request that has one, by identity; readings that are out of date are made again.

    :param requests: of this task alone.
    """
    return answers_to(project, store, task, {request.identity: request.arm for request in requests})


def answers_to(project: Project, store: Store, task: Task, wanted: Mapping[str, Arm]) -> dict[str, Answer]:
    """As `answers_for`, for a million requests of which no more is known than identity and arm."""
    attempts = store.readings.attempts_for(wanted) if wanted else {}
    if not attempts:
        return {}
    digests = _ReadingDigests(task, project, wanted)
    found, unread = store.readings.answers(task.name, attempts, digests.of)
    found.update(_read_now(project, store, task, wanted, unread, digests))
    return found


class _ReadingDigests:
    """What the readings of a task's answers depend on, for each arm and endpoint."""

    def __init__(self, task: Task, project: Project, wanted: Mapping[str, Arm]) -> None:
        self._task, self._project, self._wanted = task, project, wanted
        self._by_endpoint: dict[str, str] = {}

    def of(self, identity: str, endpoint: str) -> str:
        """The digest of what the reading of a reply to a request depends on, by where it came from."""
        if endpoint in self._by_endpoint:  # whose dialect is the same for all arms
            return self._by_endpoint[endpoint]
        found = reading_digest(self._task, self._project, self._wanted[identity], endpoint)
        if endpoint in self._project.settings.endpoints:
            self._by_endpoint[endpoint] = found
        return found


def _read_now(
    project: Project,
    store: Store,
    task: Task,
    wanted: Mapping[str, Arm],
    unread: Mapping[str, int],
    digests: _ReadingDigests,
) -> dict[str, Answer]:
    """The answers that were not read yet, or otherwise than today; kept from now on."""
    reader = Reader(task.form, task.schema)
    found: dict[str, Answer] = {}
    left = followed(f"reading the replies to {task.name}", unread.items(), len(unread))
    while some := list(islice(left, _KEPT_AT_ONCE)):
        fresh = []
        for identity, attempt in some:
            reply, facts = store.reply_of(attempt)
            found[identity] = _with(read_reply(project, reader, wanted[identity], reply), facts)
            digest_ = digests.of(identity, reply.endpoint)
            fresh.append((identity, Reading(attempt, reply.endpoint, digest_, found[identity])))
        store.readings.keep(task.name, fresh)
    return found


def answers_within(
    project: Project, store: Store, task: Task, requests: Iterable[Request], period: Period
) -> dict[str, Answer]:
    """The answer to each request that has one of a period, by identity; read again each time."""
    reader = Reader(task.form, task.schema)
    found = {}
    for request in requests:
        reply = store.reply_within(request.identity, *period)
        if reply is not None:
            found[request.identity] = _with(read_reply(project, reader, request.arm, reply[0]), reply[1])
    return found


def answer_to(project: Project, store: Store, request: Request) -> Answer | None:
    """The answer to one request, read again; None where it has none."""
    reply = store.reply_for(request.identity)
    if reply is None:
        return None
    return read_reply(project, Reader(request.task.form, request.task.schema), request.arm, reply)


def _with(answer: Answer, facts: Facts) -> Answer:
    """An answer with the facts of its reply."""
    model, tokens_in, tokens_out, spent, seconds = facts
    return answer._replace(
        model=model, input_tokens=tokens_in, output_tokens=tokens_out, spent=spent, seconds=seconds
    )


def read_reply(project: Project, reader: Reader, arm: Arm, reply: KeptReply) -> Answer:
    """The answer that is in a reply to what an arm asked; its model, tokens and money are not in it."""
    dialect = _dialect(project, arm, reply.endpoint)
    if reply.body is None or reply.http_status is None or not 200 <= reply.http_status < 300:
        return Answer(Status.FAILED, note=reply.note)
    try:
        parsed = parse_reply(reply.body, dialect.reply)
        if not parsed.readable or parsed.incomplete or is_error(parsed, dialect.reply):
            return Answer(Status.FAILED, text=parsed.text, note=parsed.error or parsed.note)
        reading = reader.read(parsed.text, parsed.cut_off, parsed.refused)
    except Exception as error:  # whatever is in a stranger's reply is one answer's trouble, and no other's
        return Answer(Status.FAILED, note=f"could not be read: {type(error).__name__}: {str(error)[:200]}")
    return Answer(
        status=reading.status,
        how=reading.how,
        text=parsed.text,
        value=reading.value,
        errors=reading.errors,
        note=parsed.note,
    )


def pictures_sent(store: Store, identity: str) -> list[dict[str, Any]]:
    """Each picture that was sent with a request: its size, and the maps back to its source (docs/pictures.md)."""
    asked = store.what_was_asked(identity) or {}
    return [one for source, prep in preparations(asked) for one in store.digests.places(source, prep)]


def with_status(
    project: Project, store: Store, requests: Mapping[str, Sequence[Request]], statuses: frozenset[str]
) -> frozenset[str]:
    """The identities whose answers have one of the statuses.

    :param requests: by the task's name.
    """
    found: set[str] = set()
    for task in project.tasks:
        answers = answers_for(project, store, task, requests.get(task.name, ()))
        found |= {identity for identity, answer in answers.items() if answer.status in statuses}
    return frozenset(found)


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
    last = [one for one in threads if one.repeat == 1 and len(one.requests) > len(one.arm.prompt.turns)]
    answers = answers_for(project, store, judged, [one.requests[-1] for one in last])
    return {
        (one.arm.name, one.case.id): answers[one.requests[-1].identity]
        for one in last
        if one.requests[-1].identity in answers
    }


def _given(
    judged: Task, judges: JudgedArms, case: Case, arm: Arm, answers: Mapping[tuple[str, str], Answer]
) -> dict[str, Any] | None:
    """What a judge gets; None where an answer is not there, or has nothing in it."""
    said = _said(answers.get((arm.name, case.id)))
    if said is None:
        return None
    given: dict[str, Any] = {"expected": _printed(case.expected.get(judged.name))}
    if judges.against is None:
        return {**given, "answer": said}
    other = _said(answers.get((judges.against, case.id)))
    if other is None or arm.name == judges.against:
        return None
    first, second = (said, other) if is_shown_first(case.id, arm.name) else (other, said)
    return {**given, "first": first, "second": second}


def _said(answer: Answer | None) -> str | None:
    """What an answer says, valid or not; None where it declined, failed, or is empty: there is nothing to judge."""
    if answer is None or not answer.status.has_text:
        return None
    return answer.text


def _printed(expected: Any) -> str:
    if expected is None:
        return ""
    return expected if isinstance(expected, str) else json.dumps(expected, ensure_ascii=False)
