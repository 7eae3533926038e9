"""Reading a project: all that can be found wrong with it without opening pictures or looking for keys.

What there is to send: the chosen tasks and arms, all cases or a sample, again or to see whether it is still so.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.dialects.dialect_checks import check_places, check_reply_form, check_request_form, unsent_settings
from drovik.errors import Problem, ProjectError
from drovik.evaluation.chosen_arms import chosen_cases, chosen_tasks
from drovik.planning.answers import with_status
from drovik.planning.control_kinds import Control
from drovik.planning.controls import control_arm, control_cases, control_task, require_alone
from drovik.planning.conversation import next_request, threads_of_task
from drovik.planning.plan import plan_sending, sample_of_asks, sample_of_cases
from drovik.planning.sources import source_digests
from drovik.project.arms import arms_of, check_arm_words, fitting_arms
from drovik.project.reading import Project, read_project
from drovik.scoring.catalogue import check_cases, measures_of
from drovik.scoring.measure_checks import check_looked_at
from drovik.transport.queue import Tally

if TYPE_CHECKING:
    from drovik.planning.plan import Plan, Thread
    from drovik.planning.requests import Request
    from drovik.planning.sources import Sources
    from drovik.project.arms import Arm
    from drovik.project.cases import Case
    from drovik.project.dialects import Dialect
    from drovik.project.tasks import Task
    from drovik.store.answer_store import Store


def check_project(folder: Path) -> tuple[Project | None, list[Problem]]:
    """A project with every problem that can be found without opening pictures or looking for keys."""

    project, problems = read_project(folder)
    if project is None:
        return None, problems
    for name, dialect in project.dialects.items():
        file = f"dialects/{name}.toml"
        found = check_request_form(dialect, file) + check_reply_form(dialect, file)
        problems += found
        if not found:
            problems += _unsent_settings(project, name, dialect, file)
    if not problems:
        problems += check_places(project)
    for task in project.tasks:
        before = len(problems)
        measures = measures_of(task, problems)
        if len(problems) == before:  # what is expected cannot be held against half a table
            problems += check_cases(task, measures, project.cases, project.settings.cases)
            problems += check_looked_at(task, measures, project.cases)
    return project, problems


def _unsent_settings(project: Project, name: str, dialect: Dialect, file: str) -> list[Problem]:
    """Settings of models, or of variants laid over them, for which a dialect has no slot."""
    models, found = project.settings.models, []
    for model_name, model in models.items():
        endpoint = project.settings.endpoints.get(model.endpoint)
        if endpoint is None or endpoint.dialect != name:
            continue
        own = set(unsent_settings(models[model.laid.model].settings, dialect)) if model.laid else set()
        place = f"variants.{model.laid.variant}" if model.laid else f"models.{model_name}"
        for setting in unsent_settings(model.settings, dialect):
            if setting not in own:
                what = f"'{setting}' would not be sent: {file} has no slot for it"
                remedy = f"put {{{setting}?}} into its body, or take the setting out"
                found.append(Problem(what, remedy, "drovik.toml", f"{place}.settings"))
    return list(dict.fromkeys(found))


def load_project(folder: Path) -> Project:
    """A project with nothing wrong in it.

    :raises ProjectError: with everything that is wrong.
    """
    project, problems = check_project(folder)
    if project is None or problems:
        raise ProjectError(problems)
    return project


@dataclass(frozen=True)
class Selection:
    """What is wanted to be sent: of which tasks and arms (None: of all), the cases of a split or a sample of them.

    `resend` are the statuses of answers that are to be sent again; `recheck` is of how many answers it is only to be
    seen whether they are still the same.
    """

    tasks: Sequence[str] | None = None
    arms: Sequence[str] | None = None
    resend: Sequence[str] = ()
    sample: int | None = None
    seed: int = 1
    recheck: int | None = None
    split: str = "all"
    controls: Sequence[Control] = ()
    """Where given, these controls of the arms are sent, and not the arms themselves."""


@dataclass(frozen=True)
class Planned:
    """A plan, with all that it was made of: the arms by task, their threads, and the pictures' sources."""

    plan: Plan
    arms: dict[str, tuple[Arm, ...]]
    threads: dict[str, list[Thread]]
    sources: Sources

    def requests(self) -> list[Request]:
        """All that is known to be asked, answered or not."""
        return [request for threads in self.threads.values() for one in threads for request in one.every]


