"""Which arm of a task a word on the command line means."""

from __future__ import annotations

from typing import TYPE_CHECKING

from drovik.errors import Problem, UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from drovik.evaluation.gathering import TaskView
    from drovik.scoring.scores import ArmScores


def arms_meant(view: TaskView, word: str) -> list[ArmScores]:
    """The arm of that name, or all that begin with it."""
    exact = [one for one in view.scores if one.arm == word]
    return exact or [one for one in view.scores if one.arm.startswith(f"{word}/")]


def views_having(views: Sequence[TaskView], words: Sequence[str]) -> list[TaskView]:
    """The tasks that have an arm for each word.

    :raises UsageError: where none has, with what a word lacks.
    """
    having = [view for view in views if all(arms_meant(view, word) for word in words)]
    if not having:
        for word in words:
            arm_meant(next((view for view in views if not arms_meant(view, word)), views[0]), word)
    return having


def arm_meant(view: TaskView, word: str) -> ArmScores:
    """The one arm that a word means.

    :raises UsageError: where it means none or several.
    """
    fitting = arms_meant(view, word)
    if len(fitting) != 1:
        several = ", ".join(one.arm for one in fitting) or f"no arm of '{view.task.name}'"
        raise UsageError(Problem(f"'{word}' means {several}", "name one arm in full, like gull/v2"))
    return fitting[0]
