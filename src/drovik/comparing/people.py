"""What people say, beside what measures say and beside each other: agreement, and what to settle."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from drovik.comparing.judge_agreement import agreement_with_people
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.judgements import TodaysJudgements, by_answer
from drovik.project.reviews import WORTH, Judgement
from drovik.text import counted

FEWEST = 6
"""Of fewer answers kappa says nothing, whatever it comes to."""


@dataclass(frozen=True)
class Agreement:
    """How far two sides agree on the same answers: Cohen's kappa with its 95 % interval, and the share that are the
    same. `apart` are the case and arm of each answer on which they do not, with what either says.
    """

    one: str
    other: str
    answers: int
    kappa: float
    low: float
    high: float
    same: float
    apart: tuple[tuple[str, str, str, str], ...]

    def text(self) -> str:
        """It in a sentence."""
        if self.answers < FEWEST:
            told = f"{self.answers - len(self.apart)} of {counted(self.answers, 'answer')} the same"
            return f"{self.one} beside {self.other}: {told}; so few say nothing of how far they agree"
        told = f"kappa {self.kappa:.2f} (95 % interval {self.low:.2f} to {self.high:.2f})"
        return f"{self.one} beside {self.other}: {told}, {self.same:.0%} the same, {counted(self.answers, 'answer')}"


def _agreement(one: str, other: str, said: Sequence[tuple[tuple[str, str], str, str]]) -> Agreement:
    """
    :param said: case and arm, and what either side says.
    """
    kappa, (low, high), same = agreement_with_people([(first, second) for _, first, second in said])
    apart = tuple((case, arm, first, second) for (case, arm), first, second in said if first != second)
    return Agreement(one, other, len(said), kappa, low, high, same, apart)


def agreement_of_measures(view: TaskView, today: TodaysJudgements) -> list[Agreement]:
    """People beside each measure of a task that says right or wrong: where people are of two minds, the majority."""
    judged = {key: _majority(found) for key, found in by_answer(today.of_answers).items()}
    found = []
    for measure in view.measures:
        if measure.kind == "people":
            continue
        outcomes = {
            (one.case.id, arm.arm): "right" if one.score.value >= 1 else "not right"
            for arm in view.scores
            if (score := arm.measure(measure.name)) is not None
            for one in score.scored
            if one.score is not None
        }
        said = [(key, people, outcomes[key]) for key, people in judged.items() if key in outcomes]
        if said:
            found.append(_agreement("people", measure.name, said))
    return found


def _majority(said: Sequence[Judgement]) -> str:
    """Right or not: an answer that is partly right is not."""
    return "right" if sum(WORTH[one.verdict] == 1 for one in said) * 2 > len(said) else "not right"


def agreement_of_people(today: TodaysJudgements) -> list[Agreement]:
    """Every two people beside each other, on the answers that both judged; what they differ on is to be settled."""
    judged = by_answer(today.of_answers)
    people = [name for name, _ in Counter(one.by for one in today.of_answers).most_common()]
    found = []
    for one, other in itertools.combinations(people, 2):
        said = [
            (key, mine[one], mine[other])
            for key, judgements in judged.items()
            if {one, other} <= set(mine := {by.by: str(by.verdict) for by in judgements})
        ]
        if said:
            found.append(_agreement(one or "somebody", other or "somebody", said))
    return found
