"""How many cases are needed to see a difference, and of which labels, from what is known of two arms so far.

For right-or-wrong measures by the share s of cases in which the arms differ: (1.96 + 0.84)^2 (s - d^2) / d^2
(R. J. Connor, Biometrics 43, 1987); for others by the spread of the difference over the cases. The power is 80 %, the
level 5 %.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from drovik.comparing.contrast import LEAST, POWER, case_score, contrast_of, sample_of
from drovik.comparing.intervals import wilson_interval
from drovik.comparing.verdict import common_cases
from drovik.scoring.scores import ArmScores
from drovik.text import about

_SAME = 1e-12


@dataclass(frozen=True)
class LabelPlan:
    """A label: the cases that there are, in how many of them the arms differ, and how many are needed in all."""

    label: str
    cases: int
    differing: int
    needed: int

    @property
    def more(self) -> int:
        """How many more cases of it are needed."""
        return max(0, self.needed - self.cases)


@dataclass(frozen=True)
class CasePlan:
    """What it takes to see a difference between two arms. `low` and `high` say how far `needed` is known.

    `by` says what it was computed from: scores, or answers alone where too few cases have an expected output.
    """

    first: str
    second: str
    difference: float
    needed: int
    low: int
    high: int
    have: int
    labels: tuple[LabelPlan, ...]
    by: str = "scores"


def cases_for(share: float, difference: float) -> int:
    """The cases that show a difference of two paired shares, where so large a share of cases differ."""
    seen = max(share, difference)  # arms that are so far apart differ in as many cases at the least
    return max(LEAST, math.ceil(POWER**2 * (seen - difference**2) / difference**2))


def plan_cases(
    first: ArmScores, second: ArmScores, measure: str, difference: float, label_of: Mapping[str, str]
) -> CasePlan | None:
    """The plan by scores; None where fewer than six cases are scored of both arms.

    :param difference: as a share.
    :param label_of: the label of each case, by its id.
    """
    one, other = first.measure(measure), second.measure(measure)
    pairs = common_cases(one, other) if one and other else []
    if len(pairs) < LEAST or one is None:
        return None
    contrast = contrast_of(*(sample_of(first.task, one.measure, cases) for cases in zip(*pairs, strict=True)))
    differs = {mine.case.id: abs(case_score(mine).value - case_score(theirs).value) > _SAME for mine, theirs in pairs}
    n, count = len(pairs), sum(differs.values())
    if contrast.changed:
        needed, low, high = _by_share(count, n, difference)
    else:
        low_share, high_share = wilson_interval(count, n)
        variance = n * contrast.spread.error**2
        at = max(count / n, _SAME)
        needed, low, high = (
            max(LEAST, math.ceil(POWER**2 * max(variance, difference**2) * share / at / difference**2))
            for share in (at, low_share, high_share)
        )
    return CasePlan(first.arm, second.arm, difference, needed, low, high, n, _by_label(differs, label_of, needed, n))


def plan_by_answers(
    first: str, second: str, differs: Mapping[str, bool], difference: float, label_of: Mapping[str, str]
) -> CasePlan | None:
    """The plan before anything is labelled: arms that answer differently can differ in their scores; no others can.

    :param differs: whether the two arms answered a case differently, by its id.
    """
    if len(differs) < LEAST:
        return None
    needed, low, high = _by_share(sum(differs.values()), len(differs), difference)
    labels = _by_label(differs, label_of, needed, len(differs))
    return CasePlan(first, second, difference, needed, low, high, len(differs), labels, "answers")


def _by_share(count: int, n: int, difference: float) -> tuple[int, int, int]:
    low, high = wilson_interval(count, n)
    found = sorted(cases_for(share, difference) for share in (count / n, low, high))
    return cases_for(count / n, difference), found[0], found[-1]


def _by_label(
    differs: Mapping[str, bool], label_of: Mapping[str, str], needed: int, have: int
) -> tuple[LabelPlan, ...]:
    """Each label as frequent as it is now: another mixture would measure another score."""
    by: dict[str, list[bool]] = {}
    for name, differ in differs.items():
        by.setdefault(label_of.get(name, ""), []).append(differ)
    rows = sorted(by.items(), key=lambda one: (-len(one[1]), one[0]))
    return tuple(
        LabelPlan(label, len(found), sum(found), math.ceil(needed * len(found) / have)) for label, found in rows
    )


def plan_text(plan: CasePlan, points: str) -> str:
    """How many cases are needed, in one sentence."""
    what = (
        "in their scores" if plan.by == "scores" else "in their answers (none is labelled, so this is an upper bound)"
    )
    two = f"{plan.first} and {plan.second}"
    told = f"To see {points} between {two} with a power of 80 %: about {about(plan.needed)} cases"
    if plan.needed <= plan.have:
        return f"{told}, and there are {plan.have}: enough, as far as the two differ {what}."
    return (
        f"{told} ({about(plan.low)} to {about(plan.high)}, by how the two differ {what}); there are {plan.have}, "
        f"so {about(plan.needed - plan.have)} more."
    )


def label_rows(plan: CasePlan) -> Sequence[tuple[str, ...]]:
    """A row a label for a table: what there is, where the arms differ, what is needed."""
    return [(one.label, str(one.cases), str(one.differing), str(one.needed), str(one.more)) for one in plan.labels]
