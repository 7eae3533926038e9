"""`drovik send`: sends what has no answer yet, shows how it goes, and sums up."""

from __future__ import annotations

import argparse
import asyncio
import signal
from collections.abc import Callable
from decimal import Decimal
from itertools import zip_longest
from typing import TYPE_CHECKING

from drovik.cli.opening import add_choice_arguments, add_project_argument, open_project
from drovik.cli.printing import money, print_json, say
from drovik.cli.services import Services, see_that_it_may_be_sent
from drovik.problems import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE

if TYPE_CHECKING:
    from drovik.project.opening import Project
    from drovik.sending.courier import Courier
    from drovik.sending.plan import Plan
    from drovik.sending.tally import Tally
    from drovik.store.keeping import Store
    from drovik.store.records import Bill

EXAMPLE = "drovik send --task sort --arm gull/v2\n  drovik send --again failed"
STATUSES = ("ok", "off_schema", "not_json", "cut_off", "refused", "empty", "failed")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    add_choice_arguments(parser)
    parser.add_argument("--again", action="append", choices=STATUSES, help="also ask anew what has such an answer")
    parser.add_argument("--trust", action="store_true", help="let the keys go to this project's hosts, now and later")
    parser.add_argument("--quiet", action="store_true", help="show no progress")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Send; 1 where some answers failed, 3 where a service could not be used."""
    from drovik.store.keeping import Store

    project = open_project(arguments.project)
    with Store(project.store_path) as store:
        plan = make_plan(project, store, arguments.task, arguments.arm, arguments.again or ())
        if plan.count():
            services = Services(project.folder, project.settings, project.dialects, project.keys)
            see_that_it_may_be_sent(services, list(plan.to_send), arguments.trust)
        tally = send_plan(project, store, plan, quiet=arguments.quiet or arguments.json)
        if arguments.json:
            print_json(sending_document(plan, tally, store.bill(), store.spent()))
        else:
            sum_up(plan, tally, store.bill(), store.spent())
    if tally.interrupted:
        return INTERRUPTED
    if tally.stops:
        return NO_SERVICE
    return DOES_NOT_HOLD if tally.failed or tally.left else DONE


def make_plan(
    project: Project,
    store: Store,
    tasks: list[str] | None,
    arms: list[str] | None,
    again: list[str] | tuple[str, ...],
) -> Plan:
    """What there is to send of the chosen tasks and arms."""
    from drovik.project.arms import arms_of, check_arm_words, fitting_arms
    from drovik.scoring.gathering import chosen_tasks
    from drovik.sending.plan import plan_sending
    from drovik.sending.reading_back import with_status
    from drovik.sending.sources import source_digests
    from drovik.sending.threads import follower, threads_of

    chosen = chosen_tasks(project, tasks)
    every = {task.name: arms_of(task, project.settings) for task in chosen}
    check_arm_words([arm for one in every.values() for arm in one], arms or ())
    digests = source_digests(project, store, project.cases)
    sent = {task.name: fitting_arms(every[task.name], arms or ()) for task in chosen}
    threads = {
        task.name: threads_of(project, store, task, sent[task.name], project.cases, digests) for task in chosen
    }
    asks = {name: [ask for one in found for ask in one.asks] for name, found in threads.items()}
    renew = with_status(project, store, asks, frozenset(again)) if again else frozenset()
    mixed = [ask for row in zip_longest(*asks.values()) for ask in row if ask is not None]
    plan = plan_sending(mixed, store.concluded(), renew)
    for endpoint in {arm.model.endpoint for one in sent.values() for arm in one if plan.count()}:
        plan.to_send.setdefault(endpoint, [])  # what follows may go there
    plan.follow = follower(project, store, sent, digests)
    for task in chosen:
        waiting = sum(one.state == "before" for one in threads[task.name])
        if waiting and task.after and task.after.task not in sent:
            plan.waiting[f"{task.name} waits for {task.after.task}"] = waiting
    return plan


def send_plan(project: Project, store: Store, plan: Plan, quiet: bool) -> Tally:
    """Send a plan with progress; the first Ctrl-C waits for what is under way, the second does not."""
    from drovik.cli.progress import Progress
    from drovik.sending.courier import Courier

    store.note_asked([ask.asked("") for ask in plan.known_of])
    courier = Courier(project, store, plan)
    if plan.count() == 0:
        return courier.tally
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

    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, interrupted)
    try:
        return await task
    except asyncio.CancelledError:
        courier.tally.left = courier.tally.total - courier.tally.answered - courier.tally.failed
        return courier.tally


def sum_up(plan: Plan, tally: Tally, bill: Bill, spent: dict[str, Decimal]) -> None:
    """The summary: what came back, what it cost, what to do about what did not.

    :param bill: of the whole store, as is `spent`.
    """
    from drovik.sending.outcomes import REMEDIES

    for problem in [*tally.warnings.values(), *tally.stops]:
        say(problem.line(), style="yellow")
    for what, count in plan.waiting.items():
        say(f"{count} asks: {what}, which has no answer yet; send that too", style="yellow")
    if tally.total == 0:
        say(f"Nothing to send: all {plan.answered} answers are there.")
    else:
        say(
            f"{tally.answered} of {tally.total} answered, {tally.failed} failed, {tally.left} left; "
            f"{plan.answered} were there already."
        )
        paid = money(tally.money)
        again = f", {tally.tried_again} times tried again" if tally.tried_again else ""
        say(f"{tally.attempts} requests{again}; {tally.input_tokens} tokens in, {tally.output_tokens} out; {paid}.")
        if spent and spent != tally.money:
            say(f"In all, the replies in this store have cost {money(spent)}.")
    for kind, count in tally.kinds.most_common():
        say(f"{count} failed ({kind}): {REMEDIES.get(kind, 'drovik send --again failed')}", style="yellow")
    if bill.unknown:
        say(f"{bill.unknown} requests in this store brought no reply and may have been billed all the same.")
    if tally.left and not tally.stops:
        say("Go on with: drovik send")


def sending_document(plan: Plan, tally: Tally, bill: Bill, spent: dict[str, Decimal]) -> dict[str, object]:
    """The same summary as plain values."""
    return {
        "to_send": tally.total,
        "answered": tally.answered,
        "failed": tally.failed,
        "left": tally.left,
        "answered_before": plan.answered,
        "requests": tally.attempts,
        "tried_again": tally.tried_again,
        "tokens": {"input": tally.input_tokens, "output": tally.output_tokens},
        "money": dict(tally.money),
        "money_in_all": spent,
        "failures": dict(tally.kinds),
        "problems": [one.line() for one in (*tally.warnings.values(), *tally.stops)],
        "interrupted": tally.interrupted,
        "store": {"attempts": bill.attempts, "replies": bill.replies, "perhaps_billed_without_reply": bill.unknown},
    }
