"""Tuned cases beside held-out ones: what tuning on the seen cases was worth, and what is left of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from drovik.comparing.verdict import Estimate, estimate
from drovik.scoring.scores import ArmScores
from drovik.text import counted


@dataclass(frozen=True)
class SplitScore:
    """An arm's score on the cases that prompts were tuned on, on those held out, and the drop between.

    `low` and `high` are the bounds of the drop, the tuned score less the held-out one. An estimate is None where
    nothing of that split is scored.
    """

    arm: str
    tuned: Estimate | None
    held_out: Estimate | None
    drop: float | None = None
    low: float | None = None
    high: float | None = None

    @property
    def is_known(self) -> bool:
        """Whether it is known to score less on held-out cases."""
        return self.low is not None and self.low > 0


def split_scores(tuned: Sequence[ArmScores], held_out: Sequence[ArmScores], measure: str) -> tuple[SplitScore, ...]:
    """Each arm's scores on both splits, the best on the held-out cases first."""
    theirs = {arm.arm: arm for arm in held_out}
    found = [_split_score(arm.arm, _estimate(arm, measure), _estimate(theirs.get(arm.arm), measure)) for arm in tuned]
    return tuple(sorted(found, key=lambda one: -one.held_out.value if one.held_out else math.inf))


def _estimate(arm: ArmScores | None, measure: str) -> Estimate | None:
    score = arm.measure(measure) if arm else None
    return estimate(score) if score is not None and score.scored else None


def _split_score(arm: str, tuned: Estimate | None, held_out: Estimate | None) -> SplitScore:
    if tuned is None or held_out is None:
        return SplitScore(arm, tuned, held_out)
    low, high = independent_difference(tuned, held_out)
    return SplitScore(arm, tuned, held_out, tuned.value - held_out.value, low, high)


def independent_difference(first: Estimate, second: Estimate) -> tuple[float, float]:
    """The interval of the first score less the second, of different cases, from the intervals of both.

    R. G. Newcombe's method 10 (Stat. Med. 17, 1998, p. 873), and for other scores than shares the same by G. Y. Zou
    and A. Donner (Stat. Med. 27, 2008).
    """
    at = first.value - second.value
    below = math.hypot(first.value - first.low, second.high - second.value)
    above = math.hypot(first.high - first.value, second.value - second.low)
    return at - below, at + above


_ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth")


def look_text(task: str, count: int, cases: int) -> str:
    """Which look this is, and what looking costs."""
    which = f"the {_ORDINALS[count - 1]} look" if count <= len(_ORDINALS) else f"look number {count}"
    told = f"This is {which} at the {counted(cases, 'held-out case')} of '{task}'"
    if count == 1:
        return f"{told}. Looks are counted: whoever chooses by them tunes on them."
    return f"{told}. What was chosen after the looks before was chosen by these cases too, and is flattered by it."
