"""`drovik send`: sends what has no answer yet, shows how it goes, and sums up.

`drovik send --watch`: goes on with cases and pictures as they arrive, until it is interrupted.
"""

from __future__ import annotations

import argparse
import time
from functools import partial
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import (
    add_cluster_argument,
    add_plan_arguments,
    add_project_argument,
    agreement,
    open_project,
    open_store,
    positive,
    project_folder,
    selection_of,
)
from drovik.cli.ask.summary import print_stop_reasons, print_summary, sending_document, show_drift
from drovik.cli.kept import Printed, printed_again
from drovik.cli.printing import add_all_argument, print_json, say_aside
from drovik.cli.sending import exit_code, send_with_consent
from drovik.errors import DOES_NOT_HOLD, DONE, DrovikError
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.project.reading import Project
    from drovik.store.answer_store import Store
    from drovik.transport.queue import Tally
    from drovik.workflow.sending_plan import Planned


LOOKS_EVERY = 1.0
"""Seconds between two looks at the files."""
SETTLED = 0.7
"""Seconds for which a file must not have changed: what is being written is left alone until then."""
_TIMES_AS_LONG = 10
"""Where sending took this many times as long as planning, planning the next time at its end costs little."""


def watch(arguments: argparse.Namespace) -> int:
    """Send what there is, then what comes; 130 at the end, as every interrupted run."""

    folder = project_folder(arguments.project)
    seen: object = None
    told = ""
    while True:
        state = workflow.state_of_input(folder, workflow.read_settings(folder, []))
        if state == seen or time.time() - state.changed < SETTLED:
            time.sleep(LOOKS_EVERY)
            continue
        try:
            project = open_project(arguments.project)
            workflow.require_agreed_addresses(project, arguments.trust, agreement())
            with (
                workflow.sending_from(arguments.cluster, project) as (project, elsewhere),
                open_store(project.store_place) as store,
            ):
                planned = workflow.make_plan(project, store, selection_of(arguments))
                if planned.plan.count():
                    tally = send_with_consent(project, store, planned, arguments, elsewhere)
                    if not arguments.quiet:
                        print_summary(project, store, planned, tally, arguments.all)
                    elif tally.stops or tally.over:
                        print_stop_reasons(tally)
                    if tally.interrupted or tally.stops or tally.over:
                        return exit_code(tally)
        except DrovikError as error:
            # What is wrong now may be a file that is still being written: say it once, and look again.
            line = error.problems[0].line()
            if line != told:
                say_aside(f"waits: {line}")
            told, seen = line, None
            time.sleep(LOOKS_EVERY)
            continue
        if state != seen and not arguments.quiet:
            say_aside(f"{counted(len(project.cases), 'case')}; watches {folder} for more (Ctrl-C ends)")
        seen, told = state, ""


EXAMPLE = (
    "drovik send --task sort --arm gull/v2\n  drovik send --sample 20\n  drovik send --budget 5.00\n"
    "  drovik send --resend failed\n  drovik send --recheck 20"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    add_plan_arguments(parser)
    parser.add_argument(
        "--budget",
        action="append",
        metavar="MONEY",
        help="the budget for everything sent from this store, like 5.00 or '5.00 EUR' (one for each currency)",
    )
    parser.add_argument(
        "--recheck", type=positive, metavar="N", help="ask N answered cases of each arm again, and say what changed"
    )
    parser.add_argument("--watch", action="store_true", help="go on with cases and pictures as they arrive")
    parser.add_argument("--trust", action="store_true", help="let the keys go to this project's hosts, now and later")
    add_cluster_argument(parser)
    parser.add_argument("--quiet", action="store_true", help="show no progress")
    add_all_argument(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON document")


@printed_again(lambda given: not (given.watch or given.trust or given.cluster or given.recheck))
def run(arguments: argparse.Namespace, printed: Printed) -> int:
    """Send; 1 where some answers failed or the limit of money was reached, 3 where a service could not be used."""

    if arguments.watch:
        return watch(arguments)
    project = open_project(arguments.project, printed.states)
    workflow.require_agreed_addresses(project, arguments.trust, agreement())
    with (
        workflow.sending_from(arguments.cluster, project) as (project, elsewhere),
        open_store(project.store_place) as store,
    ):
        began = time.monotonic()
        planned = workflow.make_plan(project, store, selection_of(arguments))
        planning = time.monotonic() - began
        # What another program is asking just now may be left to be asked by this one, the next time.
        printed.stays = planned.plan.count() == 0
        tally = send_with_consent(project, store, planned, arguments, elsewhere)
        _print(project, store, planned, tally, arguments)
    if tally.total and not tally.left and time.monotonic() - began > planning * _TIMES_AS_LONG:
        printed.next_time = partial(_print_that_nothing_is_left, project, arguments)
    return exit_code(tally)


def _print_that_nothing_is_left(project: Project, arguments: argparse.Namespace) -> int:
    """Print what `send` prints once all is answered; `DOES_NOT_HOLD` where something is still to be sent."""
    with open_store(project.store_place) as store:
        planned = workflow.make_plan(project, store, selection_of(arguments))
        if planned.plan.count():
            return DOES_NOT_HOLD
        _print(project, store, planned, workflow.nothing_sent(store, planned.plan), arguments)
    return DONE


def _print(project: Project, store: Store, planned: Planned, tally: Tally, arguments: argparse.Namespace) -> None:
    drifts = _drifts(project, store, planned) if planned.plan.recheck else []
    if arguments.json:
        print_json(sending_document(project, store, planned, tally, drifts))
    else:
        print_summary(project, store, planned, tally, arguments.all)
        show_drift(drifts)


def _drifts(project: Project, store: Store, planned: Planned) -> list[object]:

    asked = [ask for asks in planned.plan.to_send.values() for ask in asks]
    arms = {(ask.task.name, ask.arm.name) for ask in asked}
    repeats = [request for request in planned.requests() if (request.task.name, request.arm.name) in arms]
    return list(workflow.drift_of(project, store, asked, repeats))
