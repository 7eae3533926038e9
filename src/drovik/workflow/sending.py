"""Sending a plan: what is known is noted, this machine's limits hold, and what comes back is kept and counted."""

from __future__ import annotations

from drovik.project.reading import Project
from drovik.store.budget import Budget
from drovik.store.store import Store
from drovik.transport.dispatcher import Courier, SendingOptions
from drovik.transport.listener import Listener
from drovik.transport.shared_limits import shared_file
from drovik.transport.tally import Tally
from drovik.workflow.limits import concurrency_bound
from drovik.workflow.plan import Planned


def courier_for(
    project: Project, store: Store, planned: Planned, budget: Budget | None = None, listener: Listener | None = None
) -> Courier:
    """What sends a plan; its `tally` can be watched while it runs.

    :param budget: the limit of money.
    :param listener: hears answers as they come.
    """
    plan = planned.plan
    if plan.known_of:
        known = store.asked_rows()
        store.note_asked([ask.asked("") for ask in plan.known_of if ask.row() not in known])
    if plan.count() == 0:
        return Courier(project, store, plan, SendingOptions(listener=listener))
    bound, problem = concurrency_bound(project, list(plan.to_send))
    courier = Courier(project, store, plan, SendingOptions(budget, bound, shared_file(), listener))
    if problem is not None:
        courier.tally.warn("files", problem)
    return courier


async def send(courier: Courier) -> Tally:
    """Send what there is to send; cancelled, it leaves what is under way without a reply.

    :raises DrovikError: where the store cannot be written.
    """
    return courier.tally if courier.tally.total == 0 else await courier.run()
