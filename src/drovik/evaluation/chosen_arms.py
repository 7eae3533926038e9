"""Which cases, tasks and arms words name: arms of today, those of before something was edited, those of a period."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from drovik.planning.controls import MARK as CONTROL_MARK
from drovik.project.arms import Arm, arms_of, fitting_arms, outside_arms
from drovik.project.cases import Case
from drovik.project.periods import period_of
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.store.answer_store import Store

MARK = 4
"""This many characters of its digest tell an older arm apart."""


def chosen_cases(project: Project, split: str) -> tuple[Case, ...]:
    """The cases of a split, or all."""
    return tuple(case for case in project.cases if split in ("all", case.split))


def chosen_tasks(project: Project, names: Sequence[str] | None) -> tuple[Task, ...]:
    """The tasks of those names, or all."""
    return tuple(project.task(name) for name in names) if names else project.tasks


def all_arms(project: Project, task: Task) -> tuple[Arm, ...]:
    """The arms of a task: those that are asked, and those that were brought in."""
    return arms_of(task, project.settings) + outside_arms(task, project.outside.get(task.name, ()))


def chosen_arms(project: Project, store: Store, task: Task, words: Sequence[str]) -> tuple[Arm, ...]:
    """The arms of a task that words name, or all of today."""
    current = all_arms(project, task)
    if not words:
        return current
    found = list(fitting_arms(current, [word for word in words if "@" not in word]) if _plain(words) else ())
    for word in words:
        if "@" in word:
            found += _older(store, task, current, word) or _of_a_period(current, word)
    return tuple({(arm.name, arm.digest): arm for arm in found}.values())


def _plain(words: Sequence[str]) -> bool:
    return any("@" not in word for word in words)


def _older(store: Store, task: Task, current: Sequence[Arm], word: str) -> list[Arm]:
    """An arm as it was: its answers are read by the model's endpoint of today."""
    name, _, mark = word.partition("@")
    arm = next((one for one in current if one.name == name), None)
    known = store.older_arms(task.name, [one.digest for one in current])
    digests = [digest for digest, asked, _ in known if asked == name and digest.startswith(mark)]
    return [replace(arm, name=f"{name}@{one[:MARK]}", digest=one) for one in digests] if arm else []


def _of_a_period(current: Sequence[Arm], word: str) -> list[Arm]:
    """The arms of a word such as `fulmar/v2@2026-03`, as they answered in those days."""
    name, _, days = word.partition("@")
    period = period_of(days)
    fitting = [arm for arm in fitting_arms(current, [name]) if arm.outside is None] if period else []
    return [replace(arm, name=f"{arm.name}@{days}", period=period) for arm in fitting]


def older_names(project: Project, store: Store, task: Task) -> tuple[tuple[str, int], ...]:
    """The arms of before by name, with the number of cases they asked about."""
    current = [arm.digest for arm in arms_of(task, project.settings)]
    return tuple(
        (f"{name}@{digest[:MARK]}", count)
        for digest, name, count in store.older_arms(task.name, current)
        if CONTROL_MARK not in name
    )
