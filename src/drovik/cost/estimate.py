"""What sending would cost, before anything is sent: requests, tokens, money and time, each with bounds.

What is not known is guessed with wide bounds, and learned as soon as the service has reported anything: how
many tokens a letter is, what is put around a request, how long answers are, how long they take.

How long sending takes by an endpoint's limits and the seconds of a request, and what is free in that time.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from drovik.cost.token_rates import Bounds, Rates, RequestSize, size_of_request
from drovik.images.layout import layout_of
from drovik.planning.plan import Thread
from drovik.planning.rendering import conversation_of
from drovik.planning.requests import Request
from drovik.planning.sources import Sources, is_remote
from drovik.project.arms import Arm
from drovik.project.cases import Case, prep_for
from drovik.project.models import Price
from drovik.project.settings import Limits
from drovik.project.spending import Spending
from drovik.project.tasks import Task

_DAY = 86400.0
"""Seconds."""


def seconds_for(requests: Bounds, tokens: Bounds, limits: Limits, each: Bounds) -> Bounds:
    """How long this many requests take: the slowest of what the slots and each limit allow.

    :param tokens: in and out, together.
    :param each: the seconds of one request.
    """

    def of(count: float, size: float, one: float) -> float:
        spans = [count * one / limits.concurrency, one if count else 0.0]
        amounts = {"requests": count, "tokens": size}
        for limit in limits.known():
            often = amounts[limit.counts] / limit.most
            # What fits into the first day is sent at once; each day more is a day.
            spans.append((often if limit.is_paced else max(0, math.ceil(often) - 1)) * limit.seconds)
        return max(spans)

    return Bounds(*(of(*one) for one in zip(requests, tokens, each, strict=True)))


def days_of(seconds: float) -> int:
    """On how many days something is sent that takes so long; one at the least."""
    return max(1, math.ceil(seconds / _DAY))


def less_allowances(quotes: Sequence[ArmQuote], days: int) -> dict[tuple[str, str], Bounds]:
    """What arms cost once what their models give for free is taken off, by task and arm; as if none of it was used.

    A model's arms share its allowance, in the order of the arms.

    :param days: on how many days it is sent.
    """
    left: dict[str, float] = {}
    found = {}
    for quote in quotes:
        money, price = quote.money(), quote.price
        if money is None or price is None:
            continue
        if price.free is None:
            found[quote.task, quote.arm.name] = money
            continue
        free = price.free
        times = {"day": days, "month": math.ceil(days / 30), "once": 1}[free.within]
        name = quote.arm.model_name
        whole = float(next(one for one in (free.requests, free.tokens, free.money) if one is not None)) * times
        budget = left.setdefault(name, whole)
        used = {
            "requests": quote.requests,
            "tokens": quote.input_tokens + quote.output_tokens,
            "money": money,
        }["requests" if free.requests is not None else "tokens" if free.tokens is not None else "money"]
        shares = [min(1.0, budget / amount) if amount else 1.0 for amount in used]
        left[name] = max(0.0, budget - used.expected)
        found[quote.task, quote.arm.name] = money * [1 - one for one in shares]
    return found


def break_even(instead: Decimal, money: Bounds, cases: float) -> Bounds | None:
    """For how many cases an arm costs as much as another way of doing it; low and high are bounds.

    :param money: what this many `cases` cost.
    """
    if money.expected <= 0:
        return None
    per_case = money.times(1 / cases)
    low, high = (float(instead) / one if one > 0 else math.inf for one in (per_case.high, per_case.low))
    return Bounds(low, float(instead) / per_case.expected, high)


@dataclass
class ArmQuote:
    """What one arm would send. `unknown` says what of it cannot be told, and why."""

    task: str
    arm: Arm
    requests: Bounds = field(default_factory=Bounds)
    input_tokens: Bounds = field(default_factory=Bounds)
    output_tokens: Bounds = field(default_factory=Bounds)
    pictures: Bounds = field(default_factory=Bounds)
    counter_money: Bounds = field(default_factory=Bounds)
    """What tokens with a price of their own add to the money; below 0 where they are cheaper."""
    unknown: dict[str, str] = field(default_factory=dict)

    @property
    def price(self) -> Price | None:
        """The model's."""
        return self.arm.model.price

    def money(self) -> Bounds | None:
        """In the price's currency; None if there is no price. Without an output limit there is no upper bound."""
        price = self.price
        if price is None:
            return None

        def of(which: str) -> Decimal:
            spent = Spending.of(
                price,
                round(getattr(self.input_tokens, which)),
                round(getattr(self.output_tokens, which)),
                pictures=round(getattr(self.pictures, which)),
                requests=round(getattr(self.requests, which)),
            )
            return spent.amount if spent else Decimal(0)

        plain = Bounds(float(of("low")), float(of("expected")), float(of("high")))
        return Bounds(*(max(0.0, one) for one in plain + self.counter_money))

    def times(self, share: float) -> ArmQuote:
        """The same for this many times as much."""
        return ArmQuote(
            task=self.task,
            arm=self.arm,
            requests=self.requests.times(share),
            input_tokens=self.input_tokens.times(share),
            output_tokens=self.output_tokens.times(share),
            pictures=self.pictures.times(share),
            counter_money=self.counter_money.times(share),
            unknown=self.unknown,
        )


