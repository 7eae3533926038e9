"""How long sending takes by an endpoint's limits and the seconds of a request, and what is free in that time."""

from __future__ import annotations

import math
from collections.abc import Sequence
from decimal import Decimal

from drovik.cost.estimate import ArmQuote
from drovik.cost.token_rates import Bounds
from drovik.project.settings import Limits

_DAY = 86400.0


def seconds_for(requests: Bounds, tokens: Bounds, limits: Limits, each: Bounds) -> Bounds:
    """How long so many requests take: the slowest of what the slots and each limit allow.

    :param tokens: in and out, together.
    :param each: the seconds of one request.
    """

    def of(count: float, size: float, one: float) -> float:
        spans = [count * one / limits.concurrency, one if count else 0.0]
        if limits.per_minute:
            spans.append(max(0.0, count / limits.per_minute * 60))
        if limits.tokens_per_minute:
            spans.append(size / limits.tokens_per_minute * 60)
        for limit, amount in ((limits.per_day, count), (limits.tokens_per_day, size)):
            if limit:
                # What fits into the first day is sent at once; each day more is a day.
                spans.append(max(0, math.ceil(amount / limit) - 1) * _DAY)
        return max(spans)

    return Bounds(*(of(*one) for one in zip(requests, tokens, each, strict=True)))


def days_of(seconds: float) -> int:
    """On how many days something is sent that takes so long; one at the least."""
    return max(1, math.ceil(seconds / _DAY))


def after_free(quotes: Sequence[ArmQuote], days: int) -> dict[tuple[str, str], Bounds]:
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
    """For how many cases an arm costs as much as another way of doing it; low and high are of the dear and the cheap.

    :param money: what so many `cases` cost.
    """
    if money.expected <= 0:
        return None
    per_case = money.times(1 / cases)
    low, high = (float(instead) / one if one > 0 else math.inf for one in (per_case.high, per_case.low))
    return Bounds(low, float(instead) / per_case.expected, high)
