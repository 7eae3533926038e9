"""The requests that wait for one endpoint, claimed a few at a time, so that no other program asks the same.

What is counted while sending: progress for the eye, and the summary at the end.

Pictures lent to a service on this machine that wants addresses: each at one that nobody can guess.
"""

from __future__ import annotations

import asyncio
import secrets
from collections import Counter, deque
from collections.abc import AsyncIterator, Callable, Collection, Iterable
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from decimal import Decimal
from itertools import islice
from typing import TYPE_CHECKING, Any

from drovik.dialects.request_template import RequestTemplate
from drovik.errors import Problem
from drovik.images.prepare import Prepared
from drovik.money import add_money
from drovik.planning.requests import Request
from drovik.project.settings import Endpoint
from drovik.project.spending import Spending
from drovik.store.claims import Budget, Claims

if TYPE_CHECKING:
    from aiohttp import web

    from drovik.project.reading import Project


MOST_LENT = 256
"""This many pictures are kept at hand; the oldest goes first."""


def takes_addresses(project: Project, endpoint: Endpoint) -> bool:
    """Whether an endpoint's dialect gives pictures as addresses."""
    dialect = project.dialects[endpoint.dialect]
    slots = {slot for _, form in dialect.forms() for slot in RequestTemplate(form).slots}
    return bool({"part.address", "image.address"} & slots)


@asynccontextmanager
async def lending() -> AsyncIterator[Callable[[Prepared], str]]:
    """Serves pictures on 127.0.0.1 while it is open; what it yields makes a picture's address."""
    from aiohttp import web

    lent: dict[str, Prepared] = {}

    async def give(request: web.Request) -> web.Response:
        picture = lent.get(request.match_info["name"])
        if picture is None:
            raise web.HTTPNotFound
        return web.Response(body=picture.data, content_type=picture.media_type)

    app = web.Application()
    app.router.add_get("/{name}", give)
    runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.2)
    await runner.setup()
    try:
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        server: Any = site._server
        port = int(server.sockets[0].getsockname()[1])

        def lend(picture: Prepared) -> str:
            name = secrets.token_urlsafe(24)
            lent[name] = picture
            while len(lent) > MOST_LENT:
                lent.pop(next(iter(lent)))
            return f"http://127.0.0.1:{port}/{name}"

        yield lend
    finally:
        await runner.cleanup()


LOOKS_EVERY = 0.5
"""Seconds after which it is looked again whether others are done with what they claimed."""


class Queue:
    """One endpoint's requests, in order. What others hold is waited for at the end.

    :param again: what is asked again on purpose; it is done only by an attempt after `since`.
    """

    def __init__(
        self, requests: Iterable[Request], claims: Claims, again: Collection[str], since: int, at_a_time: int
    ) -> None:
        self._asks, self._claims = iter(requests), claims
        self._again, self._since, self._at_a_time = again, since, at_a_time
        self._ready: deque[tuple[Request, bool]] = deque()
        self._elsewhere: list[Request] = []
        self._lock = asyncio.Lock()

    @property
    def elsewhere(self) -> int:
        """How many are held by others."""
        return len(self._elsewhere)

    async def next(self, is_over: Callable[[], bool]) -> tuple[Request, bool] | None:
        """The next request, and whether it has its answer meanwhile; None at the end.

        :param is_over: whether to stop waiting for what others hold.
        """
        async with self._lock:
            while not self._ready and not is_over():
                some = list(islice(self._asks, self._at_a_time))
                if not some and not self._elsewhere:
                    return None
                if not some:
                    await asyncio.sleep(LOOKS_EVERY)
                    self._claims.beat()
                    some, self._elsewhere = self._elsewhere, []
                self._sort(some)
            return self._ready.popleft() if self._ready else None

    def claim(self, request: Request) -> bool | None:
        """Claim one request that was not in the queue: whether it is done already; None where another has it."""
        found = self._claims.claim([request.identity], self._again, self._since)[request.identity]
        if found == "taken":
            self._elsewhere.append(request)
            return None
        return found == "done"

    def _sort(self, some: list[Request]) -> None:
        found = self._claims.claim([request.identity for request in some], self._again, self._since)
        for request in some:
            if found[request.identity] == "taken":
                self._elsewhere.append(request)
            else:
                self._ready.append((request, found[request.identity] == "done"))


@dataclass
class Counts:
    """What came of a number of requests. `first_time` counts those answered by their first try."""

    total: int = 0
    answered: int = 0
    failed: int = 0
    first_time: int = 0
    attempts: int = 0
    kinds: Counter[str] = field(default_factory=Counter)
    """Of the requests that failed."""
    troubles: Counter[str] = field(default_factory=Counter)
    """Of all attempts that did not bring an answer, whether a later one did or not."""
    money: dict[str, Decimal] = field(default_factory=dict)

    @property
    def open(self) -> int:
        """How many have neither an answer nor failed."""
        return self.total - self.answered - self.failed

    def pay(self, spent: Spending | None) -> None:
        """Add what a reply cost."""
        if spent is not None:
            add_money(self.money, spent.currency, spent.amount)

    def end(self, kind: str, first_try: bool) -> None:
        """Count a request that came to its end."""
        if kind == "answered":
            self.answered += 1
            self.first_time += first_try
        else:
            self.failed += 1
            self.kinds[kind] += 1


@dataclass
class Tally(Counts):
    """The counts of one run. `total` is how many requests it set out to make; `arms` and `models` are its parts.

    `elsewhere` is how many of them another program asked meanwhile.
    """

    left: int = 0
    elsewhere: int = 0
    without_reply: int = 0
    tried_again: int = 0
    repair_turns: int = 0
    input_tokens: int = 0
    output_tokens: int = 0
    stops: list[Problem] = field(default_factory=list)
    warnings: dict[str, Problem] = field(default_factory=dict)
    interrupted: bool = False
    arms: dict[tuple[str, str], Counts] = field(default_factory=dict)
    models: dict[str, Counts] = field(default_factory=dict)
    quiet_until: float = 0.0
    """Until when, by the monotonic clock, some service asked not to be asked."""
    state: str = ""
    """What it waits for, if it waits."""
    budget: Budget | None = None
    """The limit of money, if there is one."""
    paid_before: dict[str, Decimal] = field(default_factory=dict)
    """What this store had cost before, if there is a limit."""
    over: bool = False
    """Whether the limit kept something from being sent."""

    @classmethod
    def of(cls, total: int, budget: Budget | None) -> Tally:
        """The counts of a run that begins now."""
        return cls(total, budget=budget, paid_before=budget.paid() if budget else {})

    @property
    def most(self) -> dict[str, Decimal]:
        """The limits of money, by currency; none if there is no budget."""
        return self.budget.most if self.budget else {}

    def parts(self, task: str, arm: str, model: str) -> tuple[Counts, Counts, Counts]:
        """The counts that a request belongs to: the run's, its arm's, its model's."""
        return self, self.arms.setdefault((task, arm), Counts()), self.models.setdefault(model, Counts())

    def warn(self, about: str, problem: Problem) -> None:
        """Keep a warning once for each thing it is about."""
        self.warnings.setdefault(about, problem)
