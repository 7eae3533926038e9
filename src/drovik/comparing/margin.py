"""A practical margin: what a difference comes to where some points more or less make no difference in use.

The interval decides (G. Piaggio and others, JAMA 308, 2012, on trials of non-inferiority): a lower bound above 0 is
better, one above minus the margin is no worse. No further comparison is made by asking both.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from drovik.comparing.verdict import Verdict
from drovik.text import score_text

Standing = Literal["better", "no worse", "not known", "no better", "worse"]
"""From the best that can be said of an arm to the worst."""


def standing_of(low: float, high: float, margin: float) -> Standing:
    """What may be said of an arm whose score is between `low` and `high` above another's.

    :param margin: what makes no difference, as a share; more than 0.
    """
    if low > 0:
        return "better"
    if high < 0:
        return "worse"
    if low > -margin:
        return "no worse"
    if high < margin:
        return "no better"
    return "not known"


def standing(verdict: Verdict, margin: float) -> Standing:
    """How the second arm of a verdict stands beside the first; "not known" also where there is no verdict."""
    if verdict.outcome in ("no verdict", "too few cases"):
        return "not known"
    return standing_of(verdict.low, verdict.high, margin)


def standing_of_first(verdict: Verdict, margin: float) -> Standing:
    """The same of the first arm beside the second."""
    if verdict.outcome in ("no verdict", "too few cases"):
        return "not known"
    return standing_of(-verdict.high, -verdict.low, margin)


def margin_text(verdict: Verdict, margin: float) -> str:
    """How the second arm stands beside the first within a margin, in one sentence."""
    found, plain = standing(verdict, margin), verdict.after.coefficient
    about = points_text(margin, plain)
    small = max(abs(verdict.low), abs(verdict.high)) < margin
    told = {
        "better": "is better",
        "worse": "is worse",
        "no worse": "is no worse",
        "no better": "is no better",
        "not known": "may be worse or better: not known",
    }[found]
    if found in ("better", "worse") and small:
        told += ", and by less than that"
    elif found == "no worse" and small:
        told += ", and no better"
    return f"Within a margin of {about} {verdict.second} {told}."


def margin_list(verdicts: Sequence[Verdict], margin: float) -> str:
    """How each arm stands beside the best within a margin, in one sentence.

    :param verdicts: of the best, second, beside each other arm, first.
    """
    if not verdicts:
        return ""
    by: dict[Standing, list[str]] = {}
    for one in verdicts:
        by.setdefault(standing_of_first(one, margin), []).append(one.first)
    order: tuple[Standing, ...] = ("better", "no worse", "not known", "no better", "worse")
    told = "; ".join(f"{word}: {', '.join(by[word])}" for word in order if word in by)
    best = verdicts[0]
    return f"Beside {best.second}, within a margin of {points_text(margin, best.after.coefficient)}: {told}."


def points_text(margin: float, coefficient: bool) -> str:
    """A margin in points, or as it is for a coefficient."""
    return score_text(margin, True) if coefficient else f"{margin * 100:g} points"
