"""Carries asks to their endpoints and their replies into the store.

Each endpoint has its own line of asks and its own slots, `concurrency` of them, so that a slow one holds
none up. An ask holds a slot only from just before its request leaves until its reply is committed: so
a kill can leave at most `concurrency` attempts without a reply. While it waits for another try it gives
the slot free. There are three carriers to a slot, so that some can wait while others send; pictures
are prepared in threads, a few ahead of the slots, so memory is bounded by `concurrency`, not by the cases.
Asks are claimed in the store before they are prepared, so that two programs do not ask the same.

What a service asks to wait after a 429 holds for the whole line: the others would only be told the
same. On an interrupt no new request leaves, and those under way are waited for, since they will be
paid; a second interrupt cancels them, and they stay in the store as attempts without a reply.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import sqlite3
import time
from collections import Counter
from collections.abc import Callable, Iterable
from contextlib import AsyncExitStack
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from drovik.cost.token_rates import estimate_tokens
from drovik.errors import DrovikError, Problem
from drovik.heavy import aiohttp
from drovik.planning.plan import Plan, Request
from drovik.project.picture_files import TooManyFiles
from drovik.project.reading import Project
from drovik.project.settings import is_loopback
from drovik.store.claims import Budget
from drovik.store.database import store_error
from drovik.store.store import Store
from drovik.transport.attempt import AttemptRunner, NotClaimed, OverBudget
from drovik.transport.http import RestingConnector
from drovik.transport.listener import Listener
from drovik.transport.local_service import local_service, warm
from drovik.transport.outcomes import Outcome, wait_before
from drovik.transport.preparer import PreparedRequest, Preparer
from drovik.transport.queue import Queue, Tally, lending, takes_addresses
from drovik.transport.session import EndpointSession
from drovik.transport.shared_limits import SharedLimits

CARRIERS_PER_SLOT = 3
LOOKS_AROUND_EVERY = 1.0
UNPAID_IN_ALL = 20
"""So many requests of a model for which no money was left, and the model is left."""
WITHOUT_FILES_SECONDS = 30.0


@dataclass(frozen=True)
class SendingOptions:
    """How a plan is sent.

    `budget` is the limit of money; `concurrency_bound` bounds what endpoints bear together, where this machine has a
    bound of its own; `shared` is the file by which programs of this machine share an endpoint's limits, None to keep
    them alone; `listener` hears answers as they come; `chance` is the randomness of the waits.
    """

    budget: Budget | None = None
    concurrency_bound: int | None = None
    shared: Path | None = None
    listener: Listener | None = None
    chance: random.Random = field(default_factory=random.Random)


class Dispatcher:
    """Sends one plan."""

    def __init__(self, project: Project, store: Store, plan: Plan, options: SendingOptions) -> None:
        self._project, self._store, self._plan, self._options = project, store, plan, options
        self._shared_asks = {identity: list(asks) for identity, asks in plan.shared.items()}
        self._lines: dict[str, EndpointSession] = {}
        self._queues: dict[str, Queue] = {}
        self._asked = {ask.identity for asks in plan.to_send.values() for ask in asks}
        self._interrupted = asyncio.Event()
        self._over = False
        self._unpaid: Counter[str] = Counter()
        self._without_files_since: float | None = None
        self._failure: DrovikError | None = None
        self._drop_idle: Callable[[], None] = lambda: None
        self.tally = Tally.of(plan.count(), options.budget)
        for ask in (ask for asks in plan.to_send.values() for ask in asks):
            for counts in self.tally.parts(ask.task.name, ask.arm.name, ask.arm.model_name)[1:]:
                counts.total += 1
        self._attempts = AttemptRunner(store, plan, self.tally, options.listener)
        self._preparer = Preparer(project, store, plan, self.tally)

    def interrupt(self) -> None:
        """Let no new request leave."""
        self.tally.interrupted = True
        self._interrupted.set()

    async def run(self) -> Tally:
        """Send all of the plan that can be sent.

        :raises DrovikError: where the store cannot be written.
        """

        self._store.set_room_aside()
        since = self._store.claims.register()
        try:
            async with AsyncExitStack() as around:
                around.callback(self._preparer.close)
                connector = RestingConnector()
                self._drop_idle = connector.drop_idle
                session = await around.enter_async_context(aiohttp.ClientSession(connector=connector))
                around.callback(connector.drop_resting)
                await self._open_lines(around, session, since)
                watch = asyncio.create_task(self._look_around())
                around.callback(watch.cancel)
                await self._carry_all(session)
        finally:
            with contextlib.suppress(DrovikError, sqlite3.Error):  # where the store is gone, that was said already
                self._store.claims.leave()
        failure = self._store.failure or self._failure
        if failure is not None:
            raise failure
        for line in self._lines.values():
            self.tally.stops += line.stopped.values()
        self.tally.left = self.tally.open - self.tally.elsewhere
        return self.tally

    async def _carry_all(self, session: aiohttp.ClientSession) -> None:
        try:
            async with asyncio.TaskGroup() as group:
                for name, line in self._lines.items():
                    for _ in range(line.endpoint.limits.concurrency * CARRIERS_PER_SLOT):
                        group.create_task(self._carry(session, line, self._queues[name]))
        except BaseExceptionGroup as failures:
            raise _first_of(failures) from None

    async def _look_around(self) -> None:
        """See from time to time who else uses the endpoints, and show others that this program lives."""
        while True:
            await asyncio.sleep(LOOKS_AROUND_EVERY)
            for line in self._lines.values():
                line.pace.look()
            self.tally.state = "; ".join(state for line in self._lines.values() if (state := line.state()))
            with contextlib.suppress(DrovikError, sqlite3.Error):  # said by what needs the store
                self._store.claims.beat()

    async def _open_lines(self, around: AsyncExitStack, session: aiohttp.ClientSession, since: int) -> None:
        """A line for each endpoint, with a service of this machine started where it is not up."""
        plan = self._plan
        for name, asks in plan.to_send.items():
            endpoint = self._project.settings.endpoints[name]
            lend = None
            if is_loopback(urlsplit(endpoint.url).hostname) and takes_addresses(self._project, endpoint):
                lend = await around.enter_async_context(lending())
            sharing = SharedLimits(self._options.shared, endpoint.url, endpoint.limits)
            around.callback(sharing.leave)
            line = EndpointSession(self._project, name, asks, self._store.handles, lend, sharing)
            if self._options.concurrency_bound is not None:
                line.pace.bound_to(self._options.concurrency_bound)
            self._lines[name] = line
            again = self._asked if plan.recheck else plan.again
            self._queues[name] = Queue(asks, self._store.claims, again, since, endpoint.limits.concurrency * 2)
            if endpoint.start is not None and asks:
                started = await around.enter_async_context(local_service(session, endpoint, name))
                if started:
                    await warm(session, line, asks[0])
        await asyncio.gather(*(line.pace.settle() for line in self._lines.values()))
        for problem in (one for line in self._lines.values() if (one := line.pace.alone())):
            self.tally.warn("pace", problem)

    async def _carry(self, session: aiohttp.ClientSession, line: EndpointSession, queue: Queue) -> None:
        while not self._is_over():
            try:
                found = await queue.next(lambda: self._is_over() or "" in line.stopped)
                if found is None:
                    return
                await self._follow(session, *found)
            except DrovikError as error:
                self._stop_for(error)
            except sqlite3.Error as error:
                self._stop_for(store_error(error))

    def _stop_for(self, error: DrovikError) -> None:
        """Let no new request leave. What is under way is waited for: it is kept, be it beside a broken store."""
        self._failure = self._failure or error
        self._over = True

    def _is_over(self) -> bool:
        return self._interrupted.is_set() or self._over

    async def _follow(self, session: aiohttp.ClientSession, ask: Request, done: bool) -> None:
        """Settle an ask, and then what its answer is needed for.

        :param done: whether another program has settled it meanwhile.
        """
        waiting = [(ask, done)]
        while waiting:
            one, is_done = waiting.pop(0)
            if is_done:
                self.tally.elsewhere += 1
                self._store.note_asked([one.asked("")])
            else:
                outcome = await self._settled(session, one)
                self._store.claims.give_back(one.identity)
                if outcome is None or outcome.kind != "answered":
                    continue
            for asked in (one, *self._shared_asks.get(one.identity, ())):
                for next_ in self._following(asked):
                    if next_.identity in self._asked:
                        self._shared_asks.setdefault(next_.identity, []).append(next_)
                        self._store.note_asked([next_.asked("")])
                        continue
                    self._add(next_)
                    claimed = self._queues[next_.arm.model.endpoint].claim(next_)
                    if claimed is not None:
                        waiting.append((next_, claimed))

    async def _settled(self, session: aiohttp.ClientSession, ask: Request) -> Outcome | None:
        """Settle an ask; whatever goes wrong with it that nobody thought of ends it, is named, and ends no other."""
        try:
            return await self._settle(session, self._lines[ask.arm.model.endpoint], ask)
        except (DrovikError, sqlite3.Error):
            raise
        except Exception as error:
            self._warn_of(ask, error)
            return None

    def _following(self, ask: Request) -> Iterable[Request]:
        """What the answer to an ask is needed for; nothing, where it is such that the next cannot be made of it."""
        try:
            return list(self._plan.follow(ask))
        except (DrovikError, sqlite3.Error):
            raise
        except Exception as error:
            self._warn_of(ask, error)
            return ()

    def _warn_of(self, ask: Request, error: Exception) -> None:
        what = f"{ask.case.id}, {ask.arm.name}: could not be handled: {type(error).__name__}: {str(error)[:200]}"
        what = self._lines[ask.arm.model.endpoint].secret.out_of(what)
        self.tally.warn(f"unhandled {type(error).__name__}", Problem(what, "it is left; please report this"))

    def _add(self, ask: Request) -> None:
        self._asked.add(ask.identity)
        self.tally.repair_turns += ask.mend is not None
        for counts in self.tally.parts(ask.task.name, ask.arm.name, ask.arm.model_name):
            counts.total += 1

    async def _settle(self, session: aiohttp.ClientSession, line: EndpointSession, ask: Request) -> Outcome | None:
        """Try one ask until it is answered, given up, or there is no point in asking; what came of the last try."""
        again = self._plan.recheck or ask.identity in self._plan.again
        round_ = self._store.rounds(ask.identity) + 1 if again else 1
        try_ = 1
        while True:
            outcome = await self._one_try(session, line, ask, round_, try_)
            if outcome is None or not outcome.again:
                return outcome
            self.tally.tried_again += 1
            if outcome.kind == "no_descriptors":
                self._drop_idle()
                self._see_for_how_long_without_files()
            else:
                self._without_files_since = None
            # While the whole endpoint fails it is not this ask's fault: the try does not count.
            if not line.circuit.is_open and outcome.kind != "no_descriptors":
                if try_ >= line.endpoint.limits.max_tries:
                    self.tally.tried_again -= 1
                    return outcome
                try_ += 1
            await self._pause(wait_before(try_ - 1 or 1, outcome.wait, self._options.chance))

    async def _one_try(
        self, session: aiohttp.ClientSession, line: EndpointSession, ask: Request, round_: int, try_: int
    ) -> Outcome | None:
        """Prepare and send once; None where nothing was sent."""
        async with line.ahead:
            if not self._may_go(line, ask):
                return None
            try:
                written = await self._preparer.written(line, ask, round_)
            except TooManyFiles:
                return Outcome("no_descriptors", again=True)
            if written is None:
                return None
            while self._may_go(line, ask):
                await self._pause(line.wait())
                async with line.pace.slots.one():
                    # What held the slot before may have been told to wait, or that there is no point.
                    if line.wait() > 0 or not self._may_go(line, ask) or not line.circuit.enter():
                        continue
                    if not await self._in_turn(line, ask, written):
                        continue
                    try:
                        return await self._attempts.make(session, line, self._together(ask), written, round_, try_)
                    except OverBudget:
                        line.circuit.leave()
                    except NotClaimed:
                        line.circuit.leave()
                        self.tally.elsewhere += 1
                        return None
                if not await self._money_may_come(ask):
                    return None
            return None

    def _together(self, ask: Request) -> tuple[Request, ...]:
        """An ask, and those that the same request answers."""
        return (ask, *self._shared_asks.get(ask.identity, ()))

    async def _in_turn(self, line: EndpointSession, ask: Request, written: PreparedRequest) -> bool:
        """Wait for a place in the endpoint's limits; False where nothing may leave any more."""
        tokens = estimate_tokens(written.load, ask.arm.model)
        used_up = line.pace.day_allows(tokens)
        if used_up is not None:
            line.stop_for_today(used_up)
        else:
            await self._pause(line.pace.take(tokens))
        if self._may_go(line, ask):
            return True
        line.circuit.leave()
        return False

    async def _money_may_come(self, ask: Request) -> bool:
        """Money is held for what is under way, here and in other programs: when one of those ends there may be some.

        False where nothing is: then this one is left, and others may still fit. After many of one model that did
        not, the model is left: to prepare a hundred thousand pictures only to see that no money is there for any
        would take as long as sending them.
        """
        if self._attempts.under_way == 0 and not self._store.claims.others_are_asking():
            self.tally.over = True
            self._unpaid[ask.arm.model_name] += 1
            models = {arm.arm.model_name for asks in self._plan.to_send.values() for arm in asks}
            self._over = self._over or all(self._unpaid[name] >= UNPAID_IN_ALL for name in models)
            return False
        self._attempts.ended.clear()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(1.0):
                await self._attempts.ended.wait()
        return True

    def _see_for_how_long_without_files(self) -> None:
        """Wait for files that others have open, but not for ever.

        :raises DrovikError: where none could be opened for a while.
        """
        now = time.monotonic()
        self._without_files_since = self._without_files_since or now
        if now - self._without_files_since > WITHOUT_FILES_SECONDS:
            what = f"no more files could be opened for {WITHOUT_FILES_SECONDS:.0f} seconds"
            raise DrovikError(Problem(what, "raise the limit (ulimit -n 4096), or close other programs"))

    def _may_go(self, line: EndpointSession, ask: Request) -> bool:
        model = ask.arm.model_name
        return not self._is_over() and not line.is_stopped(model) and self._unpaid[model] < UNPAID_IN_ALL

    async def _pause(self, seconds: float) -> None:
        """Wait, or less long where an interrupt comes."""
        if seconds > 0:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(seconds):
                    await self._interrupted.wait()


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
