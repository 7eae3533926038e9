"""A service of this machine that an endpoint brings along: started where it is not up, and stopped afterwards.

All commands of a user share it: who comes second uses what runs, and the last to leave stops it, unless it is to be
left running. Which process it is, and who uses it, is kept in the user's state folder.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import itertools
import json
import os
import signal
import subprocess
import time
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from platformdirs import user_state_path

from drovik.dialects.request import Conversation, TextPart, Turn
from drovik.dialects.request_template import HttpRequest
from drovik.errors import DrovikError, Problem, ServiceError
from drovik.files import write_whole
from drovik.heavy import aiohttp
from drovik.project.arms import digest
from drovik.project.commands import environment_for, words_of
from drovik.project.settings import FILE_NAME, Endpoint
from drovik.store.claims import is_running, process_start_time
from drovik.transport.attempt import exchange
from drovik.transport.http import NoReply, fetch

if TYPE_CHECKING:
    from drovik.planning.requests import Request
    from drovik.transport.session import EndpointSession

_LOOKS_EVERY = 0.1
"""Seconds between two looks whether it is up."""
_STOPS_WITHIN = 5.0
"""Seconds it has to stop by itself before it is killed."""


@asynccontextmanager
async def local_service(
    session: aiohttp.ClientSession, endpoint: Endpoint, name: str, tell: Callable[[str], None] | None = None
) -> AsyncIterator[bool]:
    """The endpoint's own service, up; yields whether it was started here. The last who uses it stops it.

    :param tell: gets what it is doing while it starts.
    :raises DrovikError: where it does not come up, with the last line that it wrote.
    """
    if endpoint.start is None:
        yield False
        return
    place = ServicePlace(endpoint, name)
    with place.used():
        yield await place.until_up(session, tell or (lambda _: None))


class ServicePlace:
    """What all programs of a user know of one local service: its process, what it writes, and who uses it."""

    def __init__(self, endpoint: Endpoint, name: str) -> None:
        self.endpoint, self.name = endpoint, name
        what = {"home": str(endpoint.home.resolve()), "name": name, "start": endpoint.start}
        self._folder = Path(user_state_path("drovik")) / "services" / digest(what)[:16]
        self._process: subprocess.Popen[bytes] | None = None

    @contextmanager
    def used(self) -> Iterator[None]:
        """It is used meanwhile. Afterwards it is stopped, if nobody else uses it and it is not to be left running."""
        mark = self._users / f"{os.getpid()}-{next(_NUMBERS)}"
        with self._locked():
            self._users.mkdir(parents=True, exist_ok=True)
            mark.write_text(process_start_time(os.getpid()))
        try:
            yield
        finally:
            with self._locked():
                mark.unlink(missing_ok=True)
                known = self._known()
                if known and not known["stays"] and not self._in_use():
                    self._end(known)

    def stop(self) -> bool:
        """Stop what was started; whether there was anything to stop."""
        with self._locked():
            known = self._known()
            if known:
                self._end(known)
            return known is not None

    async def until_up(
        self, session: aiohttp.ClientSession, tell: Callable[[str], None], stays: bool = False
    ) -> bool:
        """Have it up: start it, or wait for who does.

        :param stays: whether it is left running.
        :return: whether it was started here.
        :raises DrovikError: where it does not come up.
        """
        began = time.monotonic()
        started = False
        try:
            while not await _is_up(session, self.endpoint):
                self._require_alive()
                with self._locked():
                    if not started and self._known() is None:
                        self._start(stays or self.endpoint.leave_running)
                        started = True
                passed = time.monotonic() - began
                if passed > self.endpoint.start_within:
                    what = f"'{self.endpoint.start}' was not up at {self.endpoint.ready}"
                    what += f" within {self.endpoint.start_within:g} seconds{self._last_line()}"
                    raise self._error(what, "raise start_within, or correct ready")
                tell(f"{self.name} starts: {passed:.0f} s{self._last_line()}")
                await asyncio.sleep(_LOOKS_EVERY)
        finally:
            tell("")
        return started

    def _start(self, stays: bool) -> None:
        with (self._folder / "output.log").open("wb") as written:
            try:
                self._process = subprocess.Popen(
                    words_of(self.endpoint.start or "", f"endpoints.{self.name}.start"),
                    cwd=self.endpoint.home,
                    env=environment_for(self.endpoint.pass_env),
                    stdin=subprocess.DEVNULL,
                    stdout=written,
                    stderr=subprocess.STDOUT,
                    start_new_session=True,  # so that all it starts is stopped with it, and Ctrl-C does not reach it
                )
            except (OSError, ValueError) as error:
                reason = getattr(error, "strerror", None) or str(error)
                raise self._error(f"'{self.endpoint.start}' cannot be run: {reason}", "correct start") from None
        since = process_start_time(self._process.pid)
        write_whole(self._file, json.dumps({"pid": self._process.pid, "since": since, "stays": stays}))

    def _require_alive(self) -> None:
        """What ended while it should have come up is said, with its last line."""
        code = self._process.poll() if self._process is not None else None
        if code is not None:
            with self._locked():
                self._file.unlink(missing_ok=True)
            raise self._error(
                f"'{self.endpoint.start}' ended at once, with {code}{self._last_line()}", "try it by hand"
            )

    def _error(self, what: str, remedy: str) -> ServiceError:
        return ServiceError(Problem(what, remedy, FILE_NAME, f"endpoints.{self.name}"))

    @property
    def _file(self) -> Path:
        return self._folder / "service.json"

    @property
    def _users(self) -> Path:
        return self._folder / "users"

    def _known(self) -> dict[str, Any] | None:
        """The process that was started and still runs; None for none."""
        try:
            known = json.loads(self._file.read_text())
            pid, since = int(known["pid"]), str(known["since"])
        except (OSError, ValueError, KeyError, TypeError):
            return None
        if self._process is not None and self._process.pid == pid and self._process.poll() is not None:
            return None
        return {**known, "stays": bool(known.get("stays"))} if is_running(pid, since) else None

    def _in_use(self) -> bool:
        """Whether any program that still runs uses it."""
        for mark in self._users.iterdir() if self._users.is_dir() else ():
            pid = mark.name.partition("-")[0]
            if pid.isdigit() and is_running(int(pid), mark.read_text()):
                return True
            mark.unlink(missing_ok=True)
        return False

    def _end(self, known: dict[str, Any]) -> None:
        """Ask it to end, and end it where it does not."""
        self._file.unlink(missing_ok=True)
        for number in (signal.SIGTERM, signal.SIGKILL):
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(int(known["pid"]), number)
            gives_up = time.monotonic() + _STOPS_WITHIN
            while time.monotonic() < gives_up:
                gone = self._process.poll() is not None if self._process is not None else False
                if gone or not is_running(int(known["pid"]), str(known["since"])):
                    return
                time.sleep(0.05)

    @contextmanager
    def _locked(self) -> Iterator[None]:
        """Alone with what is known of it: two programs do not start it twice."""
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        with (self._folder / "lock").open("a") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            yield

    def _last_line(self) -> str:
        try:
            with (self._folder / "output.log").open("rb") as written:
                size = written.seek(0, os.SEEK_END)
                written.seek(max(0, size - 2000))
                lines = written.read().decode("utf-8", "replace").strip().splitlines()
        except OSError:
            return ""
        return f': "{lines[-1].strip()[:200]}"' if lines else ""


_NUMBERS = itertools.count()


async def _is_up(session: aiohttp.ClientSession, endpoint: Endpoint) -> bool:
    with contextlib.suppress(NoReply):
        got = await fetch(session, HttpRequest("GET", endpoint.url + endpoint.ready, {}, b""), 5.0)
        return 200 <= got.status < 300
    return False


async def warm(session: aiohttp.ClientSession, service: EndpointSession, request: Request) -> None:
    """Ask a service that has just been started once, so that loading its model is in nobody's time.

    Nothing is made of the reply: what is wrong will be seen with the first real request.
    """

    asking = Conversation("", (Turn("user", (TextPart("Hello."),)),))
    model = replace(request.arm, model=request.arm.model.model_copy(update={"takes_pictures": False}))
    with contextlib.suppress(DrovikError):
        draft = service.writer.draft(model, asking, [], "warm")
        await exchange(session, service, request, draft if service.writer.steps else service.writer.write(draft))
