"""What one prompt version did to another's answers: a verdict for each model that was asked by both."""

from __future__ import annotations

from drovik.comparing.verdict import Verdict, common_cases, compare_arms
from drovik.evaluation.gathering import TaskView
from drovik.project.arms import Arm


def prompt_verdicts(view: TaskView, first: str, second: str) -> list[Verdict]:
    """The verdicts between arms of the first version and the same of the second, on what the task decides on.

    Arms that have no scored case in common are left out, and so is what was edited since or brought in.
    """
    measure = str(view.task.decide_on)
    found = []
    for arm in _asking(view, second):
        before = next((one for one in _asking(view, first) if _same_but_prompt(one, arm)), None)
        if before is None:
            continue
        sides = view.score_of(before.name), view.score_of(arm.name)
        scores = [one.measure(measure) for one in sides]
        if scores[0] and scores[1] and common_cases(scores[0], scores[1]):
            found.append(compare_arms(*sides, measure))
    return found


def _asking(view: TaskView, prompt: str) -> list[Arm]:
    return [arm for arm in view.arms if arm.outside is None and arm.prompt_name == prompt and "@" not in arm.name]


def _same_but_prompt(one: Arm, other: Arm) -> bool:
    return (one.model_name, one.prep_name) == (other.model_name, other.prep_name)
