"""One exchange with a service: the steps of its dialect, the request proper, what comes back, and what came of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from drovik.dialects.request_template import HttpRequest
from drovik.dialects.response import Unpacked, Unpacker, is_error, unpack, words_of
from drovik.errors import DrovikError
from drovik.project.dialects import ReplyForm
from drovik.project.spending import Counted
from drovik.store.records import Reply
from drovik.transport.http import HttpReply, NoReply
from drovik.transport.outcomes import Outcome, outcome_of, outcome_of_error
from drovik.transport.polling import send
from drovik.transport.steps import StepFailed, run_steps

if TYPE_CHECKING:
    import aiohttp

    from drovik.dialects.request import Draft
    from drovik.planning.plan import Ask
    from drovik.transport.session import Line

Hear = Callable[[str], None]


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
        # Perhaps what was handed over earlier does not live any more: hand it over again.
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
        outcome = replace(outcome, wait=min(outcome.wait, line.endpoint.limits.give_up_after))
    if outcome.kind == "forbidden" and outcome.stops == "endpoint" and line.worked:
        return replace(outcome, stops="model")  # the key is good for other models
    return outcome