def make_plan(project: Project, store: Store, wanted: Selection) -> Planned:
    """What there is to send.

    :raises DrovikError: where a word fits no arm, or a picture is not there.
    """

    chosen = chosen_tasks(project, wanted.tasks)
    every = {task.name: arms_of(task, project.settings) for task in chosen}
    words = wanted.arms or ()
    check_arm_words([arm for one in every.values() for arm in one], words)
    cases = _cases(project, wanted)
    sources = source_digests(project, store, cases)
    sent = {task.name: fitting_arms(every[task.name], words) for task in chosen}
    if wanted.controls:
        sources = source_digests(project, store, project.cases)  # a swap takes the pictures of any
        sent, threads = _controls(project, store, chosen, sent, cases, sources, wanted.controls)
    else:
        threads = {
            task.name: threads_of_task(project, store, task, sent[task.name], cases, sources) for task in chosen
        }
    requests = {name: [request for one in found for request in one.every] for name, found in threads.items()}
    if wanted.recheck:
        plan = _recheck(store, [request for own in requests.values() for request in own], wanted)
        return Planned(plan, sent, threads, sources)
    renew = with_status(project, store, requests, frozenset(wanted.resend)) if wanted.resend else frozenset()
    mixed = [request for row in zip_longest(*requests.values()) for request in row if request is not None]
    waiting = {}
    for task in chosen:
        count = sum(one.state == "before" for one in threads[task.name])
        if count and task.after and task.after.task not in sent:
            waiting[f"{task.name} waits for {task.after.task}"] = count
    plan = plan_sending(
        mixed, store.concluded(), renew, follow=next_request(project, store, sent, sources), waiting=waiting,
        endpoints=dict.fromkeys(arm.model.endpoint for one in sent.values() for arm in one),
    )  # fmt: skip
    return Planned(plan, sent, threads, sources)


def note_answered(store: Store, plan: Plan) -> None:
    """Note what today's arms ask and has its answer from before, be it from another arm's request."""
    store.note_asked([request.asked("") for request in _not_noted(store, plan.known_of)])


def _not_noted(store: Store, answered: Iterable[Request]) -> Iterator[Request]:
    """What has its answer from another arm's request, or from one of before, and is not yet noted as asked."""
    by_arm: dict[tuple[str, str], list[Request]] = {}
    for request in answered:
        by_arm.setdefault((request.task.name, request.arm.digest), []).append(request)
    for arm, requests in by_arm.items():
        known = store.asked(*arm)
        yield from [request for request in requests if request.known_as not in known]


def nothing_sent(store: Store, plan: Plan) -> Tally:
    """The counts of a run that has nothing to send; what sends, and is slow to load, is not loaded for it."""
    note_answered(store, plan)
    return Tally.of(plan.count(), None)


def _controls(
    project: Project, store: Store, tasks: Sequence[Task], arms: Mapping[str, Sequence[Arm]], cases: Sequence[Case],
    sources: Sources, controls: Sequence[Control],
) -> tuple[dict[str, tuple[Arm, ...]], dict[str, list[Thread]]]:  # fmt: skip
    """The arms of controls by task, and their threads.

    :raises UsageError: for a task that has no controls.
    """
    sent: dict[str, tuple[Arm, ...]] = {}
    threads: dict[str, list[Thread]] = {}
    for task in tasks:
        require_alone(task)
        for control in controls:
            asked = [control_arm(arm, control) for arm in arms[task.name]]
            asks, own = control_task(task, control), control_cases(cases, project.cases, task, control)
            sent[task.name] = (*sent.get(task.name, ()), *asked)
            threads.setdefault(task.name, []).extend(threads_of_task(project, store, asks, asked, own, sources))
    return sent, threads


def _cases(project: Project, wanted: Selection) -> Sequence[Case]:
    cases = chosen_cases(project, wanted.split)
    return cases if wanted.sample is None else sample_of_cases(cases, project.tasks, wanted.sample, wanted.seed)


def _recheck(store: Store, requests: Sequence[Request], wanted: Selection) -> Plan:
    """A plan that asks some of what has an answer again."""

    good = store.answered_well()
    drawn = sample_of_asks(
        [request for request in requests if request.identity in good], wanted.recheck or 0, wanted.seed
    )
    return plan_sending(drawn, (), recheck=True)
