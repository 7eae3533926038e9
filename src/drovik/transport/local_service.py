"""A service of this machine that an endpoint brings along: started where it is not up, and stopped afterwards."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import subprocess
import tempfile
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from typing import IO, TYPE_CHECKING

from drovik.dialects.request import Conversation, TextPart, Turn
from drovik.dialects.request_template import HttpRequest
from drovik.errors import DrovikError, Problem, ServiceError
from drovik.heavy import aiohttp
from drovik.project.commands import environment_for, words_of
from drovik.project.settings import FILE_NAME, Endpoint
from drovik.transport.attempt import exchange
from drovik.transport.http import NoReply, fetch

if TYPE_CHECKING:
    from drovik.planning.plan import Request
    from drovik.transport.session import EndpointSession

_LOOKS_EVERY = 0.1
"""Seconds between two looks whether it is up."""
_STOPS_WITHIN = 5.0
"""Seconds it has to stop by itself before it is killed."""


@asynccontextmanager
async def local_service(session: aiohttp.ClientSession, endpoint: Endpoint, name: str) -> AsyncIterator[bool]:
    """The endpoint's own service, up; yields whether it was started here. What was started is stopped at the end.

    :raises DrovikError: where it does not come up, with the last line that it wrote.
    """
    if endpoint.start is None or await _is_up(session, endpoint):
        yield False
        return
    with tempfile.TemporaryFile() as written:
        process = _started(endpoint, name, written)
        try:
            await _until_up(session, endpoint, name, process, written)
            yield True
        finally:
            await _stop(process)


def _started(endpoint: Endpoint, name: str, written: IO[bytes]) -> subprocess.Popen[bytes]:
    try:
        return subprocess.Popen(
            words_of(endpoint.start or "", f"endpoints.{name}.start"),
            cwd=endpoint.home,
            env=environment_for(endpoint.pass_env),
            stdin=subprocess.DEVNULL,
            stdout=written,
            stderr=subprocess.STDOUT,
            start_new_session=True,  # so that all it starts can be stopped with it, and Ctrl-C does not reach it
        )
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        what = f"'{endpoint.start}' cannot be run: {reason}"
        raise ServiceError(Problem(what, "correct start", FILE_NAME, f"endpoints.{name}")) from None


async def _is_up(session: aiohttp.ClientSession, endpoint: Endpoint) -> bool:
    with contextlib.suppress(NoReply):
        got = await fetch(session, HttpRequest("GET", endpoint.url + endpoint.ready, {}, b""), 5.0)
        return 200 <= got.status < 300
    return False


async def _until_up(
    session: aiohttp.ClientSession,
    endpoint: Endpoint,
    name: str,
    process: subprocess.Popen[bytes],
    written: IO[bytes],
) -> None:
    gives_up = time.monotonic() + endpoint.start_within
    while time.monotonic() < gives_up:
        if process.poll() is not None:
            what = f"'{endpoint.start}' ended at once, with {process.returncode}{_last_line(written)}"
            raise ServiceError(Problem(what, "try it by hand", FILE_NAME, f"endpoints.{name}"))
        if await _is_up(session, endpoint):
            return
        await asyncio.sleep(_LOOKS_EVERY)
    what = f"'{endpoint.start}' was not up at {endpoint.ready} within {endpoint.start_within:g} seconds"
    remedy = "raise start_within, or correct ready"
    raise ServiceError(Problem(what + _last_line(written), remedy, FILE_NAME, f"endpoints.{name}"))


def _last_line(written: IO[bytes]) -> str:
    size = written.seek(0, os.SEEK_END)
    written.seek(max(0, size - 2000))
    lines = written.read().decode("utf-8", "replace").strip().splitlines()
    return f': "{lines[-1].strip()[:200]}"' if lines else ""


async def _stop(process: subprocess.Popen[bytes]) -> None:
    """Ask it to end, and end it where it does not."""
    for number in (signal.SIGTERM, signal.SIGKILL):
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, number)
        with contextlib.suppress(subprocess.TimeoutExpired):
            await asyncio.to_thread(process.wait, _STOPS_WITHIN)
            return


async def warm(session: aiohttp.ClientSession, service: EndpointSession, request: Request) -> None:
    """Ask a service that has just been started once, so that loading its model is in nobody's time.

    Nothing is made of the reply: what is wrong will be seen with the first real request.
    """

    asking = Conversation("", (Turn("user", (TextPart("Hello."),)),))
    model = replace(request.arm, model=request.arm.model.model_copy(update={"takes_pictures": False}))
    with contextlib.suppress(DrovikError):
        draft = service.writer.draft(model, asking, [], "warm")
        await exchange(session, service, request, draft if service.writer.steps else service.writer.write(draft))
