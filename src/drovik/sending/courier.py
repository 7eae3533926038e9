"""Carries asks to their endpoints and their replies into the store.

Each endpoint has its own line of asks and its own slots, `at_once` of them, so that a slow one holds
none up. An ask holds a slot only from just before its request leaves until its reply is committed: so
a kill can leave at most `at_once` attempts without a reply. While it waits for another try it gives
the slot free. There are three carriers to a slot, so that some can wait while others send; pictures
are prepared in threads, a few ahead of the slots, so memory is bounded by `at_once`, not by the cases.

What a service asks to wait after a 429 holds for the whole line: the others would only be told the
same. On an interrupt no new request leaves, and those under way are waited for, since they will be
paid; a second interrupt cancels them, and they stay in the store as attempts without a reply.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import random
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import AsyncExitStack
from dataclasses import replace
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from drovik.problems import DrovikError, Problem
from drovik.project.opening import Project
from drovik.project.settings import is_loopback
from drovik.sending.exchange import exchange
from drovik.sending.lending import lending, takes_addresses
from drovik.sending.lines import Line
from drovik.sending.listening import Ending, Listener
from drovik.sending.local import local_service, warm
from drovik.sending.outcomes import Outcome, wait_before
from drovik.sending.plan import Ask, Plan
from drovik.sending.tally import Tally
from drovik.sending.writing import PictureChanged, Written, write_request
from drovik.store.keeping import Store

if TYPE_CHECKING:
    import aiohttp

CARRIERS_PER_SLOT = 3


class Courier:
    """Sends one plan.

    :param chance: the randomness of the waits.
    :param listener: hears answers as they come.
    """

    def __init__(
        self,
        project: Project,
        store: Store,
        plan: Plan,
        chance: random.Random | None = None,
        listener: Listener | None = None,
    ) -> None:
        self._project, self._store, self._plan = project, store, plan
        self._listener = listener
        self._lines: dict[str, Line] = {}
        self._asked = {ask.identity for asks in plan.to_send.values() for ask in asks}
        self._chance = chance or random.Random()
        self._interrupted = asyncio.Event()
        self._pool = ThreadPoolExecutor(max_workers=_threads_for(plan), thread_name_prefix="prepare")
        self.tally = Tally(plan.count())

    def interrupt(self) -> None:
        """Let no new request leave."""
        self.tally.interrupted = True
        self._interrupted.set()

    async def run(self) -> Tally:
        """Send all of the plan that can be sent.

        :raises DrovikError: where the store cannot be written.
        """
        import aiohttp

        async with AsyncExitStack() as around:
            around.callback(self._pool.shutdown, wait=True, cancel_futures=True)
            session = await around.enter_async_context(aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)))
            await self._open_lines(around, session)
            try:
                async with asyncio.TaskGroup() as group:
                    for line in self._lines.values():
                        for _ in range(line.endpoint.limits.at_once * CARRIERS_PER_SLOT):
                            group.create_task(self._carry(session, line))
            except BaseExceptionGroup as failures:
                raise _first_of(failures) from None
        for line in self._lines.values():
            self.tally.stops += line.stopped.values()
        self.tally.left = self.tally.total - self.tally.answered - self.tally.failed
        return self.tally

    async def _open_lines(self, around: AsyncExitStack, session: aiohttp.ClientSession) -> None:
        """A line for each endpoint, with a service of this machine started where it is not up."""
        for name, asks in self._plan.to_send.items():
            endpoint = self._project.settings.endpoints[name]
            lend = None
            if is_loopback(urlsplit(endpoint.url).hostname) and takes_addresses(self._project, endpoint):
                lend = await around.enter_async_context(lending())
            line = Line(self._project, name, asks, self._store.handles, lend)
            self._lines[name] = line
            if endpoint.start is not None and asks:
                started = await around.enter_async_context(
                    local_service(session, endpoint, self._project.folder, name)
                )
                if started:
                    await warm(session, line, asks[0])

    async def _carry(self, session: aiohttp.ClientSession, line: Line) -> None:
        for ask in line.asks:
            if self._interrupted.is_set():
                return
            await self._follow(session, line, ask)

    async def _follow(self, session: aiohttp.ClientSession, line: Line, ask: Ask) -> None:
        """Settle an ask, and then what its answer is needed for."""
        waiting = [ask]
        while waiting:
            one = waiting.pop(0)
            line = self._lines[one.arm.model.endpoint]
            outcome = await self._settle(session, line, one)
            if outcome is None or outcome.kind != "answered":
                continue
            for asked in (one, *self._plan.shared.get(one.identity, ())):
                for next_ in self._plan.follow(asked):
                    if next_.identity in self._asked:
                        self._plan.shared.setdefault(next_.identity, []).append(next_)
                        self._store.note_asked([next_.asked("")])
                    else:
                        self._asked.add(next_.identity)
                        self.tally.total += 1
                        waiting.append(next_)

    async def _settle(self, session: aiohttp.ClientSession, line: Line, ask: Ask) -> Outcome | None:
        """Try one ask until it is answered, given up, or there is no point in asking; what came of the last try."""
        round_ = self._store.rounds(ask.identity) + 1 if ask.identity in self._plan.again else 1
        tries = line.endpoint.limits.tries
        for try_ in range(1, tries + 1):
            outcome = await self._one_try(session, line, ask, round_, try_)
            if outcome is None or not outcome.again or try_ == tries:
                return outcome
            self.tally.tried_again += 1
            await self._pause(wait_before(try_, outcome.wait, self._chance))
        return None

    async def _one_try(
        self, session: aiohttp.ClientSession, line: Line, ask: Ask, round_: int, try_: int
    ) -> Outcome | None:
        """Prepare and send once; None where nothing was sent."""
        async with line.ahead:
            if not self._may_go(line, ask):
                return None
            written = await self._written(line, ask, round_)
            if written is None:
                return None
            while self._may_go(line, ask):
                await self._pause(line.quiet_for())
                async with line.slots:
                    # What held the slot before may have been told to wait, or that there is no point.
                    if line.quiet_for() <= 0 and self._may_go(line, ask):
                        return await self._attempt(session, line, ask, written, round_, try_)
            return None

    def _may_go(self, line: Line, ask: Ask) -> bool:
        return not self._interrupted.is_set() and not line.is_stopped(ask.arm.model_name)

    async def _pause(self, seconds: float) -> None:
        """Wait, or less long where an interrupt comes."""
        if seconds > 0:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(seconds):
                    await self._interrupted.wait()

    async def _written(self, line: Line, ask: Ask, round_: int) -> Written | None:
        """The request, or None where a picture or a template fails: one case's trouble stops no other."""
        request_id = hashlib.sha256(f"{ask.identity}:{round_}".encode()).hexdigest()[:32]
        loop = asyncio.get_running_loop()
        try:
            written = await loop.run_in_executor(
                self._pool, write_request, self._project, line.writer, ask, request_id
            )
        except PictureChanged as error:
            self._store.digests.forget_source(error.path)
            self.tally.warn(error.path, error.problems[0])
            return None
        except DrovikError as error:
            self.tally.warn(error.problems[0].line(), error.problems[0])
            return None
        for fact in written.facts:
            if not self._store.digests.note_prepared(fact.source, fact.prep, fact.digest, fact.places):
                what = "is prepared to other bytes than before, though the prep is the same"
                remedy = "a newer imaging library does that; nothing is asked anew for it"
                self.tally.warn("prepared", Problem(what, remedy, fact.path))
        return written

    async def _attempt(
        self, session: aiohttp.ClientSession, line: Line, ask: Ask, written: Written, round_: int, try_: int
    ) -> Outcome:
        """One request from before it leaves until what came of it is committed."""
        asked = [one.asked(written.text) for one in (ask, *self._plan.shared.get(ask.identity, ()))]
        attempt = await self._store.begin_attempt(asked, round_, try_, line.name)
        self.tally.attempts += 1
        if self._listener:
            self._listener.begins(ask, try_)
        started = time.perf_counter()
        reply, unpacked, outcome = await exchange(session, line, ask, written.request, self._hears(line, ask))
        seconds = time.perf_counter() - started
        if outcome.kind == "key_rejected" and line.key_renewed():
            outcome = replace(outcome, again=True, stops="none")
        line.learn(ask, outcome, unpacked, last_try=try_ == line.endpoint.limits.tries)
        self.tally.quiet_until = max(self.tally.quiet_until, time.monotonic() + line.quiet_for())
        if reply is None:
            self.tally.without_reply += 1
        else:
            if 200 <= reply.http_status < 300:
                reply = replace(reply, pictures=written.pictures)
            self.tally.pay(reply.spent())
            self.tally.input_tokens += reply.input_tokens or 0
            self.tally.output_tokens += reply.output_tokens or 0
        concluded = self._concludes(line, ask, outcome, try_)
        note = outcome.words[:500]
        await self._store.end_attempt(attempt, outcome.kind, concluded, seconds, note, reply)
        if concluded:
            self._count(outcome)
        await self._conclude_refused(
            line, ask.arm.model_name, attempt, outcome.kind == "bad_request" and not concluded
        )
        if self._listener:
            self._listener.ended(ask, Ending(outcome, unpacked, reply, seconds))
        return outcome

    def _hears(self, line: Line, ask: Ask) -> Callable[[str], None] | None:
        """What takes in an answer's text as it comes; the key, should it be echoed, does not pass."""
        if self._listener is None:
            return None
        listener = self._listener
        return line.passing(lambda text: listener.text(ask, text))

    async def _conclude_refused(self, line: Line, model: str, attempt: int, is_open: bool) -> None:
        """Keep a bad request open while nothing has worked with the model; settle all of them once something has.

        Something may have worked since it was seen to be open, while its reply was being kept.
        """
        if is_open:
            line.refused.setdefault(model, []).append(attempt)
        if model in line.worked and (settled := line.refused.pop(model, [])):
            await self._store.conclude(settled)
            for _ in settled:
                self._count(Outcome("bad_request"))

    def _concludes(self, line: Line, ask: Ask, outcome: Outcome, try_: int) -> bool:
        """Whether this attempt settles the ask.

        What stops a model or an endpoint settles nothing: once that is mended, it is simply asked. Nor
        does a connection that never came about, for nothing was asked then; nor a bad request, as long
        as nothing at all has worked with the model.
        """
        if outcome.stops != "none" or outcome.kind == "unreachable":
            return False
        if outcome.again:
            return try_ == line.endpoint.limits.tries and not line.is_stopped(ask.arm.model_name)
        return outcome.kind == "answered" or ask.arm.model_name in line.worked

    def _count(self, outcome: Outcome) -> None:
        if outcome.kind == "answered":
            self.tally.answered += 1
        else:
            self.tally.failed += 1
            self.tally.kinds[outcome.kind] += 1


def _threads_for(plan: Plan) -> int:
    """How many threads prepare pictures.

    Decoding and shrinking run beside each other. What is sent as stored is mostly encoded, which holds
    the interpreter's lock: there a second thread only takes turns with the first, at a fifth more CPU.
    """
    redraws = any(not ask.arm.prep.keeps_pixels() for asks in plan.to_send.values() for ask in asks)
    return 2 if redraws else 1


def _first_of(failures: BaseExceptionGroup[BaseException]) -> BaseException:
    """The first failure that a person can do something about, else the first."""
    flat: list[BaseException] = []
    waiting: list[BaseException] = [failures]
    while waiting:
        one = waiting.pop(0)
        if isinstance(one, BaseExceptionGroup):
            waiting += one.exceptions
        else:
            flat.append(one)
    return next((one for one in flat if isinstance(one, DrovikError)), flat[0])
