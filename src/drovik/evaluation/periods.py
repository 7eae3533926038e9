"""An arm in two periods → what changed between: the model that the service reports, the answers, their statuses."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from drovik.evaluation.gathering import TaskView
from drovik.scoring.agreement import comparable
from drovik.text import counted

_MOST_IDS = 20
"""Ids of changed cases in a line; `--json` has all."""


@dataclass(frozen=True)
class PeriodChange:
    """What changed from the first period to the second, on the cases that were answered in both."""

    first: str
    second: str
    models_before: tuple[str, ...]
    models_now: tuple[str, ...]
    asked: int
    same: int
    changed: tuple[str, ...]
    statuses_before: dict[str, int]
    statuses_now: dict[str, int]


def change_between(view: TaskView, first: str, second: str) -> PeriodChange | None:
    """What changed between two arms, where these are one arm in two periods; else None."""
    arms = {arm.name: arm for arm in view.arms}
    one, other = arms[first], arms[second]
    if one.digest != other.digest or (one.period is None and other.period is None):
        return None
    before, now = view.answers[first], view.answers[second]
    both = [case.id for case in view.cases if case.id in before and case.id in now]
    changed = tuple(name for name in both if comparable(before[name]) != comparable(now[name]))
    return PeriodChange(
        first,
        second,
        tuple(sorted({str(before[name].model) for name in both if before[name].model})),
        tuple(sorted({str(now[name].model) for name in both if now[name].model})),
        len(both),
        len(both) - len(changed),
        changed,
        dict(Counter(str(before[name].status) for name in both)),
        dict(Counter(str(now[name].status) for name in both)),
    )


def change_text(found: PeriodChange) -> list[str]:
    """What changed, a line for each: the model, the answers."""
    lines = []
    if found.models_before != found.models_now:
        names = [", ".join(models) or "none" for models in (found.models_before, found.models_now)]
        lines.append(f"The service reported {names[0]} before, and {names[1]} then.")
    elif found.models_now:
        lines.append(f"The service reported {', '.join(found.models_now)} both times.")
    told = f"Answered alike: {found.same} of {counted(found.asked, 'case')}"
    shown = ", ".join(found.changed[:_MOST_IDS]) + (" …" if len(found.changed) > _MOST_IDS else "")
    lines.append(f"{told}; otherwise: {shown}." if found.changed else f"{told}.")
    return lines
