"""One attempt, from before it leaves until what came of it is committed and counted."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from drovik.cost.request_size import guessed_tokens, most_it_may_cost
from drovik.dialects.response import Unpacked
from drovik.errors import Problem
from drovik.planning.plan import Ask, Plan
from drovik.store.records import Reply
from drovik.store.store import Store
from drovik.transport.exchange import exchange
from drovik.transport.listener import Ending, Listener
from drovik.transport.outcomes import Outcome
from drovik.transport.request_writing import Written
from drovik.transport.secret import Passing
from drovik.transport.session import Line
from drovik.transport.tally import Tally

if TYPE_CHECKING:
    import aiohttp

RECHECKED = 2
"""How an attempt is concluded that asks again without taking the place of the answer."""


class OverBudget(Exception):
    """The limit of money does not allow one more request now."""


class NotClaimed(Exception):
    """What was to be asked was freed for others while this program was stopped."""


class Attempts:
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
        line: Line,
        asks: Sequence[Ask],
        written: Written,
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
        bound = most_it_may_cost(written.load, ask.arm.model)
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
            self._listener.ended(ask, Ending(outcome, unpacked, reply, seconds))
        return outcome

    def _learn(self, line: Line, ask: Ask, outcome: Outcome, unpacked: Unpacked | None, try_: int) -> None:
        try:
            line.learn(ask, outcome, unpacked, last_try=try_ == line.endpoint.limits.max_tries)
        except Exception as error:  # what a service says of itself must not lose what it was paid for
            what = f"{line.name}: what it says of its limits could not be handled: {type(error).__name__}"
            self._tally.warn("learn", Problem(what, "please report it"))

    def _taken_in(self, line: Line, ask: Ask, written: Written, reply: Reply | None) -> Reply | None:
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
        line.pace.correct(guessed_tokens(written.load, ask.arm.model), tokens)
        return reply

    def _hears(self, line: Line, ask: Ask) -> Passing | None:
        """What takes in an answer's text as it comes; the key, should it be echoed, does not pass."""
        if self._listener is None:
            return None
        listener = self._listener
        return line.secret.passing(lambda text: listener.text(ask, text))

    async def _conclude_refused(self, line: Line, ask: Ask, attempt: int, is_open: bool) -> None:
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

    def _concludes(self, line: Line, ask: Ask, outcome: Outcome, try_: int) -> bool:
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
