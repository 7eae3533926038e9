"""Sending a plan for a command: agreed to, within the limits, with progress."""

from __future__ import annotations

import argparse
import asyncio
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.services import agreement, require_sendable
from drovik.cli.stopping import until_stopped
from drovik.errors import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE

if TYPE_CHECKING:
    from drovik.project.reading import Project
    from drovik.store.budget import Budget
    from drovik.store.store import Store
    from drovik.transport.tally import Tally
    from drovik.workflow.plan import Planned


def exit_code(tally: Tally) -> int:
    """What a run that went so ends with."""
    if tally.interrupted:
        return INTERRUPTED
    if tally.stops:
        return NO_SERVICE
    return DOES_NOT_HOLD if tally.failed or tally.left else DONE


def send_as_asked(project: Project, store: Store, planned: Planned, arguments: argparse.Namespace) -> Tally:
    """See that it may be sent, to those hosts and for that money, and send it."""
    budget = None
    if planned.plan.count():
        services = workflow.Services(project.folder, project.settings, project.dialects, project.keys)
        require_sendable(services, list(planned.plan.to_send), arguments.trust)
        workflow.require_agreed_folders(services, arguments.trust, agreement())
        budget = workflow.budget_for(project, store, planned, arguments.budget or ())
    return send_plan(project, store, planned, quiet=arguments.quiet or arguments.json, budget=budget)


def send_plan(project: Project, store: Store, planned: Planned, quiet: bool, budget: Budget | None = None) -> Tally:
    """Send a plan with progress; the first Ctrl-C waits for what is under way, the second does not."""
    from drovik.cli.progress import Progress

    courier = workflow.courier_for(project, store, planned, budget)
    if planned.plan.count() == 0:
        return courier.tally
    with Progress(courier.tally, quiet) as progress:
        return asyncio.run(until_stopped(courier, progress.note))
