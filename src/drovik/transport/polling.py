"""A request sent, and sent again until what a dialect waits for is there."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from drovik.dialects.reply_path import compile_place
from drovik.dialects.request_template import HttpRequest
from drovik.dialects.response import nothing_at, words_of
from drovik.project.dialects import Until
from drovik.transport.http import HttpReply, NoReply, fetch
from drovik.transport.outcomes import Outcome

if TYPE_CHECKING:
    import aiohttp

    from drovik.transport.session import Line


FIRST_LOOK = 0.1
"""Seconds after which it is looked again the first time; then after twice as many, up to the dialect's `every`."""


_PASSING = ("lost", "timeout", "unreachable", "limited", "service_error")
"""What may befall one look at whether an answer is there, without the answer being lost."""


class Ended(NoReply):
    """What was waited for will not come: the service says that it failed."""


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
        raise NoReply(Outcome("unreadable", again=True, words="the reply to look at is not JSON")) from None
    found = [one for one in compile_place(until.at)(tree, got.headers) if one is not None]
    if not found:
        return False, nothing_at(until.at, tree)
    state = str(found[0])
    if state in until.fails:
        raise Ended(Outcome("service_error", again=True, words=f"the service says '{state}': {words_of(got.body)}"))
    return (state in until.is_ if until.is_ else True), state
