"""`drovik quote`: what sending would cost, before; and how that was, after."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import (
    add_plan_arguments,
    add_project_argument,
    open_project,
    open_store,
    positive,
    selection_of,
)
from drovik.cli.printing import heading, print_json, say, say_aside, table
from drovik.cli.quote_files import quote_files
from drovik.errors import DONE
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.cost.token_rates import Bounds
    from drovik.workflow.estimating import SendingEstimate
    from drovik.workflow.sending_plan import Planned

EXAMPLE = (
    "drovik quote\n  drovik quote tray.jpg --model fulmar --cases 1000\n"
    "  drovik quote --cases 1000000 --break-even 4000"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("words", nargs="*", metavar="FILE", help="pictures, where there is no project yet")
    parser.add_argument("--model", action="append", metavar="MODEL", help="with files: for these models")
    parser.add_argument("--prep", action="append", metavar="PREP", help="with files: as this prep sends them")
    add_project_argument(parser)
    add_plan_arguments(parser)
    parser.add_argument("--cases", type=positive, metavar="N", help="for N cases like those of the project")
    parser.add_argument(
        "--break-even",
        metavar="MONEY",
        help="what another way of doing it costs: shows from how many cases it is cheaper",
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Quote; nothing is sent."""
    if arguments.words:
        return quote_files(arguments)
    project = open_project(arguments.project)
    with open_store(project.store_place) as store:
        planned = workflow.make_plan(project, store, selection_of(arguments))
        made = workflow.estimate_sending(project, store, planned, arguments.cases)
        chosen = {(arm.task, arm.digest) for arms in planned.arms.values() for arm in arms}
        before = [] if arguments.cases else workflow.estimates_and_bills(store, chosen)
        if not arguments.cases:
            workflow.keep_estimate(store, made.arms)
    instead = _instead(made, arguments.break_even)
    brought = workflow.brought_costs(project, planned.arms, arguments.cases)
    if arguments.json:
        print_json(made.document(instead) | {"billed": before, "brought": [asdict(one) for one in brought]})
        return DONE
    _show(made, planned, instead, arguments.cases)
    for one in brought:
        told = f"{one.arm}, brought into {one.task}, cost {one.money:.4f} {one.currency}"
        told += f" for {counted(one.answers, 'case')}"
        say(told + (f"; {counted(one.cases, 'case')} would cost {one.expected:,.2f}." if arguments.cases else "."))
    show_compared(before)
    return DONE


def _instead(made: SendingEstimate, word: str | None) -> dict[str, Decimal]:
    """The sum for which it is done another way, by currency."""

    currencies = sorted({one.price.currency for one in made.arms if one.price})
    return workflow.amounts([word] if word else [], currencies, "--break-even")


def _show(made: SendingEstimate, planned: Planned, instead: Mapping[str, Decimal], cases: int | None) -> None:
    """Print it."""
    if not made.arms:
        say(f"Nothing to send; answers that are there: {planned.plan.answered}.")
        return
    rows = []
    for one in made.arms:
        money = made.money.get((one.task, one.arm.name))
        cost = [_money(money), _range(money, 4)] if money is not None else ["no price", ""]
        even = made.break_even(one, instead)
        rows.append(
            [one.task, one.arm.name, _count(one.requests), _count(one.input_tokens), _count(one.output_tokens),
             f"{cost[0]} {one.price.currency if one.price else ''}".strip(), cost[1]]
            + ([_count(even) if even else "–"] if instead else [])
        )  # fmt: skip
    columns = ["task", "arm", "requests", "tokens in", "tokens out", "money", "from – to"]
    table(columns + ["break-even (cases)"] * bool(instead), rows, numbers=range(2, 8))
    what = f"{counted(cases, 'case')}" if cases else "what there is to send"
    for currency, money in made.total().items():
        say(f"In all, for {what}: {_money(money)} {currency} ({_range(money, 4)}).", style="bold")
    for name, seconds in made.seconds.items():
        say(f"At {name}: about {span(seconds.expected)} ({span(seconds.low)} to {span(seconds.high)}).")
    _show_notes(made, instead)


def _show_notes(made: SendingEstimate, instead: Mapping[str, Decimal]) -> None:
    unknown: dict[str, list[str]] = {}
    for one in made.arms:
        for text in one.unknown.values():
            unknown.setdefault(text, []).append(one.arm.model_name)
    for text, models in unknown.items():
        say_aside(f"Guessed for {', '.join(dict.fromkeys(models))}: {text}.")
    if any(one.price and one.price.free for one in made.arms):
        say_aside("What is free is taken off as if none of it was used yet.")
    for currency, sum_ in instead.items():
        say(f"Another way of doing it for {sum_} {currency} is cheaper from that number of cases, arm by arm.")


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
    return f"{one.expected:.4f}" if one.expected < 100 else f"{one.expected:,.2f}"


def _range(one: Bounds, places: int) -> str:
    places = places if one.high < 100 else 2
    return f"{one.low:,.{places}f} – {one.high:,.{places}f}"


def span(seconds: float) -> str:
    """A stretch of time for the eye."""
    if seconds < 120:
        return f"{seconds:.0f} s"
    if seconds < 7200:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f} h" if seconds < 172800 else f"{seconds / 86400:.1f} days"


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
