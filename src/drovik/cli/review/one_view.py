"""Which task is judged, where nobody says."""

from __future__ import annotations

from typing import TYPE_CHECKING

from drovik.errors import Problem, UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from drovik.evaluation.gathering import TaskView


def one_view(views: Sequence[TaskView]) -> TaskView:
    """The task to judge.

    :raises UsageError: where there are several, and none was named.
    """
    having = [view for view in views if any(view.answers[arm.name] for arm in view.arms) and not view.task.judges]
    if not having:
        raise UsageError(Problem("there is nothing to judge yet", "send first: drovik send"))
    if len(having) > 1:
        names = ", ".join(view.task.name for view in having)
        raise UsageError(Problem("several tasks have answers", f"say which: --task NAME, one of {names}"))
    return having[0]
