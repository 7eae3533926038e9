"""A request sent, and sent again until what a dialect waits for is there.

The requests before the request proper: handing pictures over, asking for an address, putting a question in.

What a service gave for a picture is kept while it lives, so that a picture that many arms ask about is
handed over once; those who need it at the same time wait for the first.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from drovik.dialects.reply_path import compile_place
from drovik.dialects.request_template import HttpRequest, RequestTemplate
from drovik.dialects.response import error_message, missing_path_note
from drovik.heavy import aiohttp
from drovik.project.arms import digest, digest_of_bytes
from drovik.project.dialects import Step, Until
from drovik.transport.http import HttpReply, NoReply, RemoteRequest, fetch
from drovik.transport.outcomes import Outcome
from drovik.transport.secret import MARK, SHORTEST

if TYPE_CHECKING:
    from drovik.dialects.request import Draft, DraftPicture
    from drovik.transport.session import EndpointSession


FIRST_LOOK = 0.1
"""Seconds after which it is looked again the first time; then after twice as many, up to the dialect's `every`."""


_PASSING = ("lost", "timeout", "unreachable", "limited", "service_error")
"""What may befall one look at whether an answer is there, without the answer being lost."""


class StepEnded(NoReply):
    """What was waited for will not come: the service says that it failed."""


async def fetch_clean(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    http_request: HttpRequest | RemoteRequest,
    form: str,
    listen: Callable[[bytes], None] | None = None,
) -> HttpReply:
    """Send a request; what comes back does not hold the key, whatever the service echoes: body, headers, errors.

    :param form: how the body is built, as a dialect has it.
    :raises NoReply: where none came whole.
    """
    if service.trace is not None and isinstance(http_request, HttpRequest):
        headers = {name: _masked(service, value) for name, value in http_request.headers.items()}
        body = service.secret.out_of_bytes(http_request.body)
        service.trace.sent(http_request.method, _masked(service, http_request.url), headers, body)
    try:
        if isinstance(http_request, RemoteRequest):
            got = await http_request.send(service.endpoint.limits.timeout)
        else:
            got = await fetch(session, http_request, service.endpoint.limits.timeout, listen)
    except NoReply as failure:
        raise NoReply(replace(failure.outcome, words=service.secret.out_of(failure.outcome.words))) from None
    clean = HttpReply(
        got.status, service.secret.out_of_headers(got.headers), service.secret.out_of_body(got.body, form)
    )
    if service.trace is not None:
        service.trace.came(clean.status, dict(clean.headers), clean.body)
    return clean


def _masked(service: EndpointSession, text: str) -> str:
    """A text without the key, and without what was given in its place for a while."""
    text = service.secret.out_of(text)
    for _, taken in service.passes.values():
        for value in taken.values():
            text = text.replace(str(value), MARK) if len(str(value)) >= SHORTEST else text
    return text


async def send(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    http_request: HttpRequest | RemoteRequest,
    until: Until | None,
    listen: Callable[[bytes], None] | None = None,
) -> HttpReply:
    """Send a request, again and again where the dialect says to wait `until` something is there.

    :raises NoReply: where no reply came, or what was waited for failed or did not come in time.
    """
    if until is None:
        return await fetch_clean(session, service, http_request, service.dialect.reply.form, listen)
    gives_up = time.monotonic() + until.within
    state: object = None
    wait = min(until.every, FIRST_LOOK)
    while time.monotonic() < gives_up:
        try:
            got = await fetch_clean(session, service, http_request, "json")
            if 400 <= got.status < 500 and got.status not in (408, 409, 425, 429):
                return got
            done, state = _is_there(got, until)
            if done:
                return got
        except StepEnded:
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
    """Whether what is waited for is there, and what is at its place.

    :raises NoReply: where the service says that it failed.
    """
    if not 200 <= got.status < 300:
        return False, f"status {got.status}"
    try:
        tree = json.loads(got.body) if not until.at.startswith("header") else None
    except (ValueError, RecursionError):
        raise NoReply(Outcome("unreadable", again=True, words="the reply to look at is not JSON")) from None
    found = [one for one in compile_place(until.at)(tree, got.headers) if one is not None]
    if not found:
        return False, missing_path_note(until.at, tree)
    state = str(found[0])
    if state.casefold() in {one.casefold() for one in until.fails}:
        raise StepEnded(
            Outcome("service_error", again=True, words=f"the service says '{state}': {error_message(got.body)}")
        )
    return (state in until.is_ if until.is_ else True), state


