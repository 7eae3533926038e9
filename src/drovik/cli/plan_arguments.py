"""What a command that sends, or quotes, plans: the chosen tasks and arms, all cases or a sample, again or anew."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import zip_longest
from typing import TYPE_CHECKING

from drovik.cli.project_arguments import add_choice_arguments

if TYPE_CHECKING:
    from drovik.planning.conversation import Thread
    from drovik.planning.plan import Ask, Plan
    from drovik.planning.sources import Sources
    from drovik.project.arms import Arm
    from drovik.project.cases import Case
    from drovik.project.reading import Project
    from drovik.store.store import Store

STATUSES = ("ok", "off_schema", "not_json", "cut_off", "refused", "empty", "failed")


def add_plan_arguments(parser: argparse.ArgumentParser) -> None:
    """What to send."""
    add_choice_arguments(parser)
    parser.add_argument("--again", action="append", choices=STATUSES, help="also ask anew what has such an answer")
    parser.add_argument("--sample", type=positive, metavar="N", help="only so many cases, spread over the labels")
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="draws another sample (default: 1)")


def positive(text: str) -> int:
    """A whole number from 1, for argparse."""
    number = int(text)
    if number < 1:
        raise ValueError
    return number


@dataclass(frozen=True)
class Wanted:
    """What a command line asks to be sent."""

    tasks: Sequence[str] | None = None
    arms: Sequence[str] | None = None
    again: Sequence[str] = ()
    sample: int | None = None
    seed: int = 1
    recheck: int | None = None

    @staticmethod
    def of(arguments: argparse.Namespace) -> Wanted:
        """As the options say."""
        recheck = getattr(arguments, "recheck", None)
        again = tuple(arguments.again or ())
        return Wanted(arguments.task, arguments.arm, again, arguments.sample, arguments.seed, recheck)


@dataclass(frozen=True)
class Planned:
    """A plan, with all that it was made of: the arms by task, their threads, and the pictures' sources."""

    plan: Plan
    arms: dict[str, tuple[Arm, ...]]
    threads: dict[str, list[Thread]]
    sources: Sources

    def asks(self) -> list[Ask]:
        """All that is known to be asked, answered or not."""
        return [ask for threads in self.threads.values() for one in threads for ask in one.every]


def make_plan(project: Project, store: Store, wanted: Wanted) -> Planned:
    """What there is to send.

    :raises DrovikError: where a word fits no arm, or a picture is not there.
    """
    from drovik.evaluation.gathering import chosen_tasks
    from drovik.planning.answers import with_status
    from drovik.planning.conversation import follower, threads_of
    from drovik.planning.plan import plan_sending
    from drovik.planning.sources import source_digests
    from drovik.project.arms import arms_of, check_arm_words, fitting_arms

    chosen = chosen_tasks(project, wanted.tasks)
    every = {task.name: arms_of(task, project.settings) for task in chosen}
    words = wanted.arms or ()
    check_arm_words([arm for one in every.values() for arm in one], words)
    cases = _cases(project, wanted)
    sources = source_digests(project, store, cases)
    sent = {task.name: fitting_arms(every[task.name], words) for task in chosen}
    threads = {task.name: threads_of(project, store, task, sent[task.name], cases, sources) for task in chosen}
    asks = {name: [ask for one in found for ask in one.every] for name, found in threads.items()}
    if wanted.recheck:
        plan = _recheck(store, [ask for own in asks.values() for ask in own], wanted)
        return Planned(plan, sent, threads, sources)
    renew = with_status(project, store, asks, frozenset(wanted.again)) if wanted.again else frozenset()
    mixed = [ask for row in zip_longest(*asks.values()) for ask in row if ask is not None]
    waiting = {}
    for task in chosen:
        count = sum(one.state == "before" for one in threads[task.name])
        if count and task.after and task.after.task not in sent:
            waiting[f"{task.name} waits for {task.after.task}"] = count
    plan = plan_sending(
        mixed, store.concluded(), renew, follow=follower(project, store, sent, sources), waiting=waiting,
        endpoints=dict.fromkeys(arm.model.endpoint for one in sent.values() for arm in one),
    )  # fmt: skip
    return Planned(plan, sent, threads, sources)


def _cases(project: Project, wanted: Wanted) -> Sequence[Case]:
    from drovik.planning.sampling import sample_of_cases

    if wanted.sample is None:
        return project.cases
    return sample_of_cases(project.cases, project.tasks, wanted.sample, wanted.seed)


def _recheck(store: Store, asks: Sequence[Ask], wanted: Wanted) -> Plan:
    """A plan that asks some of what has an answer once more."""
    from drovik.planning.plan import plan_sending
    from drovik.planning.sampling import sample_of_asks

    good = store.answered_well()
    drawn = sample_of_asks([ask for ask in asks if ask.identity in good], wanted.recheck or 0, wanted.seed)
    return plan_sending(drawn, (), recheck=True)
