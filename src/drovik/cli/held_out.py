"""Held-out cases in what commands print: scores beside those of tuned cases, and the count of looks at them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.printing import heading, say, table
from drovik.text import bounds_text, difference_text

if TYPE_CHECKING:
    from drovik.comparing.held_out import SplitScore
    from drovik.comparing.verdict import Estimate
    from drovik.evaluation.gathering import TaskView


class Looks:
    """The looks that a command takes at held-out scores; each is counted in the store.

    :param split: of the views; where it leaves the held-out cases out, there is nothing to count.
    """

    def __init__(self, store: workflow.Store, views: Sequence[TaskView], split: str) -> None:
        self._found: list[tuple[str, int, int]] = []
        for view in views if split != "tune" else ():
            cases = sum(case.split == "held_out" for case in view.cases)
            seen = [arm.arm for arm in view.scores if any(score.scored for score in arm.measures)]
            if cases and seen:
                self._found.append((view.task.name, store.looks.add(view.task.name, seen), cases))

    def document(self) -> dict[str, Any]:
        """How many looks there were, by task, for `--json`; nothing where this is none."""
        return {"held_out_looks": {task: count for task, count, _ in self._found}} if self._found else {}

    def show(self, as_json: bool = False) -> None:
        """Say which look this is."""
        for task, count, cases in self._found if not as_json else ():
            say(workflow.look_text(task, count, cases), style="yellow")


def show_splits(title: str, measure: str, found: Sequence[SplitScore]) -> None:
    """A table of the arms on both splits."""
    heading(f"{title}  (tuned and held-out cases, on {measure})")
    rows = []
    for one in found:
        drop = ""
        if one.drop is not None and one.low is not None and one.high is not None and one.tuned is not None:
            plain = one.tuned.coefficient
            low, high = bounds_text(-one.high, -one.low, plain, signed=True)
            drop = f"{difference_text(-one.drop, plain)} ({low} to {high})"
        rows.append((one.arm, *_cells(one.tuned), *_cells(one.held_out), drop))
    table(("arm", "tuned", "cases", "held out", "cases", "held out beside tuned"), rows, numbers=(2, 4))
    known = [one.arm for one in found if one.is_known]
    if known:
        say(f"Known to score less on held-out cases: {', '.join(known)}.", style="bold")
    elif any(one.drop is not None for one in found):
        say("No arm is known to score less on held-out cases, as far as these tell.")
    else:
        say("Nothing is scored on both: mark cases by drovik split, and send with --split held_out.")


def _cells(one: Estimate | None) -> tuple[str, str]:
    return ("–", "") if one is None else (workflow.with_interval(one), str(one.cases))
