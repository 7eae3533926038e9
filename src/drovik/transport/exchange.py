"""One exchange with a service: the steps of its dialect, the request proper, what comes back, and what came of it."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from drovik.dialects.reply_path import compile_place
from drovik.dialects.request_template import HttpRequest
from drovik.dialects.response import Unpacked, Unpacker, is_error, nothing_at, unpack, words_of
from drovik.errors import DrovikError
from drovik.project.dialects import ReplyForm, Until
from drovik.project.spending import Counted
from drovik.store.records import Reply
from drovik.transport.http import HttpReply, NoReply, fetch
from drovik.transport.outcomes import Outcome, outcome_of, outcome_of_error
from drovik.transport.steps import StepFailed, run_steps

if TYPE_CHECKING:
    import aiohttp

    from drovik.dialects.request import Draft
    from drovik.planning.plan import Ask
    from drovik.transport.session import Line

Hear = Callable[[str], None]
FIRST_LOOK = 0.1
"""Seconds after which it is looked again the first time; then after twice as many, up to the dialect's `every`."""

_PASSING = ("lost", "timeout", "unreachable", "limited", "service_error")
"""What may befall one look at whether an answer is there, without the answer being lost."""


class Ended(NoReply):
    """What was waited for will not come: the service says that it failed."""


async def exchange(
    session: aiohttp.ClientSession, line: Line, ask: Ask, draft: Draft | HttpRequest, hear: Hear | None = None
) -> tuple[Reply | None, Unpacked | None, Outcome]:
    """Send what a request needs and read what comes back.

    :param draft: the request itself where its dialect has no steps.
    :param hear: gets the answer's text as it comes, where it comes in pieces.
    :return: the reply and what stands in it, where one came whole; and what came of it, in any case.
    """
    try:
        return await _exchange(session, line, ask, draft, hear)
    except Exception as error:  # whatever a stranger's reply does to us ends this one request, and is named
        return None, None, _unhandled(line, error)


def _unhandled(line: Line, error: Exception) -> Outcome:
    words = f"it could not be handled: {type(error).__name__}: {str(error)[:200]}"
    return Outcome("unhandled", words=line.secret.out_of(words))


async def _exchange(
    session: aiohttp.ClientSession, line: Line, ask: Ask, draft: Draft | HttpRequest, hear: Hear | None
) -> tuple[Reply | None, Unpacked | None, Outcome]:
    if isinstance(draft, HttpRequest):
        return await _proper(session, line, ask, draft, hear)
    for fresh in (False, True):
        try:
            used = await run_steps(session, line, draft, fresh)
            request = line.writer.write(draft)
        except StepFailed as failure:
            if failure.kept and not fresh and failure.outcome.kind == "bad_request":
                continue
            return _failed_step(line, ask, failure)
        except DrovikError as error:
            return None, None, Outcome("bad_request", words=error.problems[0].what)
        reply, unpacked, outcome = await _proper(session, line, ask, request, hear)
        if not used or outcome.kind not in ("bad_request", "not_found", "no_pictures"):
            break
        # Perhaps what was handed over earlier does not live any more: hand it over once more.
    return reply, unpacked, outcome


def _failed_step(line: Line, ask: Ask, failure: StepFailed) -> tuple[Reply | None, Unpacked | None, Outcome]:
    words = f"in the step '{failure.step}': {failure.outcome.words}"
    if failure.reply is None:
        return None, None, replace(failure.outcome, words=words)
    reply = Reply(failure.reply.status, failure.reply.body)
    outcome = failure.outcome
    if not 200 <= failure.reply.status < 300:
        outcome = _outcome(line, ask, failure.reply, Unpacked(error=words_of(failure.reply.body)))
    return reply, None, replace(outcome, words=f"in the step '{failure.step}': {outcome.words}")


async def _proper(
    session: aiohttp.ClientSession, line: Line, ask: Ask, request: HttpRequest, hear: Hear | None
) -> tuple[Reply | None, Unpacked | None, Outcome]:
    unpacker = Unpacker(line.dialect.reply)
    listen = (lambda data: hear(unpacker.feed(data))) if hear is not None else None
    try:
        got = await send(session, line, request, line.dialect.request.until, listen)
        line.headers = got.headers
    except NoReply as failure:
        return None, None, failure.outcome
    try:
        return _read(line, ask, got)
    except Exception as error:  # it came, and may have been paid for: it is kept as it is
        return Reply(got.status, got.body, price=ask.arm.model.price), None, _unhandled(line, error)


