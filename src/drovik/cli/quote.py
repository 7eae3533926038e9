"""`drovik quote`: what sending would cost, before; and how that was, after."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.plan_arguments import add_plan_arguments, positive, wanted_of
from drovik.cli.printing import aside, heading, print_json, say, table
from drovik.cli.project_arguments import add_project_argument, open_project, open_store
from drovik.errors import DONE

if TYPE_CHECKING:
    from drovik.cost.estimate import ArmQuote
    from drovik.cost.token_rates import Bounds, Rates
    from drovik.project.reading import Project
    from drovik.store.store import Store
    from drovik.store.sums import KeptQuote
    from drovik.workflow.plan import Planned

EXAMPLE = "drovik quote\n  drovik quote --cases 1000000 --instead 4000"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    add_plan_arguments(parser)
    parser.add_argument("--cases", type=positive, metavar="N", help="for so many cases like those of the project")
    parser.add_argument(
        "--instead", metavar="MONEY", help="a fixed sum for doing it another way: name the break-even"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Quote; nothing is sent."""
    from drovik.cost.estimate import Quoter
    from drovik.cost.token_rates import Rates

    project = open_project(arguments.project)
    with open_store(project.store_path) as store:
        planned = workflow.make_plan(project, store, wanted_of(arguments))
        rates = Rates(project, store)
        to_send = [ask for asks in planned.plan.to_send.values() for ask in asks]
        quotes = Quoter(planned.sources, rates).quotes(planned.threads, to_send, every=bool(arguments.cases))
        cases = len({one.case.id for own in planned.threads.values() for one in own})
        if arguments.cases:
            quotes = [one.times(arguments.cases / cases) for one in quotes]
            cases = arguments.cases
        seconds = _seconds(project, rates, quotes)
        chosen = {(arm.task, arm.digest) for arms in planned.arms.values() for arm in arms}
        before = [] if arguments.cases else compared(store, chosen)
        if not arguments.cases:
            keep(store, quotes)
    made = _Quoted(project, planned, quotes, seconds, cases, arguments)
    if arguments.json:
        print_json(made.document() | {"billed": before})
        return DONE
    made.show()
    show_compared(before)
    return DONE


def _seconds(project: Project, rates: Rates, quotes: Sequence[ArmQuote]) -> dict[str, Bounds]:
    """How long it takes, by endpoint."""
    from drovik.cost.duration import seconds_for
    from drovik.cost.token_rates import Bounds

    found = {}
    for name in dict.fromkeys(one.arm.model.endpoint for one in quotes):
        own = [one for one in quotes if one.arm.model.endpoint == name]
        requests, tokens = Bounds(), Bounds()
        for one in own:
            requests, tokens = requests + one.requests, tokens + (one.input_tokens + one.output_tokens)
        limits = project.settings.endpoints[name].limits
        found[name] = seconds_for(requests, tokens, limits, rates.seconds(name))
    return found


class _Quoted:
    """A quote to be shown."""

    def __init__(
        self,
        project: Project,
        planned: Planned,
        quotes: list[ArmQuote],
        seconds: Mapping[str, Bounds],
        cases: int,
        arguments: argparse.Namespace,
    ) -> None:
        from drovik.cost.duration import after_free, days_of
        from drovik.workflow.limits import amounts

        self.project, self.planned, self.quotes, self.seconds = project, planned, quotes, seconds
        self.cases, self.arguments = cases, arguments
        days = max((days_of(one.expected) for one in seconds.values()), default=1)
        self.money = after_free(quotes, days)
        currencies = sorted({one.price.currency for one in quotes if one.price})
        words = [arguments.instead] if arguments.instead else []
        self.instead = amounts(words, currencies, "--instead")

    def total(self) -> dict[str, Bounds]:
        """Money by currency."""
        from drovik.cost.token_rates import Bounds

        found: dict[str, Bounds] = {}
        for one in self.quotes:
            money = self.money.get((one.task, one.arm.name))
            if money is not None and one.price:
                found[one.price.currency] = found.get(one.price.currency, Bounds()) + money
        return found

    def even(self, one: ArmQuote) -> Bounds | None:
        """From how many cases on another way of doing it is cheaper than an arm."""
        from drovik.cost.duration import break_even

        money = self.money.get((one.task, one.arm.name))
        sum_ = self.instead.get(one.price.currency) if one.price else None
        return None if money is None or sum_ is None else break_even(sum_, money, self.cases)

    def show(self) -> None:
        """Print it."""
        if not self.quotes:
            say(f"Nothing to send: all {self.planned.plan.answered} answers are there.")
            return
        rows = []
        for one in self.quotes:
            money = self.money.get((one.task, one.arm.name))
            cost = [_money(money), _range(money, 4)] if money is not None else ["no price", ""]
            even = self.even(one)
            rows.append(
                [one.task, one.arm.name, _count(one.requests), _count(one.input_tokens), _count(one.output_tokens),
                 f"{cost[0]} {one.price.currency if one.price else ''}".strip(), cost[1]]
                + ([_count(even) if even else "–"] if self.instead else [])
            )  # fmt: skip
        columns = ["task", "arm", "requests", "tokens in", "tokens out", "money", "from – to"]
        table(columns + ["even at, cases"] * bool(self.instead), rows, numbers=range(2, 8))
        what = f"{self.arguments.cases} cases" if self.arguments.cases else "what there is to send"
        for currency, money in self.total().items():
            say(f"In all, for {what}: {_money(money)} {currency} ({_range(money, 4)}).", style="bold")
        for name, seconds in self.seconds.items():
            say(f"At {name}: about {span(seconds.expected)} ({span(seconds.low)} to {span(seconds.high)}).")
        self._show_notes()

    def _show_notes(self) -> None:
        unknown: dict[str, list[str]] = {}
        for one in self.quotes:
            for text in one.unknown.values():
                unknown.setdefault(text, []).append(one.arm.model_name)
        for text, models in unknown.items():
            aside(f"Guessed for {', '.join(dict.fromkeys(models))}: {text}.")
        if any(one.price and one.price.free for one in self.quotes):
            aside("What is free is taken off as if none of it was used yet.")
        for currency, sum_ in self.instead.items():
            say(f"Another way of doing it for {sum_} {currency} is cheaper from so many cases on, arm by arm.")

    def document(self) -> dict[str, Any]:
        """The same as plain values."""
        arms = []
        for one in self.quotes:
            money, even = self.money.get((one.task, one.arm.name)), self.even(one)
            arms.append(
                {
                    "task": one.task, "arm": one.arm.name, "requests": _bounds(one.requests),
                    "input_tokens": _bounds(one.input_tokens), "output_tokens": _bounds(one.output_tokens),
                    "currency": one.price.currency if one.price else None, "money": _bounds(money),
                    "even_at_cases": _bounds(even), "guessed": list(one.unknown.values()),
                }
            )  # fmt: skip
        return {
            "cases": self.cases,
            "arms": arms,
            "money": {currency: _bounds(money) for currency, money in self.total().items()},
            "seconds": {name: _bounds(seconds) for name, seconds in self.seconds.items()},
        }


