"""What sending would cost, and what earlier estimates said beside the bill."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal
from types import MappingProxyType
from typing import Any

from drovik.cost.estimate import ArmQuote, Estimator, break_even, days_of, less_allowances, seconds_for
from drovik.cost.token_rates import Bounds, Rates
from drovik.project.reading import Project
from drovik.store.answer_store import Store
from drovik.store.database import transaction
from drovik.store.sums import KeptQuote, billed, keep_quotes, kept_quotes
from drovik.workflow.sending_plan import Planned


@dataclass(frozen=True)
class SendingEstimate:
    """What sending a plan would cost: tokens and requests by arm, money by task and arm, seconds by endpoint.

    `cases` is how many cases it is for.
    """

    arms: tuple[ArmQuote, ...]
    money: Mapping[tuple[str, str], Bounds]
    seconds: Mapping[str, Bounds]
    cases: int

    def total(self) -> dict[str, Bounds]:
        """Money by currency."""
        found: dict[str, Bounds] = {}
        for one in self.arms:
            money = self.money.get((one.task, one.arm.name))
            if money is not None and one.price:
                found[one.price.currency] = found.get(one.price.currency, Bounds()) + money
        return found

    def break_even(self, one: ArmQuote, instead: Mapping[str, Decimal]) -> Bounds | None:
        """From how many cases on another way of doing it, for a fixed sum, is cheaper than an arm.

        :param instead: the sum, by currency.
        """
        money = self.money.get((one.task, one.arm.name))
        sum_ = instead.get(one.price.currency) if one.price else None
        return None if money is None or sum_ is None else break_even(sum_, money, self.cases)

    def document(self, instead: Mapping[str, Decimal] = MappingProxyType({})) -> dict[str, Any]:
        """The same as plain values."""
        arms = [
            {
                "task": one.task, "arm": one.arm.name, "requests": _bounds(one.requests),
                "input_tokens": _bounds(one.input_tokens), "output_tokens": _bounds(one.output_tokens),
                "currency": one.price.currency if one.price else None,
                "money": _bounds(self.money.get((one.task, one.arm.name))),
                "break_even_cases": _bounds(self.break_even(one, instead)), "guessed": list(one.unknown.values()),
            }
            for one in self.arms
        ]  # fmt: skip
        return {
            "cases": self.cases,
            "arms": arms,
            "money": {currency: _bounds(money) for currency, money in self.total().items()},
            "seconds": {name: _bounds(seconds) for name, seconds in self.seconds.items()},
        }


@dataclass(frozen=True)
class BroughtCost:
    """What an arm that was brought in cost, in one currency, and what as many cases as are quoted would cost."""

    task: str
    arm: str
    answers: int
    currency: str
    money: Decimal
    cases: int
    expected: Decimal


def brought_costs(project: Project, tasks: Iterable[str], cases: int | None) -> list[BroughtCost]:
    """What the arms that were brought into tasks cost, where their files say it.

    :param cases: for N cases like those that they answered; None for those themselves.
    """
    found = []
    for task in tasks:
        for arm in project.outside.get(task, ()):
            spent = [one.spent for one in arm.answers.values() if one.spent is not None]
            for currency in sorted({one.currency for one in spent}):
                own = [one.amount for one in spent if one.currency == currency]
                many = len(own) if cases is None else cases
                money = sum(own, Decimal(0))
                found.append(BroughtCost(task, arm.name, len(own), currency, money, many, money / len(own) * many))
    return found


def estimate_sending(project: Project, store: Store, planned: Planned, cases: int | None = None) -> SendingEstimate:
    """What sending a plan would cost; nothing is sent.

    :param cases: for N cases like those of the plan; None for what there is to send.
    """
    rates = Rates(project, store)
    to_send = [request for requests in planned.plan.to_send.values() for request in requests]
    known = len({one.case.id for own in planned.threads.values() for one in own})
    share = 1.0 if cases is None or not known else cases / known
    quotes = Estimator(planned.sources, rates).quotes(planned.threads, to_send, cases is not None, share)
    seconds = _seconds(project, rates, quotes)
    days = max((days_of(one.expected) for one in seconds.values()), default=1)
    return SendingEstimate(tuple(quotes), less_allowances(quotes, days), seconds, known if cases is None else cases)


def _seconds(project: Project, rates: Rates, quotes: Sequence[ArmQuote]) -> dict[str, Bounds]:
    """How long it takes, by endpoint."""
    found = {}
    for name in dict.fromkeys(one.arm.model.endpoint for one in quotes):
        own = [one for one in quotes if one.arm.model.endpoint == name]
        requests, tokens = Bounds(), Bounds()
        for one in own:
            requests, tokens = requests + one.requests, tokens + (one.input_tokens + one.output_tokens)
        limits = project.settings.endpoints[name].limits
        found[name] = seconds_for(requests, tokens, limits, rates.seconds(name))
    return found


def _bounds(one: Bounds | None) -> dict[str, float] | None:
    return None if one is None else {"low": one.low, "expected": one.expected, "high": one.high}


def keep_estimate(store: Store, quotes: Sequence[ArmQuote]) -> None:
    """Keep an estimate, to be held against the bill."""
    now = datetime.now(UTC).isoformat(timespec="seconds")
    rows = []
    for one in quotes:
        money = one.money()
        quoted: dict[str, Any] = {"input": one.input_tokens.expected, "output": one.output_tokens.expected}
        if money is not None and one.price is not None:
            quoted |= {"currency": one.price.currency, "money": list(money)}
        rows.append(
            KeptQuote(
                at=now,
                attempt=0,
                task=one.task,
                arm=one.arm.digest,
                name=one.arm.name,
                requests=round(one.requests.expected),
                quoted=quoted,
            )
        )
    if rows:
        with transaction(store.connection):
            keep_quotes(store.connection, now, rows)


def estimates_and_bills(store: Store, arms: set[tuple[str, str]] | None = None) -> list[dict[str, Any]]:
    """The latest quotes, scaled to the requests sent since, beside what was billed, arm by arm.

    :param arms: only these, by task and digest.
    """
    found = []
    for one in kept_quotes(store.connection):
        if arms is not None and (one.task, one.arm) not in arms:
            continue
        bill = billed(store.connection, one.task, one.arm, one.attempt)
        if bill.requests and one.requests:
            found.append(_beside(one, bill.requests, bill.money, bill.input_tokens + bill.output_tokens))
    return found


def _beside(one: KeptQuote, requests: int, money: Mapping[str, Decimal], tokens: int) -> dict[str, Any]:
    share = requests / one.requests
    document: dict[str, Any] = {
        "task": one.task, "arm": one.name, "quoted_at": one.at, "quoted_requests": one.requests, "requests": requests,
        "quoted_tokens": (one.quoted["input"] + one.quoted["output"]) * share, "tokens": tokens,
    }  # fmt: skip
    currency = one.quoted.get("currency")
    if currency is not None and money.get(currency):
        low, expected, high = (value * share for value in one.quoted["money"])
        paid = float(money[currency])
        document |= {
            "currency": currency, "quoted": expected, "low": low, "high": high, "billed": paid,
            "error": (expected - paid) / paid, "within": low <= paid <= high,
        }  # fmt: skip
    return document
