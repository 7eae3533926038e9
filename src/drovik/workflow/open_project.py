"""A project in a script or a notebook: plan, send and evaluate by hand. What `drovik.open` gives.

Sending a plan: what is known is noted, this machine's limits hold, and what comes back is kept and counted.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from drovik.errors import Problem
from drovik.evaluation.gathering import gather
from drovik.planning.requests import Request
from drovik.project.arms import Arm, arms_of
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.store.answer_store import Store
from drovik.store.claims import Budget
from drovik.transport.dispatcher import Dispatcher, SendingOptions
from drovik.transport.outcomes import AttemptEnd, Listener
from drovik.transport.preparer import WriterElsewhere
from drovik.transport.queue import Tally
from drovik.transport.shared_limits import shared_file
from drovik.workflow.clusters import sending_from
from drovik.workflow.estimating import SendingEstimate, estimate_sending
from drovik.workflow.project_checks import everything_wrong
from drovik.workflow.results import Scores
from drovik.workflow.running import run_blocking, send
from drovik.workflow.sending_plan import Planned, Selection, load_project, make_plan, note_answered
from drovik.workflow.services import (
    Services,
    budget_for,
    concurrency_bound,
    require_agreed_addresses,
    require_agreed_folders,
    require_sendable,
)


def dispatcher_for(
    project: Project,
    store: Store,
    planned: Planned,
    budget: Budget | None = None,
    listener: Listener | None = None,
    elsewhere: WriterElsewhere | None = None,
) -> Dispatcher:
    """What sends a plan; its `tally` can be watched while it runs.

    :param budget: the limit of money.
    :param listener: hears answers as they come.
    :param elsewhere: writes requests on other machines.
    """
    plan = planned.plan
    note_answered(store, plan)
    if plan.count() == 0:
        return Dispatcher(project, store, plan, SendingOptions(listener=listener))
    bound, problem = concurrency_bound(project, list(plan.to_send))
    dispatcher = Dispatcher(
        project, store, plan, SendingOptions(budget, bound, shared_file(), listener, elsewhere=elsewhere)
    )
    if problem is not None:
        dispatcher.tally.warn("files", problem)
    return dispatcher


Names = str | Sequence[str] | None


@dataclass(frozen=True)
class Event:
    """Something that happened while sending.

    `kind` is "begins" (a request leaves), "text" (more of an answer came) or "ended" (an attempt came to an end, with
    its `outcome`, such as "answered" or "limited").
    """

    kind: Literal["begins", "text", "ended"]
    task: str
    arm: str
    case: str
    repeat: int
    text: str = ""
    outcome: str = ""
    seconds: float | None = None


class _Reporter:
    """A listener that hands events on."""

    def __init__(self, on_event: Callable[[Event], object]) -> None:
        self._on_event = on_event

    def begins(self, request: Request, try_: int) -> None:
        self._on_event(Event("begins", request.task.name, request.arm.name, request.case.id, request.repeat))

    def text(self, request: Request, text: str) -> None:
        self._on_event(
            Event(
                kind="text",
                task=request.task.name,
                arm=request.arm.name,
                case=request.case.id,
                repeat=request.repeat,
                text=text,
            )
        )

    def ended(self, request: Request, ending: AttemptEnd) -> None:
        names = request.task.name, request.arm.name, request.case.id, request.repeat
        self._on_event(Event("ended", *names, "", ending.outcome.kind, ending.seconds))


@dataclass(frozen=True)
class SendingPlan:
    """What there is to send, as it was when this was made; sending looks again, and sends what is missing then.

    `to_send` and `answered` are numbers of requests, `by_arm` those to send by task and arm; `waiting` is how many
    wait for a task that is not sent, by the words for it.
    """

    project: OpenProject
    wanted: Selection
    to_send: int
    answered: int
    by_arm: Mapping[tuple[str, str], int]
    waiting: Mapping[str, int]

    def estimate(self, cases: int | None = None) -> SendingEstimate:
        """What sending it would cost: requests, tokens, money and time, each with its bounds.

        :param cases: for N cases like those of the plan; None for what there is to send.
        """
        project = self.project.project
        with Store(project.store_place) as store:
            return estimate_sending(project, store, make_plan(project, store, self.wanted), cases)


class OpenProject:
    """A project with nothing wrong in it, as it was when it was opened.

    :ivar project: all that you wrote, as records.
    """

    def __init__(self, folder: Path) -> None:
        self.project: Project = load_project(folder)
        self.folder = folder

    def __repr__(self) -> str:
        return f"drovik.open({str(self.folder)!r})"

    @property
    def cases(self) -> tuple[Case, ...]:
        """The cases, those that are held out too."""
        return self.project.cases

    @property
    def tasks(self) -> tuple[Task, ...]:
        """The tasks."""
        return self.project.tasks

    @property
    def arms(self) -> dict[str, tuple[Arm, ...]]:
        """The arms (each a model with a prompt version and a prep) by task."""
        return {task.name: arms_of(task, self.project.settings) for task in self.project.tasks}

    def problems(self) -> list[Problem]:
        """All that is wrong with the project as its files are now, which `drovik check` prints."""
        return everything_wrong(self.folder)[1]

    def plan(
        self, *, task: Names = None, arm: Names = None, sample: int | None = None, seed: int = 1, resend: Names = ()
    ) -> SendingPlan:
        """What there is to send.

        :param task: a task's name, or several; None for all.
        :param arm: an arm, `MODEL`, `MODEL/PROMPT` or `*/PROMPT`, or several; None for all.
        :param sample: this many cases only, spread over the labels, and drawn by `seed`.
        :param resend: statuses of answers that are to be sent again, such as "failed".
        :raises UsageError: where a name fits nothing.
        """
        wanted = Selection(_several(task), _several(arm), _several(resend) or (), sample, seed)
        with Store(self.project.store_place) as store:
            planned = make_plan(self.project, store, wanted)
        by_arm: dict[tuple[str, str], int] = {}
        for request in (request for requests in planned.plan.to_send.values() for request in requests):
            key = request.task.name, request.arm.name
            by_arm[key] = by_arm.get(key, 0) + 1
        plan = planned.plan
        return SendingPlan(
            project=self,
            wanted=wanted,
            to_send=plan.count(),
            answered=plan.answered,
            by_arm=by_arm,
            waiting=dict(plan.waiting),
        )

    async def send(
        self,
        plan: SendingPlan,
        *,
        budget: Names = None,
        on_event: Callable[[Event], object] | None = None,
        trust: bool = False,
        cluster: str | None = None,
    ) -> Tally:
        """Send what there is to send, and keep what comes back. Cancelled, it leaves what is under way unanswered.

        :param budget: the most that may be spent of all that this project ever sends, like "5.00 EUR".
        :param on_event: hears what happens.
        :param trust: agree to the project's hosts and commands, now and later, as `--trust` does.
        :param cluster: the address of a Dask scheduler whose workers send, or `local:N`; as `--cluster` does.
        :return: the outcome, in numbers.
        :raises ConsentError: where something was not agreed to.
        :raises StoreError: where the store cannot be written.
        """
        project = self.project
        require_agreed_addresses(project, trust, None)
        with sending_from(cluster, project) as (project, elsewhere), Store(project.store_place) as store:
            planned = make_plan(project, store, plan.wanted)
            limit = None
            if planned.plan.count():
                services = Services(project.folder, project.settings, project.dialects, project.keys)
                require_sendable(services, list(planned.plan.to_send), trust, None)
                require_agreed_folders(services, trust, None)
                limit = budget_for(project, store, planned, _several(budget) or (), "budget")
            listener = _Reporter(on_event) if on_event else None
            return await send(dispatcher_for(project, store, planned, limit, listener, elsewhere))

    def send_now(
        self,
        plan: SendingPlan,
        *,
        budget: Names = None,
        on_event: Callable[[Event], object] | None = None,
        trust: bool = False,
        cluster: str | None = None,
    ) -> Tally:
        """As `send`, and waits for the end; also where an event loop is running, as in a notebook."""
        return run_blocking(self.send(plan, budget=budget, on_event=on_event, trust=trust, cluster=cluster))

    def evaluate(self, *, task: Names = None, arm: Names = None, split: str = "tune", trust: bool = False) -> Scores:
        """The scores of all that is answered; nothing is sent.

        :param split: which cases count: those of this split, or "all".
        :param trust: run the project's own Python measures.
        :raises UsageError: where a name fits nothing.
        """
        with Store(self.project.store_place, create=False) as store:
            return Scores(tuple(gather(self.project, store, _several(task), _several(arm), split, trust)))


def _several(names: Names) -> tuple[str, ...] | None:
    """One name or several as several; None stays."""
    if names is None:
        return None
    return (names,) if isinstance(names, str) else tuple(names)