class StepFailed(Exception):
    """A step did not do what it is for; `reply` is what came, if anything did."""

    def __init__(self, step: str, outcome: Outcome, reply: HttpReply | None = None) -> None:
        self.step, self.outcome, self.reply = step, outcome, reply
        self.kept = False
        """Whether something was used that was kept from before, and may live no longer."""
        super().__init__(outcome.words)


async def run_steps(session: aiohttp.ClientSession, service: EndpointSession, draft: Draft, fresh: bool) -> bool:
    """Run every step of a draft and add what it takes.

    :param fresh: take nothing that was kept from before.
    :return: whether something was used that was kept from before.
    :raises StepFailed: at the first step that fails.
    """
    kept = False
    try:
        for step, template in service.writer.steps:
            if step.per == "request":
                taken, found = await _pass(session, service, draft, step, template, fresh)
                draft.taken |= taken
                kept |= found
                continue
            for picture in draft.every_picture():
                kept |= await _hand_over(session, service, draft, step, template, picture, fresh)
    except StepFailed as failure:
        failure.kept = kept
        raise
    return kept


async def _pass(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    draft: Draft,
    step: Step,
    template: RequestTemplate,
    fresh: bool,
) -> tuple[dict[str, Any], bool]:
    """What a step of the request gives; while it is valid it is used again, in this run alone: a pass is a secret.

    :return: that, and whether it was kept from before.
    """
    if not step.valid_for or not template.slots <= _SAME_FOR_ALL:
        return await _take(session, service, draft, step, template, None), False
    key = digest({"step": step.model_dump(mode="json"), "model": draft.plain["model"]})
    async with service.handing.setdefault(key, asyncio.Lock()):
        until, taken = service.passes.get(key, (0.0, {}))
        if not fresh and time.monotonic() < until:
            return taken, True
        taken = await _take(session, service, draft, step, template, None)
        service.passes[key] = (time.monotonic() + step.valid_for, taken)
    return taken, False


_SAME_FOR_ALL = frozenset(("key", "key.basic", "model"))
"""The slots of a step whose reply is the same for every request."""


async def _hand_over(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    draft: Draft,
    step: Step,
    template: RequestTemplate,
    picture: DraftPicture,
    fresh: bool,
) -> bool:
    key = _key(service, step, picture)
    async with service.handing.setdefault(key, asyncio.Lock()):
        taken = None if fresh or not step.valid_for else service.handles.find(key)
        found = taken is not None
        if taken is None:
            taken = await _take(session, service, draft, step, template, picture)
            if step.valid_for:
                service.handles.keep(key, taken, step.valid_for)
    picture.values |= taken
    return found


def _key(service: EndpointSession, step: Step, picture: DraftPicture) -> str:
    own = digest_of_bytes(picture.prepared.data) if picture.prepared else picture.values.get("address")
    return digest({"url": service.endpoint.url, "step": step.model_dump(mode="json"), "picture": own})


async def _take(
    session: aiohttp.ClientSession,
    service: EndpointSession,
    draft: Draft,
    step: Step,
    template: RequestTemplate,
    picture: DraftPicture | None,
) -> dict[str, Any]:
    http_request = template.fill(service.endpoint.url, service.writer.scope(draft, picture))
    try:
        got = await send(session, service, http_request, step.until)
    except NoReply as failure:
        raise StepFailed(step.name, failure.outcome) from None
    if not 200 <= got.status < 300 and not (300 <= got.status < 400 and _takes_headers_only(step)):
        raise StepFailed(step.name, Outcome("bad_request", words=f"status {got.status}"), got)
    return _taken(step, got)


def _takes_headers_only(step: Step) -> bool:
    return bool(step.take) and all(place.startswith("header") for place in step.take.values())


def _taken(step: Step, got: HttpReply) -> dict[str, Any]:
    tree: Any = None
    try:
        tree = json.loads(got.body) if got.body.strip() else None
    except (ValueError, RecursionError):
        if not _takes_headers_only(step):
            words = "the reply is not JSON, and something is to be taken from it"
            raise StepFailed(step.name, Outcome("unreadable", again=True, words=words), got) from None
    taken = {}
    for name, place in step.take.items():
        found = compile_place(place)(tree, got.headers)
        value = next((one for one in found if isinstance(one, str | int | float)), None)
        if value is None:
            there = f"no {place}" if place.startswith("header") else missing_path_note(place, tree)
            raise StepFailed(step.name, Outcome("bad_request", words=there), got)
        taken[name] = value
    return taken