class Estimator:
    """Makes quotes. Nothing is sent, and of pictures only their sizes are looked at, once.

    :param rates: what is known of models and arms, or guessed.
    """

    def __init__(self, sources: Sources, rates: Rates) -> None:
        self._sources, self._rates = sources, rates
        self._sizes: dict[tuple[str, str], tuple[tuple[int, int], ...]] = {}
        self._coming: dict[tuple[str, str], float] = {}

    def quotes(
        self, threads: Mapping[str, Sequence[Thread]], to_send: Iterable[Request], every: bool, share: float = 1.0
    ) -> list[ArmQuote]:
        """The quote of each arm that has something to send, in the order of the plan.

        :param threads: by task; their later turns and what waits for a task before is counted within bounds.
        :param every: whether to count what has its answer too.
        :param share: how many times as much is to be sent: the more, the surer is what a request comes to.
        """
        found: dict[tuple[str, str], ArmQuote] = {}
        whole = [request for own in threads.values() for one in own for request in one.requests] if every else to_send
        requests = {request.identity: request for request in whole}.values()
        counts = Counter((request.task.name, request.arm.name) for request in requests)
        self._coming = {key: count * share for key, count in counts.items()}
        for request in requests:
            self._add(self._of(found, request.task, request.arm), request)
        for own in threads.values():
            for thread in own:
                self._add_what_follows(found, thread)
        return [one.times(share) for one in found.values() if one.requests.high > 0]

    def _of(self, found: dict[tuple[str, str], ArmQuote], task: Task, arm: Arm) -> ArmQuote:
        return found.setdefault((task.name, arm.name), ArmQuote(task.name, arm))

    def _add(self, quote: ArmQuote, request: Request) -> None:
        load = size_of_request(
            request.conversation(), request.task.told_schema(), self._pictures(request.arm, request.case)
        )
        self._count(quote, request.task, load, Bounds(1, 1, 1))
        if request.task.repair_turn and request.repair is None:
            share = self._rates.repair_turns(request.task, request.arm, self._many(quote))
            self._count(quote, request.task, load, share)

    def _add_what_follows(self, found: dict[tuple[str, str], ArmQuote], thread: Thread) -> None:
        """The turns that are not known yet, and requests that wait for a task before."""
        turns = len(thread.arm.prompt.turns) + 1
        if thread.state in ("stuck", "not_asked") or (thread.requests and len(thread.requests) >= turns):
            return
        task = thread.requests[0].task if thread.requests else self._rates.task(thread.arm.task)
        quote = self._of(found, task, thread.arm)
        asked = len(thread.requests)
        for turn in range(asked + 1, turns + 1):
            said = ["…" * 40] * (turn - 1)
            earlier = {task.after.task: _Unknown()} if task.after else {}
            shown = {"times": [0.0], "step": 1.0, "pages": [1], "parts": 1}
            conversation = conversation_of(task, thread.arm, thread.case, said, earlier, shown)
            load = size_of_request(conversation, task.told_schema(), self._pictures(thread.arm, thread.case))
            # Whether a chained task is asked at all depends on answers.
            sure = Bounds(1, 1, 1) if asked or not task.where else Bounds(0, 0.5, 1)
            self._count(quote, task, load, sure)

    def _count(self, quote: ArmQuote, task: Task, load: RequestSize, how_often: Bounds) -> None:
        arm = quote.arm
        coming = self._many(quote)
        tokens, why = self._rates.input_tokens(arm.model_name, arm.model, load, coming)
        out, why_out = self._rates.output_tokens(task, arm, coming)
        quote.requests += how_often
        quote.input_tokens += tokens * how_often
        quote.output_tokens += out * how_often
        quote.pictures += how_often.times(len(load.pictures))
        quote.counter_money += self._rates.counter_money(task, arm, coming).times(how_often.expected)
        quote.unknown |= {name: text for name, text in (("input", why), ("output", why_out)) if text}

    def _many(self, quote: ArmQuote) -> float:
        """How many requests of an arm are to be sent, as far as they are known."""
        return self._coming.get((quote.task, quote.arm.name), 1.0)

    def _pictures(self, arm: Arm, case: Case) -> dict[int, tuple[tuple[int, int], ...]]:
        """The sizes of what each picture of a case is sent as."""
        if not arm.model.takes_pictures:
            return {}
        return {number: self._sizes_of(arm, case, number) for number in range(len(case.pictures))}

    def _sizes_of(self, arm: Arm, case: Case, number: int) -> tuple[tuple[int, int], ...]:
        picture = case.pictures[number]
        if is_remote(picture):
            return ((0, 0),)
        prep = prep_for(arm.prep, case, number)
        key = (f"{picture.path}\0{picture.page}", repr(prep))
        if key not in self._sizes:
            facts = self._sources.facts(picture, prep)
            layouts = [layout_of(size, facts.orientation, prep) for size in facts.sizes]
            self._sizes[key] = tuple((part.width, part.height) for one in layouts for part in one.parts)
        return self._sizes[key]


class _Unknown(dict[str, Any]):
    """Stands for answers that are not there yet."""

    def __missing__(self, name: str) -> Any:
        return _Unknown()

    def __str__(self) -> str:
        return "…" * 40
