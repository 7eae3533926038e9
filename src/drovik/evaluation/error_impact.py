"""What to fix first: the causes of an arm's misses, and what the score would be if each were gone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from drovik.project.tasks import Task
from drovik.scoring.causes.cause_table import Cause, Owner, cause
from drovik.scoring.measure import Finding, expected_at
from drovik.scoring.scores import MeasureScore, ScoredCase


@dataclass(frozen=True)
class CauseImpact:
    """A cause as it is with one arm: how many cases and findings it has, and the score if it were gone.

    `alone` is how many cases would be fully correct without it; `suspects` is how many of its cases have an expected
    output that is suspect. `missed` is how many cases of the arm have a finding at all.
    """

    cause: Cause
    cases: int
    findings: int
    alone: int
    suspects: int
    missed: int
    score: float
    without: float
    examples: tuple[str, ...]
    coefficient: bool = False

    @property
    def owner(self) -> Owner:
        """Who can fix it: the expected output, where most of its cases are suspect."""
        return "expected output" if 2 * self.suspects > self.cases else self.cause.owner

    @property
    def remedy(self) -> str:
        """What to do about it, in one line."""
        if self.owner == "expected output":
            return "see whether the expected outputs are right: drovik score --suspects"
        return self.cause.remedy

    @property
    def line(self) -> str:
        """It in a line."""
        if self.cases == 1:
            return f"1 of {self.missed} misses: {self.cause}: {self.remedy}"
        return f"{self.cases} of {self.missed} misses are {self.cause.many}: {self.remedy}"


MOST_EXAMPLES = 5
"""Cases named for a cause."""
_EASIEST: tuple[Owner, ...] = ("measure", "prompt", "expected output", "picture", "model", "nobody knows")
"""Of causes that cost the same, the one that takes least to fix comes first."""


def cause_impacts(task: Task, score: MeasureScore, suspects: Collection[str] = ()) -> list[CauseImpact]:
    """The causes of one measure of one arm, those first whose going would raise the score most.

    Of those that cost the same, what takes least to fix comes first.

    :param suspects: the ids of cases whose expected output is suspect.
    """
    scored = [one for one in score.scored if one.score is not None]
    missed = [one for one in scored if one.score and one.score.findings]
    cases: dict[str, list[ScoredCase]] = {}
    findings: Counter[str] = Counter()
    for one in missed:
        assert one.score is not None
        findings.update(found.cause for found in one.score.findings)
        for name in dict.fromkeys(found.cause for found in one.score.findings):
            cases.setdefault(name, []).append(one)
    without = _Without(task, score, scored)
    found = [
        CauseImpact(
            cause=cause(name),
            cases=len(having),
            findings=findings[name],
            alone=sum(all(each.cause == name for each in _findings(one)) for one in having),
            suspects=sum(one.case.id in suspects for one in having),
            missed=len(missed),
            score=score.value,
            without=without(name, having),
            examples=tuple(one.case.id for one in having[:MOST_EXAMPLES]),
            coefficient=score.measure.is_coefficient,
        )
        for name, having in cases.items()
    ]
    return sorted(found, key=lambda one: (-one.without, _EASIEST.index(one.owner), -one.cases, one.cause))


def _findings(one: ScoredCase) -> Sequence[Finding]:
    return one.score.findings if one.score else ()


class _Without:
    """The score of an arm as it would be if a cause were gone."""

    def __init__(self, task: Task, score: MeasureScore, scored: Sequence[ScoredCase]) -> None:
        self._task, self._measure, self._scored = task, score.measure, scored
        self._totals = score.totals

    def __call__(self, name: str, having: Sequence[ScoredCase]) -> float:
        measure = self._measure
        mended = {
            one.case.id: measure.without(one.score, expected_at(measure, self._task, one.case), {name})
            for one in having
            if one.score is not None
        }
        if measure.is_weighed:
            return measure.combine([mended.get(one.case.id, one.score) for one in self._scored if one.score])
        before = measure.totals([one.score for one in having if one.score])
        after = measure.totals(list(mended.values()))
        return float(measure.score_of(self._totals - before + after))
