"""`drovik send`: sends what has no answer yet, shows how it goes, and sums up."""

from __future__ import annotations

import argparse
import asyncio
from collections.abc import Callable
from typing import TYPE_CHECKING

from drovik.cli.asking import STOPPING
from drovik.cli.plan_arguments import Planned, Wanted, add_plan_arguments, make_plan, positive
from drovik.cli.printing import print_json
from drovik.cli.project_arguments import add_project_argument, open_project, open_store
from drovik.cli.services import Services, require_agreed_folders, see_that_it_may_be_sent
from drovik.errors import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE

if TYPE_CHECKING:
    from drovik.project.reading import Project
    from drovik.store.budget import Budget
    from drovik.store.store import Store
    from drovik.transport.dispatcher import Courier
    from drovik.transport.tally import Tally

EXAMPLE = (
    "drovik send --task sort --arm gull/v2\n  drovik send --sample 20\n  drovik send --most 5.00\n"
    "  drovik send --again failed\n  drovik send --recheck 20"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    add_plan_arguments(parser)
    parser.add_argument(
        "--most", action="append", metavar="MONEY", help="spend no more in all, like 5.00 or '5.00 EUR' (by currency)"
    )
    parser.add_argument(
        "--recheck", type=positive, metavar="N", help="ask N answered cases of each arm again, and tell what changed"
    )
    parser.add_argument("--watch", action="store_true", help="go on with cases and pictures as they arrive")
    parser.add_argument("--trust", action="store_true", help="let the keys go to this project's hosts, now and later")
    parser.add_argument("--quiet", action="store_true", help="show no progress")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Send; 1 where some answers failed or the limit of money was reached, 3 where a service could not be used."""
    from drovik.cli.summing_up import sending_document, show_drift, sum_up
    from drovik.cli.watching import watch

    if arguments.watch:
        return watch(arguments)
    project = open_project(arguments.project)
    with open_store(project.store_path) as store:
        planned = make_plan(project, store, Wanted.of(arguments))
        tally = send_as_asked(project, store, planned, arguments)
        drifts = _drifts(project, store, planned) if planned.plan.recheck else []
        if arguments.json:
            print_json(sending_document(project, store, planned, tally, drifts))
        else:
            sum_up(project, store, planned, tally)
            show_drift(drifts)
    return exit_code(tally)


def exit_code(tally: Tally) -> int:
    """What a run that went so ends with."""
    if tally.interrupted:
        return INTERRUPTED
    if tally.stops:
        return NO_SERVICE
    return DOES_NOT_HOLD if tally.failed or tally.left else DONE


def send_as_asked(project: Project, store: Store, planned: Planned, arguments: argparse.Namespace) -> Tally:
    """See that it may be sent, to those hosts and for that money, and send it."""
    from drovik.cli.limits import budget_for

    budget = None
    if planned.plan.count():
        services = Services(project.folder, project.settings, project.dialects, project.keys)
        see_that_it_may_be_sent(services, list(planned.plan.to_send), arguments.trust)
        require_agreed_folders(services, arguments.trust)
        budget = budget_for(project, store, planned, arguments.most or ())
    return send_plan(project, store, planned, quiet=arguments.quiet or arguments.json, budget=budget)


def send_plan(project: Project, store: Store, planned: Planned, quiet: bool, budget: Budget | None = None) -> Tally:
    """Send a plan with progress; the first Ctrl-C waits for what is under way, the second does not."""
    from drovik.cli.limits import most_at_once
    from drovik.cli.progress import Progress
    from drovik.transport.dispatcher import Courier, SendingOptions
    from drovik.transport.shared_limits import shared_file

    plan = planned.plan
    if plan.known_of:
        known = store.asked_rows()
        store.note_asked([ask.asked("") for ask in plan.known_of if ask.row() not in known])
    if plan.count() == 0:
        return Courier(project, store, plan, SendingOptions()).tally
    bound, problem = most_at_once(project, list(plan.to_send))
    courier = Courier(project, store, plan, SendingOptions(budget, bound, shared_file()))
    if problem is not None:
        courier.tally.warn("files", problem)
    with Progress(courier.tally, quiet) as progress:
        return asyncio.run(_sending(courier, progress.note))


async def _sending(courier: Courier, note: Callable[[str], None]) -> Tally:
    task = asyncio.create_task(courier.run())
    loop = asyncio.get_running_loop()

    def interrupted() -> None:
        if courier.tally.interrupted:
            task.cancel()
            return
        courier.interrupt()
        note("Stopping: what is under way is paid for, so its replies are waited for. Once more leaves them.")

    for number in STOPPING:
        loop.add_signal_handler(number, interrupted)
    try:
        return await task
    except asyncio.CancelledError:
        courier.tally.left = courier.tally.open - courier.tally.elsewhere
        return courier.tally


def _drifts(project: Project, store: Store, planned: Planned) -> list[object]:
    from drovik.evaluation.drift import drift_of

    asked = [ask for asks in planned.plan.to_send.values() for ask in asks]
    arms = {(ask.task.name, ask.arm.name) for ask in asked}
    repeats = [ask for ask in planned.asks() if (ask.task.name, ask.arm.name) in arms]
    return list(drift_of(project, store, asked, repeats))
