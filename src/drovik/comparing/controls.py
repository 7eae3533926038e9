"""What a control says of an arm: whether it looks, follows a hint, or minds the order."""

from __future__ import annotations

from drovik.comparing.verdict import compare_arms, estimate, with_interval
from drovik.errors import UsageError
from drovik.evaluation.controls import ControlScores
from drovik.scoring.scores import ArmScores
from drovik.text import percent, score_text

_WITHOUT = {
    "blank": "With a grey picture",
    "swapped": "With another case's picture",
    "none": "Without the picture",
}
_MUCH = 0.5
"""Of the real score; a control that surely has as much says that much can be answered without looking."""


def control_text(found: ControlScores, real: ArmScores, measure: str) -> str:
    """What a control's score means beside that of the arm itself, in one sentence; empty where nothing can be."""
    theirs, own = found.scores.measure(measure), real.measure(measure)
    if theirs is None or own is None or not theirs.scored or not own.scored:
        return ""
    try:
        verdict = compare_arms(found.scores, real, measure)
    except UsageError:
        return ""
    plain = own.measure.is_coefficient
    got, alone = with_interval(estimate(theirs)), score_text(verdict.after.value, plain)
    if found.control in _WITHOUT:
        told = f"{_WITHOUT[found.control]} {found.arm} gets {got}, with its own {alone}"
        if verdict.outcome != "better":
            return f"{told}: not known to look, this question may be answered without."
        if verdict.before.low >= _MUCH * verdict.after.value:
            return f"{told}: it looks, but much of this question can be answered without."
        return f"{told}: it looks."
    if found.control == "hint":
        follows = "it follows the hint" if verdict.outcome == "better" else "it is not known to be led by it"
        return f"With a wrong answer in the question {found.arm} gets {got}, without {alone}: {follows}."
    share = percent(found.moved / found.asked) if found.asked else "–"
    told = f"With labels and pictures in another order {found.arm} answers {share} of {found.asked} cases otherwise"
    known = verdict.outcome in ("better", "worse")
    return f"{told}, and gets {got} in place of {alone}{'' if known else ', which may be chance'}."
