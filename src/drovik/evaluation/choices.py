"""What each arm of a task is made of: model, prompt, prep and variant, as factors that are compared."""

from __future__ import annotations

from collections.abc import Mapping

from drovik.evaluation.gathering import TaskView
from drovik.project.arms import Arm

PLAIN = "as it is"
"""The level of a model without a variant."""


def choices_of(view: TaskView) -> dict[str, Mapping[str, str]]:
    """The choices of each arm by its name, in the order in which they were written."""
    asked = [arm for arm in view.arms if arm.outside is None]  # what was brought in was chosen by others
    usual = next((arm.prep_name for arm in asked if arm.model.laid is None or arm.model.laid.prep is None), "")
    return {arm.name: _choices(arm, usual) for arm in asked}


def _choices(arm: Arm, usual: str) -> Mapping[str, str]:
    """A prep that comes with a variant is part of that choice, and none of its own."""
    laid = arm.model.laid
    mark = arm.name.partition("@")[2]
    return {
        "prompt": f"{arm.prompt_name}@{mark}" if mark else arm.prompt_name,
        "prep": usual if laid and laid.prep is not None else arm.prep_name,
        "variant": laid.variant if laid else PLAIN,
        "model": laid.model if laid else arm.model_name,
    }
