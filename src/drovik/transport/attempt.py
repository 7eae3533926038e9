"""One exchange with a service: the steps of its dialect, the request proper, what comes back, and what came of it.

One attempt, from before it leaves until what came of it is committed and counted.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from drovik.cost.token_rates import estimate_tokens, max_cost
from drovik.dialects.request_template import HttpRequest
from drovik.dialects.response import ParsedReply, ReplyParser, error_message, is_error, parse_reply
from drovik.errors import DrovikError, Problem
from drovik.heavy import aiohttp
from drovik.planning.plan import Plan, Request
from drovik.project.dialects import ReplyForm
from drovik.project.spending import CountedTokens
from drovik.store.records import Reply
from drovik.store.store import Store
from drovik.transport.http import HttpReply, NoReply
from drovik.transport.listener import AttemptEnd, Listener
from drovik.transport.outcomes import Outcome, outcome_of, outcome_of_error
from drovik.transport.preparer import PreparedRequest
from drovik.transport.queue import Tally
from drovik.transport.secret import StreamFilter
from drovik.transport.session import EndpointSession
from drovik.transport.steps import StepFailed, run_steps, send

if TYPE_CHECKING:
    from drovik.dialects.request import Draft


Hear = Callable[[str], None]


async def exchange(
    session: aiohttp.ClientSession,
    line: EndpointSession,
    ask: Request,
    draft: Draft | HttpRequest,
    hear: Hear | None = None,
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    """Send what a request needs and read what comes back.

    :param draft: the request itself where its dialect has no steps.
    :param hear: gets the answer's text as it comes, where it comes in pieces.
    :return: the reply and what stands in it, where one came whole; and what came of it, in any case.
    """
    try:
        return await _exchange(session, line, ask, draft, hear)
    except Exception as error:  # whatever a stranger's reply does to us ends this one request, and is named
        return None, None, _unhandled(line, error)


def _unhandled(line: EndpointSession, error: Exception) -> Outcome:
    words = f"it could not be handled: {type(error).__name__}: {str(error)[:200]}"
    return Outcome("unhandled", words=line.secret.out_of(words))


async def _exchange(
    session: aiohttp.ClientSession, line: EndpointSession, ask: Request, draft: Draft | HttpRequest, hear: Hear | None
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
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


def _failed_step(
    line: EndpointSession, ask: Request, failure: StepFailed
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    words = f"in the step '{failure.step}': {failure.outcome.words}"
    if failure.reply is None:
        return None, None, replace(failure.outcome, words=words)
    reply = Reply(failure.reply.status, failure.reply.body)
    outcome = failure.outcome
    if not 200 <= failure.reply.status < 300:
        outcome = _outcome(line, ask, failure.reply, ParsedReply(error=error_message(failure.reply.body)))
    return reply, None, replace(outcome, words=f"in the step '{failure.step}': {outcome.words}")


async def _proper(
    session: aiohttp.ClientSession, line: EndpointSession, ask: Request, request: HttpRequest, hear: Hear | None
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    unpacker = ReplyParser(line.dialect.reply)
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


def _read(line: EndpointSession, ask: Request, got: HttpReply) -> tuple[Reply, ParsedReply, Outcome]:
    """What stands in a reply that came whole, and what came of it."""
    form, body = line.dialect.reply, got.body
    good = 200 <= got.status < 300
    unpacked = parse_reply(body, form, got.headers) if good else _unpacked_error(body, line)
    if line.secret.out_of(unpacked.text) != unpacked.text:
        # Split over pieces in a way that only this dialect's reading puts together: then nothing of it is kept.
        what = "the key was echoed in pieces, and could not be taken out; the reply is not kept"
        body, unpacked = b"", replace(unpacked, text="", note=what, readable=False)
    counters = {name: CountedTokens(count, form.counters[name].within) for name, count in unpacked.counters.items()}
    reply = Reply(
        got.status, body, unpacked.model, unpacked.input_tokens, unpacked.output_tokens, ask.arm.model.price, counters
    )
    return reply, unpacked, _outcome(line, ask, got, unpacked)


def _unpacked_error(body: bytes, line: EndpointSession) -> ParsedReply:
    """An error's words: where the dialect says, else the longest text that there is."""
    found = parse_reply(body, _error_form(line)) if line.dialect.reply.error else ParsedReply()
    return replace(found, error=found.error or error_message(body))


def _error_form(line: EndpointSession) -> ReplyForm:
    """The reply half as it reads errors: they come as one JSON document, however answers come."""
    return line.dialect.reply.model_copy(update={"form": "json", "text": line.dialect.reply.text or "$.answer"})


def _outcome(line: EndpointSession, ask: Request, got: HttpReply, unpacked: ParsedReply) -> Outcome:
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


RECHECKED = 2
"""How an attempt is concluded that asks again without taking the place of the answer."""


class OverBudget(Exception):
    """The limit of money does not allow one more request now."""


class NotClaimed(Exception):
    """What was to be asked was freed for others while this program was stopped."""


