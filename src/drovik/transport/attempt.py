"""One exchange with a service: the steps of its dialect, the request proper, what comes back, and the outcome.

One attempt, from before it leaves until the outcome is committed and counted.
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
from drovik.planning.plan import Plan
from drovik.planning.requests import Request
from drovik.project.dialects import ReplyForm
from drovik.project.spending import CountedTokens
from drovik.store.answer_store import Store
from drovik.store.records import Reply
from drovik.transport.http import HttpReply, NoReply, RemoteRequest
from drovik.transport.outcomes import AttemptEnd, Listener, Outcome, outcome_of, outcome_of_error
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
    service: EndpointSession,
    request: Request,
    draft: Draft | HttpRequest | RemoteRequest,
    hear: Hear | None = None,
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    """Send what a request needs and read what comes back.

    :param draft: the request itself where its dialect has no steps.
    :param hear: gets the answer's text as it comes, where it comes in pieces.
    :return: the reply and what is in it, where one came whole; and the outcome, in any case.
    """
    try:
        return await _exchange(session, service, request, draft, hear)
    except Exception as error:  # whatever a stranger's reply does to us ends this one request, and is named
        return None, None, _unhandled(service, error)


def _unhandled(service: EndpointSession, error: Exception) -> Outcome:
    words = f"it could not be handled: {type(error).__name__}: {str(error)[:200]}"
    return Outcome("unhandled", words=service.secret.out_of(words))


async def _exchange(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    request: Request,
    draft: Draft | HttpRequest | RemoteRequest,
    hear: Hear | None,
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    if isinstance(draft, HttpRequest | RemoteRequest):
        return await _proper(session, service, request, draft, hear)
    for fresh in (False, True):
        try:
            used = await run_steps(session, service, draft, fresh)
            http_request = service.writer.write(draft)
        except StepFailed as failure:
            if failure.kept and not fresh and failure.outcome.kind == "bad_request":
                continue
            return _failed_step(service, request, failure)
        except DrovikError as error:
            return None, None, Outcome("bad_request", words=error.problems[0].what)
        reply, parsed, outcome = await _proper(session, service, request, http_request, hear)
        if not used or outcome.kind not in ("bad_request", "not_found", "no_pictures", "key_rejected", "forbidden"):
            break
        # Perhaps what was handed over or given earlier does not live any more: do it again.
    return reply, parsed, outcome


def _failed_step(
    service: EndpointSession, request: Request, failure: StepFailed
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    words = f"in the step '{failure.step}': {failure.outcome.words}"
    if failure.reply is None:
        return None, None, replace(failure.outcome, words=words)
    reply = Reply(failure.reply.status, failure.reply.body)
    outcome = failure.outcome
    if not 200 <= failure.reply.status < 300:
        outcome = _outcome(service, request, failure.reply, ParsedReply(error=error_message(failure.reply.body)))
    return reply, None, replace(outcome, words=f"in the step '{failure.step}': {outcome.words}")


async def _proper(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    request: Request,
    http_request: HttpRequest | RemoteRequest,
    hear: Hear | None,
) -> tuple[Reply | None, ParsedReply | None, Outcome]:
    reply_parser = ReplyParser(service.dialect.reply)
    listen = (lambda data: hear(reply_parser.feed(data))) if hear is not None else None
    try:
        got = await send(session, service, http_request, service.dialect.request.until, listen)
        service.headers = got.headers
    except NoReply as failure:
        return None, None, failure.outcome
    try:
        return _read(service, request, got)
    except Exception as error:  # it came, and may have been paid for: it is kept as it is
        return Reply(got.status, got.body, price=request.arm.model.price), None, _unhandled(service, error)


def _read(service: EndpointSession, request: Request, got: HttpReply) -> tuple[Reply, ParsedReply, Outcome]:
    """What is in a reply that came whole, and the outcome."""
    form, body = service.dialect.reply, got.body
    good = 200 <= got.status < 300
    parsed = parse_reply(body, form, got.headers) if good else _parsed_error(body, service)
    if service.secret.out_of(parsed.text) != parsed.text:
        # Split over pieces in a way that only this dialect's reading puts together: then nothing of it is kept.
        what = "the key was echoed in pieces, and could not be taken out; the reply is not kept"
        body, parsed = b"", replace(parsed, text="", note=what, readable=False)
    counters = {name: CountedTokens(count, form.counters[name].within) for name, count in parsed.counters.items()}
    reply = Reply(
        http_status=got.status,
        body=body,
        model=parsed.model,
        input_tokens=parsed.input_tokens,
        output_tokens=parsed.output_tokens,
        price=request.arm.model.price,
        counters=counters,
    )
    return reply, parsed, _outcome(service, request, got, parsed)


def _parsed_error(body: bytes, service: EndpointSession) -> ParsedReply:
    """An error's words: where the dialect says, else the longest text that there is."""
    found = parse_reply(body, _error_form(service)) if service.dialect.reply.error else ParsedReply()
    return replace(found, error=found.error or error_message(body))


def _error_form(service: EndpointSession) -> ReplyForm:
    """The reply half as it reads errors: they come as one JSON document, however answers come."""
    return service.dialect.reply.model_copy(update={"form": "json", "text": service.dialect.reply.text or "$.answer"})