def _read(line: Line, ask: Ask, got: HttpReply) -> tuple[Reply, Unpacked, Outcome]:
    """What stands in a reply that came whole, and what came of it."""
    form, body = line.dialect.reply, got.body
    good = 200 <= got.status < 300
    unpacked = unpack(body, form, got.headers) if good else _unpacked_error(body, line)
    if line.secret.out_of(unpacked.text) != unpacked.text:
        # Split over pieces in a way that only this dialect's reading puts together: then nothing of it is kept.
        what = "the key was echoed in pieces, and could not be taken out; the reply is not kept"
        body, unpacked = b"", replace(unpacked, text="", note=what, readable=False)
    counters = {name: Counted(count, form.counters[name].within) for name, count in unpacked.counters.items()}
    reply = Reply(
        got.status, body, unpacked.model, unpacked.input_tokens, unpacked.output_tokens, ask.arm.model.price, counters
    )
    return reply, unpacked, _outcome(line, ask, got, unpacked)


def _unpacked_error(body: bytes, line: Line) -> Unpacked:
    """An error's words: where the dialect says, else the longest text that there is."""
    found = unpack(body, _error_form(line)) if line.dialect.reply.error else Unpacked()
    return replace(found, error=found.error or words_of(body))


def _error_form(line: Line) -> ReplyForm:
    """The reply half as it reads errors: they come as one JSON document, however answers come."""
    return line.dialect.reply.model_copy(update={"form": "json", "text": line.dialect.reply.text or "$.answer"})


def _outcome(line: Line, ask: Ask, got: HttpReply, unpacked: Unpacked) -> Outcome:
    worked = ask.arm.model_name in line.worked
    if 300 <= got.status < 400:
        location = got.headers.get("Location") or "nowhere"
        return Outcome("redirected", stops="endpoint", words=f"sends on to {location}")
    if 200 <= got.status < 300:
        if is_error(unpacked, line.dialect.reply):
            return outcome_of_error(unpacked.error or "", unpacked.code, line.dialect.errors, worked)
        if not unpacked.readable:
            return Outcome("unreadable", again=True, words=unpacked.note)
        if unpacked.incomplete:
            return Outcome("incomplete", again=True, words=unpacked.note)
    words = unpacked.error or unpacked.note
    outcome = outcome_of(got.status, words, got.headers.get("Retry-After"), line.dialect.errors, worked)
    if outcome.wait is not None:
        outcome = replace(outcome, wait=min(outcome.wait, line.endpoint.limits.patience))
    if outcome.kind == "forbidden" and outcome.stops == "endpoint" and line.worked:
        return replace(outcome, stops="model")  # the key is good for other models
    return outcome


async def fetch_clean(
    session: aiohttp.ClientSession,
    line: Line,
    request: HttpRequest,
    form: str,
    listen: Callable[[bytes], None] | None = None,
) -> HttpReply:
    """Send a request; what comes back does not hold the key, whatever the service echoes: body, headers, errors.

    :param form: how the body is built, as a dialect has it.
    :raises NoReply: where none came whole.
    """
    try:
        got = await fetch(session, request, line.endpoint.limits.timeout, listen)
    except NoReply as failure:
        raise NoReply(replace(failure.outcome, words=line.secret.out_of(failure.outcome.words))) from None
    body = line.secret.out_of_body(got.body, form)
    return HttpReply(got.status, line.secret.out_of_headers(got.headers), body)


async def send(
    session: aiohttp.ClientSession,
    line: Line,
    request: HttpRequest,
    until: Until | None,
    listen: Callable[[bytes], None] | None = None,
) -> HttpReply:
    """Send a request, again and again where the dialect says to wait `until` something is there.

    :raises NoReply: where no reply came, or what was waited for failed or did not come in time.
    """
    if until is None:
        return await fetch_clean(session, line, request, line.dialect.reply.form, listen)
    gives_up = time.monotonic() + until.within
    state: object = None
    wait = min(until.every, FIRST_LOOK)
    while time.monotonic() < gives_up:
        try:
            got = await fetch_clean(session, line, request, "json")
            if 400 <= got.status < 500 and got.status not in (408, 409, 425, 429):
                return got
            done, state = _is_there(got, until)
            if done:
                return got
        except Ended:
            raise
        except NoReply as failure:
            if failure.outcome.kind not in _PASSING:
                raise
            state = failure.outcome.words
        await asyncio.sleep(wait)
        wait = min(until.every, wait * 2)
    words = f"not there after {until.within:g} seconds; at {until.at}: {state}"
    raise NoReply(Outcome("timeout", again=True, words=words))


def _is_there(got: HttpReply, until: Until) -> tuple[bool, object]:
    """Whether what is waited for is there, and what stands at its place.

    :raises NoReply: where the service says that it failed.
    """
    if not 200 <= got.status < 300:
        return False, f"status {got.status}"
    try:
        tree = json.loads(got.body) if not until.at.startswith("header") else None
    except (ValueError, RecursionError):
        raise NoReply(Outcome("unreadable", again=True, words="the reply to look at is no JSON")) from None
    found = [one for one in compile_place(until.at)(tree, got.headers) if one is not None]
    if not found:
        return False, nothing_at(until.at, tree)
    state = str(found[0])
    if state in until.fails:
        raise Ended(Outcome("service_error", again=True, words=f"the service says '{state}': {words_of(got.body)}"))
    return (state in until.is_ if until.is_ else True), state