class AttemptRunner:
    """Makes attempts, and keeps and counts what comes of them.

    `ended` is set each time that one ends: what waits for money that was held may look again.
    """

    def __init__(self, store: Store, plan: Plan, tally: Tally, listener: Listener | None) -> None:
        self._store, self._plan, self._tally, self._listener = store, plan, tally, listener
        self.under_way = 0
        self.ended = asyncio.Event()

    async def make(
        self,
        session: aiohttp.ClientSession,
        line: EndpointSession,
        asks: Sequence[Request],
        written: PreparedRequest,
        round_: int,
        try_: int,
    ) -> Outcome:
        """Send once; what came of it.

        :param asks: what the request answers; the first stands for all.

        :raises OverBudget: where the limit of money does not allow it now.
        :raises NotClaimed: where another program may ask it by now.
        """
        ask = asks[0]
        asked = [one.asked(written.text) for one in asks]
        bound = max_cost(written.load, ask.arm.model)
        attempt = await self._store.begin_attempt(asked, round_, try_, line.name, bound, self._tally.budget)
        if attempt == "budget":
            raise OverBudget
        if attempt == "claim":
            raise NotClaimed
        counts = self._tally.parts(ask.task.name, ask.arm.name, ask.arm.model_name)
        for one in counts:
            one.attempts += 1
        if self._listener:
            self._listener.begins(ask, try_)
        self.under_way += 1
        started = time.perf_counter()
        hears = self._hears(line, ask)
        try:
            reply, unpacked, outcome = await exchange(session, line, ask, written.request, hears)
        finally:
            self.under_way -= 1
        if hears is not None:
            hears.end()
        seconds = time.perf_counter() - started
        if outcome.kind == "key_rejected" and line.key_renewed():
            outcome = replace(outcome, again=True, stops="none")
        self._learn(line, ask, outcome, unpacked, try_)
        reply = self._taken_in(line, ask, written, reply)
        concluded = self._concludes(line, ask, outcome, try_)
        if outcome.kind != "answered":
            for one in counts:
                one.troubles[outcome.kind] += 1
        kept_as = (RECHECKED if self._plan.recheck else 1) if concluded else 0
        note = outcome.words[:500]
        await self._store.end_attempt(attempt, ask.identity, outcome.kind, kept_as, seconds, note, reply)
        self.ended.set()
        if concluded:
            for one in counts:
                one.end(outcome.kind, try_ == 1)
        refused = outcome.kind == "bad_request" and not concluded
        await self._conclude_refused(line, ask, attempt, refused)
        if self._listener:
            self._listener.ended(ask, AttemptEnd(outcome, unpacked, reply, seconds))
        return outcome

    def _learn(
        self, line: EndpointSession, ask: Request, outcome: Outcome, unpacked: ParsedReply | None, try_: int
    ) -> None:
        try:
            line.learn(ask, outcome, unpacked, last_try=try_ == line.endpoint.limits.max_tries)
        except Exception as error:  # what a service says of itself must not lose what it was paid for
            what = f"{line.name}: what it says of its limits could not be handled: {type(error).__name__}"
            self._tally.warn("learn", Problem(what, "please report it"))

    def _taken_in(
        self, line: EndpointSession, ask: Request, written: PreparedRequest, reply: Reply | None
    ) -> Reply | None:
        """Count what a reply came to; the reply, with what is billed for the request itself."""
        tally = self._tally
        tally.quiet_until = max(tally.quiet_until, time.monotonic() + line.pace.quiet_for())
        if reply is None:
            tally.without_reply += 1
            return None
        if 200 <= reply.http_status < 300:
            reply = replace(reply, pictures=len(written.load.pictures))
        spent = reply.spent()
        for one in tally.parts(ask.task.name, ask.arm.name, ask.arm.model_name):
            one.pay(spent)
        tokens = (reply.input_tokens or 0) + (reply.output_tokens or 0)
        tally.input_tokens += reply.input_tokens or 0
        tally.output_tokens += reply.output_tokens or 0
        line.pace.correct(estimate_tokens(written.load, ask.arm.model), tokens)
        return reply

    def _hears(self, line: EndpointSession, ask: Request) -> StreamFilter | None:
        """What takes in an answer's text as it comes; the key, should it be echoed, does not pass."""
        if self._listener is None:
            return None
        listener = self._listener
        return line.secret.passing(lambda text: listener.text(ask, text))

    async def _conclude_refused(self, line: EndpointSession, ask: Request, attempt: int, is_open: bool) -> None:
        """Keep a bad request open while nothing has worked with the model; settle all of them once something has.

        Something may have worked since it was seen to be open, while its reply was being kept.
        """
        model = ask.arm.model_name
        if is_open:
            line.refused.setdefault(model, []).append((attempt, ask))
        if model in line.worked and (settled := line.refused.pop(model, [])):
            await self._store.conclude([number for number, _ in settled])
            for _, one in settled:
                for counts in self._tally.parts(one.task.name, one.arm.name, model):
                    counts.end("bad_request", False)

    def _concludes(self, line: EndpointSession, ask: Request, outcome: Outcome, try_: int) -> bool:
        """Whether this attempt settles the ask.

        What stops a model or an endpoint settles nothing: once that is mended, it is simply asked. Nor
        does a connection that never came about, for nothing was asked then; nor a failure while the whole
        endpoint fails; nor a bad request, as long as nothing at all has worked with the model.
        """
        if outcome.stops != "none" or outcome.kind in ("unreachable", "no_descriptors"):
            return False
        if outcome.again:
            last = try_ >= line.endpoint.limits.max_tries
            return last and not line.circuit.is_open and not line.is_stopped(ask.arm.model_name)
        return outcome.kind in ("answered", "unhandled") or ask.arm.model_name in line.worked
