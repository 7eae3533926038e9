"""Controls: an arm asked without the picture, with a grey or another one, with a wrong hint, or in another order.

What it answers then says whether it looks. A control is an arm beside the real one, `fulmar/v2~blank`: its answers
are kept and paid for as any, and never ranked.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from drovik.errors import Problem, UsageError
from drovik.planning.control_kinds import Control
from drovik.planning.plan import label_of, label_place
from drovik.project.arms import Arm, canonical, digest
from drovik.project.cases import Case
from drovik.project.tasks import Task

MARK = "~"
"""Between an arm and its control."""
HINTED = "hinted"
HINT = "\n\nSomebody who saw it says: {{ hinted }}."


def control_arm(arm: Arm, control: Control) -> Arm:
    """The arm that asks a control's questions."""
    changed = replace(arm, name=f"{arm.name}{MARK}{control}", digest=digest([arm.digest, control]))
    if control == "none":
        return replace(changed, model=arm.model.changed(takes_pictures=False))
    if control == "blank":
        return replace(changed, prep=arm.prep.changed(blank=True))
    if control == "hint":
        prompt = arm.prompt
        hinted = replace(prompt, ask=prompt.ask + HINT, variables=prompt.variables | {HINTED})
        return replace(changed, prompt=hinted)
    return changed


def require_alone(task: Task) -> None:
    """Require that a task's question stands alone, for a control changes one question.

    :raises UsageError: where it comes after another, or judges answers.
    """
    if task.after is not None or task.judges is not None:
        what = f"'{task.name}' takes up other answers, and has no controls"
        raise UsageError(Problem(what, "take a task that stands alone: --task NAME"))


def control_task(task: Task, control: Control) -> Task:
    """The task with what a control changes of it: its labels in another order."""
    if control != "order" or len(task.labels) < 2:
        return task
    turned = sorted(task.labels, key=lambda one: digest(["labels", one]))
    if tuple(turned) == task.labels:
        turned = turned[::-1]
    return replace(task, labels=tuple(turned))


def control_cases(cases: Sequence[Case], every: Sequence[Case], task: Task, control: Control) -> list[Case]:
    """The cases with what a control changes of them: their pictures, or a fact that hints at a wrong answer.

    :param every: all cases of the project: which one is taken from does not depend on which are asked about.
    """
    if control == "order":
        return [case._replace(pictures=case.pictures[::-1]) for case in cases]
    if control not in ("swapped", "hint"):
        return list(cases)
    place = label_place([task])
    ring = sorted(every, key=lambda case: digest(["ring", case.id]))
    at = {case.id: number for number, case in enumerate(ring)}
    found = []
    for case in cases:
        other = _next_unlike(case, ring, at[case.id], task, place, control)
        if other is None:
            continue
        if control == "swapped":
            found.append(case._replace(pictures=other.pictures, regions=other.regions))
        else:
            found.append(case._replace(given={**case.given, HINTED: _in_words(other, task, place)}))
    return found


def _next_unlike(
    case: Case, ring: Sequence[Case], at: int, task: Task, place: tuple[str, str] | None, control: Control
) -> Case | None:
    """The next case of a ring whose answer is another; for a swap also with as many pictures."""
    for step in range(1, len(ring)):
        other = ring[(at + step) % len(ring)]
        if control == "swapped" and len(other.pictures) != len(case.pictures):
            continue
        if control == "hint" and task.name not in other.expected:
            continue
        if _answer(other, task, place) != _answer(case, task, place):
            return other
    return None


def _answer(case: Case, task: Task, place: tuple[str, str] | None) -> str:
    """What is expected of a case, in canonical form; its id where nothing is."""
    if place is not None:
        return label_of(case, place)
    return digest([case.expected[task.name]]) if task.name in case.expected else case.id


def _in_words(case: Case, task: Task, place: tuple[str, str] | None) -> str:
    """What is expected of a case, as a person would say it."""
    if place is not None:
        return label_of(case, place).strip('"')
    expected = case.expected[task.name]
    return expected if isinstance(expected, str) else canonical(expected)
