"""Carries requests to their endpoints and their replies into the store.

Each endpoint has its own line of requests and its own slots, `concurrency` of them, so that a slow one holds
none up. A request holds a slot only from just before its request leaves until its reply is committed: so
a kill can leave at most `concurrency` attempts without a reply. While it waits for another try it gives
the slot free. There are three carriers to a slot, so that some can wait while others send; pictures
are prepared in threads, a few ahead of the slots, so memory is bounded by `concurrency`, not by the cases.
Requests are claimed in the store before they are prepared, so that two programs do not ask the same.

What a service asks to wait after a 429 holds for the whole endpoint: the others would only be told the
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
from drovik.planning.plan import Plan
from drovik.planning.requests import Request
from drovik.project.picture_files import TooManyFiles
from drovik.project.reading import Project
from drovik.project.settings import is_loopback
from drovik.store.answer_store import Store
from drovik.store.claims import Budget
from drovik.store.database import store_error
from drovik.store.user_uploads import UserUploads
from drovik.transport.attempt import AttemptRunner, NotClaimed, OverBudget
from drovik.transport.http import RestingConnector
from drovik.transport.local_service import local_service, warm
from drovik.transport.outcomes import Listener, Outcome, Trace, wait_before
from drovik.transport.preparer import PreparedRequest, Preparer, WriterElsewhere
from drovik.transport.queue import Queue, Tally, lending, takes_addresses
from drovik.transport.session import EndpointSession
from drovik.transport.shared_limits import SharedLimits

CARRIERS_PER_SLOT = 3
"""One under way, one being prepared, one waiting for its row: a slot is never idle."""
LOOKS_AROUND_EVERY = 1.0
"""Seconds between two looks at who else uses the endpoint: newcomers get their share soon."""
UNPAID_IN_ALL = 20
"""This many requests of a model for which no money was left, and the model is left."""
WITHOUT_FILES_SECONDS = 30.0
"""Seconds: other programs may close files; after that somebody has to act."""


@dataclass(frozen=True)
class SendingOptions:
    """How a plan is sent.

    `budget` is the limit of money; `concurrency_bound` bounds what endpoints bear together, where this machine has a
    bound of its own; `shared` is the file by which programs of this machine share an endpoint's limits, None to keep
    them alone; `listener` hears answers as they come; `trace` gets requests and replies as they go; `elsewhere`
    writes requests elsewhere; `uploads` keeps what services gave for pictures, where that is not the store; `chance`
    is the randomness of the waits.
    """

    budget: Budget | None = None
    concurrency_bound: int | None = None
    shared: Path | None = None
    listener: Listener | None = None
    trace: Trace | None = None
    elsewhere: WriterElsewhere | None = None
    uploads: UserUploads | None = None
    chance: random.Random = field(default_factory=random.Random)


class Dispatcher:
    """Sends one plan."""

    def __init__(self, project: Project, store: Store, plan: Plan, options: SendingOptions) -> None:
        self._project, self._store, self._plan, self._options = project, store, plan, options
        self._shared_asks = {identity: list(requests) for identity, requests in plan.shared.items()}
        self._services: dict[str, EndpointSession] = {}
        self._queues: dict[str, Queue] = {}
        self._asked = {request.identity for requests in plan.to_send.values() for request in requests}
        self._interrupted = asyncio.Event()
        self._over = False
        self._unpaid: Counter[str] = Counter()
        self._without_files_since: float | None = None
        self._failure: DrovikError | None = None
        self._drop_idle: Callable[[], None] = lambda: None
        self.tally = Tally.of(plan.count(), options.budget)
        for request in (request for requests in plan.to_send.values() for request in requests):
            for counts in self.tally.parts(request.task.name, request.arm.name, request.arm.model_name)[1:]:
                counts.total += 1
        self._attempts = AttemptRunner(store, plan, self.tally, options.listener)
        self._preparer = Preparer(project, store, plan, self.tally, options.elsewhere)

    def _tell(self, state: str) -> None:
        self.tally.state = state

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
        for service in self._services.values():
            self.tally.stops += service.stopped.values()
        self.tally.left = self.tally.open - self.tally.elsewhere
        return self.tally

    async def _carry_all(self, session: aiohttp.ClientSession) -> None:
        try:
            async with asyncio.TaskGroup() as group:
                for name, service in self._services.items():
                    for _ in range(service.endpoint.limits.concurrency * CARRIERS_PER_SLOT):
                        group.create_task(self._carry(session, service, self._queues[name]))
        except BaseExceptionGroup as failures:
            raise _first_of(failures) from None

    async def _look_around(self) -> None:
        """See from time to time who else uses the endpoints, and show others that this program lives."""
        while True:
            await asyncio.sleep(LOOKS_AROUND_EVERY)
            for service in self._services.values():
                service.rates.look()
            self.tally.state = "; ".join(state for service in self._services.values() if (state := service.state()))
            with contextlib.suppress(DrovikError, sqlite3.Error):  # said by what needs the store
                self._store.claims.beat()

    async def _open_lines(self, around: AsyncExitStack, session: aiohttp.ClientSession, since: int) -> None:
        """A line for each endpoint, with a service of this machine started where it is not up."""
        plan = self._plan
        for name, requests in plan.to_send.items():
            endpoint = self._project.settings.endpoints[name]
            lend = None
            if is_loopback(urlsplit(endpoint.url).hostname) and takes_addresses(self._project, endpoint):
                lend = await around.enter_async_context(lending())
            shared = SharedLimits(self._options.shared, endpoint.url, endpoint.limits)
            around.callback(shared.leave)
            handles = self._options.uploads or self._store.handles
            service = EndpointSession(self._project, name, requests, handles, lend, shared)
            if self._options.concurrency_bound is not None:
                service.rates.bound_to(self._options.concurrency_bound)
            service.trace = self._options.trace
            self._services[name] = service
            again = self._asked if plan.recheck else plan.again
            self._queues[name] = Queue(requests, self._store.claims, again, since, endpoint.limits.concurrency * 2)
            if endpoint.start is not None and requests:
                started = await around.enter_async_context(local_service(session, endpoint, name, self._tell))
                if started:
                    await warm(session, service, requests[0])
        await asyncio.gather(*(service.rates.settle() for service in self._services.values()))
        for problem in (one for service in self._services.values() if (one := service.rates.alone())):
            self.tally.warn("pace", problem)

    async def _carry(self, session: aiohttp.ClientSession, service: EndpointSession, queue: Queue) -> None:
        while not self._is_over():
            try:
                found = await queue.next(lambda: self._is_over() or "" in service.stopped)
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

    async def _follow(self, session: aiohttp.ClientSession, request: Request, done: bool) -> None:
        """Settle a request, and then what its answer is needed for.

        :param done: whether another program has settled it meanwhile.
        """
        waiting = [(request, done)]
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

    async def _settled(self, session: aiohttp.ClientSession, request: Request) -> Outcome | None:
        """Settle a request; an error that nobody thought of ends it, is named, and ends no other."""
        try:
            return await self._settle(session, self._services[request.arm.model.endpoint], request)
        except (DrovikError, sqlite3.Error):
            raise
        except Exception as error:
            self._warn_of(request, error)
            return None

    def _following(self, request: Request) -> Iterable[Request]:
        """What the answer to a request is needed for; nothing if the next request cannot be made of it."""
        try:
            return list(self._plan.follow(request))
        except (DrovikError, sqlite3.Error):
            raise
        except Exception as error:
            self._warn_of(request, error)
            return ()

    def _warn_of(self, request: Request, error: Exception) -> None:
        what = (
            f"{request.case.id}, {request.arm.name}: could not be handled: {type(error).__name__}: {str(error)[:200]}"
        )
        what = self._services[request.arm.model.endpoint].secret.out_of(what)
        self.tally.warn(f"unhandled {type(error).__name__}", Problem(what, "it is left; please report this"))

    def _add(self, request: Request) -> None:
        self._asked.add(request.identity)
        self.tally.repair_turns += request.repair is not None
        for counts in self.tally.parts(request.task.name, request.arm.name, request.arm.model_name):
            counts.total += 1

    async def _settle(
        self, session: aiohttp.ClientSession, service: EndpointSession, request: Request
    ) -> Outcome | None:
        """Try a request until it is answered, given up, or pointless; returns the outcome of the last try."""
        again = self._plan.recheck or request.identity in self._plan.again
        round_ = self._store.rounds(request.identity) + 1 if again else 1
        try_ = 1
        while True:
            outcome = await self._one_try(session, service, request, round_, try_)
            if outcome is None or not outcome.again:
                return outcome
            self.tally.tried_again += 1
            if outcome.kind == "no_descriptors":
                self._drop_idle()
                self._see_for_how_long_without_files()
            else:
                self._without_files_since = None
            # While the whole endpoint fails it is not this request's fault: the try does not count.
            if not service.breaker.is_open and outcome.kind != "no_descriptors":
                if try_ >= service.endpoint.limits.max_tries:
                    self.tally.tried_again -= 1
                    return outcome
                try_ += 1
            await self._pause(wait_before(try_ - 1 or 1, outcome.wait, self._options.chance))

    async def _one_try(
        self, session: aiohttp.ClientSession, service: EndpointSession, request: Request, round_: int, try_: int
    ) -> Outcome | None:
        """Prepare and send once; None where nothing was sent."""
        async with service.ahead:
            if not self._may_go(service, request):
                return None
            try:
                written = await self._preparer.written(service, request, round_)
            except TooManyFiles:
                return Outcome("no_descriptors", again=True)
            if written is None:
                return None
            while self._may_go(service, request):
                await self._pause(service.wait())
                async with service.rates.slots.one():
                    # What held the slot before may have been told to wait, or that there is no point.
                    if service.wait() > 0 or not self._may_go(service, request) or not service.breaker.enter():
                        continue
                    if not await self._in_turn(service, request, written):
                        continue
                    try:
                        return await self._attempts.make(
                            session, service, self._together(request), written, round_, try_
                        )
                    except OverBudget:
                        service.breaker.leave()
                    except NotClaimed:
                        service.breaker.leave()
                        self.tally.elsewhere += 1
                        return None
                if not await self._money_may_come(request):
                    return None
            return None

    def _together(self, request: Request) -> tuple[Request, ...]:
        """A request, and those that the same request answers."""
        return (request, *self._shared_asks.get(request.identity, ()))

    async def _in_turn(self, service: EndpointSession, request: Request, written: PreparedRequest) -> bool:
        """Wait for a place in the endpoint's limits; False where nothing may leave any more."""
        tokens = estimate_tokens(written.load, request.arm.model)
        used_up = service.rates.day_allows(tokens)
        if used_up is not None:
            service.stop_for_today(used_up)
        else:
            await self._pause(service.rates.take(tokens))
        if self._may_go(service, request):
            return True
        service.breaker.leave()
        return False

    async def _money_may_come(self, request: Request) -> bool:
        """Money is held for what is under way, here and in other programs: when one of those ends there may be some.

        False where nothing is: then this one is left, and others may still fit. After many of one model that did
        not, the model is left: to prepare a hundred thousand pictures only to see that no money is there for any
        would take as long as sending them.
        """
        if self._attempts.under_way == 0 and not self._store.claims.others_are_asking():
            self.tally.over = True
            self._unpaid[request.arm.model_name] += 1
            models = {arm.arm.model_name for requests in self._plan.to_send.values() for arm in requests}
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

    def _may_go(self, service: EndpointSession, request: Request) -> bool:
        model = request.arm.model_name
        return not self._is_over() and not service.is_stopped(model) and self._unpaid[model] < UNPAID_IN_ALL

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