def _bounds(one: Bounds | None) -> dict[str, float] | None:
    return None if one is None else {"low": one.low, "expected": one.expected, "high": one.high}


def _count(one: Bounds) -> str:
    """A number with its bounds where they are apart."""
    low, expected, high = (_short(value) for value in one)
    return expected if low == high else f"{expected} ({low}–{high})"


def _short(value: float) -> str:
    """Whole up to ten thousand; then three figures and k, M or G."""
    for size, letter in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
        if value >= max(size, 1e4) * 0.9995:
            shown = value / size
            return f"{shown:.0f}{letter}" if shown >= 99.95 else f"{shown:.3g}{letter}"
    return f"{value:.0f}"


def _money(one: Bounds) -> str:
    return f"{one.expected:.4f}" if one.expected < 100 else f"{one.expected:,.2f}".replace(",", " ")


def _range(one: Bounds, places: int) -> str:
    places = places if one.high < 100 else 2
    return f"{one.low:,.{places}f} – {one.high:,.{places}f}".replace(",", " ")


def span(seconds: float) -> str:
    """A stretch of time for the eye."""
    if seconds < 120:
        return f"{seconds:.0f} s"
    if seconds < 7200:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f} h" if seconds < 172800 else f"{seconds / 86400:.1f} days"


def keep(store: Store, quotes: Sequence[ArmQuote]) -> None:
    """Keep a quote, to be held against the bill."""
    from drovik.store.database import transaction
    from drovik.store.sums import KeptQuote, keep_quotes

    now = datetime.now(UTC).isoformat(timespec="seconds")
    rows = []
    for one in quotes:
        money = one.money()
        quoted: dict[str, Any] = {"input": one.input_tokens.expected, "output": one.output_tokens.expected}
        if money is not None and one.price is not None:
            quoted |= {"currency": one.price.currency, "money": list(money)}
        rows.append(KeptQuote(now, 0, one.task, one.arm.digest, one.arm.name, round(one.requests.expected), quoted))
    if rows:
        with transaction(store.connection):
            keep_quotes(store.connection, now, rows)


def compared(store: Store, arms: set[tuple[str, str]] | None = None) -> list[dict[str, Any]]:
    """The latest quotes, scaled to the requests sent since, beside what was billed, arm by arm.

    :param arms: only these, by task and digest.
    """
    from drovik.store.sums import billed, kept_quotes

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


def show_compared(rows: Sequence[Mapping[str, Any]]) -> None:
    """Print quotes against the bill."""
    if not rows:
        return
    heading("Quoted before, and billed")
    cells = []
    for one in rows:
        requests = f"{one['requests']} of {one['quoted_requests']}"
        if "billed" not in one:
            cells.append([one["task"], one["arm"], requests, "–", "–", "–", "–"])
            continue
        bounds = f"{one['low']:.4f} – {one['high']:.4f}"
        quoted, paid = f"{one['quoted']:.4f}", f"{one['billed']:.4f} {one['currency']}"
        error = f"{one['error']:+.1%}" + ("" if one["within"] else ", out of bounds")
        cells.append([one["task"], one["arm"], requests, quoted, bounds, paid, error])
    columns = ("task", "arm", "requests sent", "quoted for them", "from – to", "billed", "error")
    table(columns, cells, numbers=(2, 3, 4, 5, 6))
    known = [one for one in rows if "billed" in one]
    for currency in sorted({one["currency"] for one in known}):
        own = [one for one in known if one["currency"] == currency]
        quoted, paid = sum(one["quoted"] for one in own), sum(one["billed"] for one in own)
        say(f"Together {quoted:.4f} {currency} quoted and {paid:.4f} billed: {(quoted - paid) / paid:+.1%}.")