def _outcome(service: EndpointSession, request: Request, got: HttpReply, parsed: ParsedReply) -> Outcome:
    worked = request.arm.model_name in service.worked
    if 300 <= got.status < 400:
        location = got.headers.get("Location") or "nowhere"
        return Outcome("redirected", stops="endpoint", words=f"sends on to {location}")
    if 200 <= got.status < 300:
        if is_error(parsed, service.dialect.reply):
            return outcome_of_error(parsed.error or "", parsed.code, service.dialect.errors, worked)
        if not parsed.readable:
            return Outcome("unreadable", again=True, words=parsed.note)
        if parsed.incomplete:
            return Outcome("incomplete", again=True, words=parsed.note)
    words = parsed.error or parsed.note
    outcome = outcome_of(got.status, words, got.headers.get("Retry-After"), service.dialect.errors, worked)
    if outcome.wait is not None:
        outcome = replace(outcome, wait=min(outcome.wait, service.endpoint.limits.give_up_after))
    if outcome.kind == "forbidden" and outcome.stops == "endpoint" and service.worked:
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
        service: EndpointSession,
        requests: Sequence[Request],
        written: PreparedRequest,
        round_: int,
        try_: int,
    ) -> Outcome:
        """Send once; the outcome.

        :param requests: what the request answers; the first stands for all.

        :raises OverBudget: where the limit of money does not allow it now.
        :raises NotClaimed: where another program may ask it by now.
        """
        request = requests[0]
        asked = [one.asked(written.text) for one in requests]
        bound = max_cost(written.load, request.arm.model)
        attempt = await self._store.begin_attempt(asked, round_, try_, service.name, bound, self._tally.budget)
        if attempt == "budget":
            raise OverBudget
        if attempt == "claim":
            raise NotClaimed
        counts = self._tally.parts(request.task.name, request.arm.name, request.arm.model_name)
        for one in counts:
            one.attempts += 1
        if self._listener:
            self._listener.begins(request, try_)
        self.under_way += 1
        started = time.perf_counter()
        hears = self._hears(service, request)
        try:
            reply, parsed, outcome = await exchange(session, service, request, written.request, hears)
        finally:
            self.under_way -= 1
        if hears is not None:
            hears.end()
        seconds = time.perf_counter() - started
        if outcome.kind == "key_rejected" and service.key_renewed():
            outcome = replace(outcome, again=True, stops="none")
        self._learn(service, request, outcome, parsed, try_)
        reply = self._taken_in(service, request, written, reply)
        concluded = self._concludes(service, request, outcome, try_)
        if outcome.kind != "answered":
            for one in counts:
                one.troubles[outcome.kind] += 1
        kept_as = (RECHECKED if self._plan.recheck else 1) if concluded else 0
        note = outcome.words[:500]
        await self._store.end_attempt(attempt, request.identity, outcome.kind, kept_as, seconds, note, reply)
        self.ended.set()
        if concluded:
            for one in counts:
                one.end(outcome.kind, try_ == 1)
        refused = outcome.kind == "bad_request" and not concluded
        await self._conclude_refused(service, request, attempt, refused)
        if self._listener:
            self._listener.ended(request, AttemptEnd(outcome, parsed, reply, seconds))
        return outcome

    def _learn(
        self, service: EndpointSession, request: Request, outcome: Outcome, parsed: ParsedReply | None, try_: int
    ) -> None:
        try:
            service.learn(request, outcome, parsed, last_try=try_ == service.endpoint.limits.max_tries)
        except Exception as error:  # what a service says of itself must not lose what it was paid for
            what = f"{service.name}: what it says of its limits could not be handled: {type(error).__name__}"
            self._tally.warn("learn", Problem(what, "please report it"))

    def _taken_in(
        self, service: EndpointSession, request: Request, written: PreparedRequest, reply: Reply | None
    ) -> Reply | None:
        """Count what a reply came to; the reply, with what is billed for the request itself."""
        tally = self._tally
        tally.quiet_until = max(tally.quiet_until, time.monotonic() + service.rates.quiet_for())
        if reply is None:
            tally.without_reply += 1
            return None
        if 200 <= reply.http_status < 300:
            reply = reply._replace(pictures=len(written.load.pictures))
        spent = reply.spent()
        for one in tally.parts(request.task.name, request.arm.name, request.arm.model_name):
            one.pay(spent)
        tokens = (reply.input_tokens or 0) + (reply.output_tokens or 0)
        tally.input_tokens += reply.input_tokens or 0
        tally.output_tokens += reply.output_tokens or 0
        service.rates.correct(estimate_tokens(written.load, request.arm.model), tokens)
        return reply

    def _hears(self, service: EndpointSession, request: Request) -> StreamFilter | None:
        """What takes in an answer's text as it comes; the key, should it be echoed, does not pass."""
        if self._listener is None:
            return None
        listener = self._listener
        return service.secret.passing(lambda text: listener.text(request, text))

    async def _conclude_refused(
        self, service: EndpointSession, request: Request, attempt: int, is_open: bool
    ) -> None:
        """Keep a bad request open while nothing has worked with the model; settle all of them once something has.

        Something may have worked since it was seen to be open, while its reply was being kept.
        """
        model = request.arm.model_name
        if is_open:
            service.refused.setdefault(model, []).append((attempt, request))
        if model in service.worked and (settled := service.refused.pop(model, [])):
            await self._store.conclude([number for number, _ in settled])
            for _, one in settled:
                for counts in self._tally.parts(one.task.name, one.arm.name, model):
                    counts.end("bad_request", False)

    def _concludes(self, service: EndpointSession, request: Request, outcome: Outcome, try_: int) -> bool:
        """Whether this attempt settles the request.

        What stops a model or an endpoint settles nothing: once that is repaired, it is simply asked. Nor
        does a connection that never came about, for nothing was asked then; nor a failure while the whole
        endpoint fails; nor a bad request, as long as nothing at all has worked with the model.
        """
        if outcome.stops != "none" or outcome.kind in ("unreachable", "no_descriptors"):
            return False
        if outcome.again:
            last = try_ >= service.endpoint.limits.max_tries
            return last and not service.breaker.is_open and not service.is_stopped(request.arm.model_name)
        return outcome.kind in ("answered", "unhandled") or request.arm.model_name in service.worked
