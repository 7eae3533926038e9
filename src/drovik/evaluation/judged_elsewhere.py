"""Answers held against expected outputs on other machines: partitions of pairs go there, scores come back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from drovik.parsing.answer_text import Answer
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.judged_pairs import Judged, PairKey
from drovik.scoring.measure import Measure
from drovik.scoring.scores import Expectations

Answers = Mapping[str, Mapping[str, Sequence[Answer | None]]]
"""By arm and case, the answers to all repeats."""


class JudgesElsewhere(Protocol):
    """Runs measures on other machines."""

    def judged(
        self, task: Task, cases: Sequence[Case], measure: str, pairs: Sequence[tuple[str, Answer]]
    ) -> list[Judged]:
        """What answers come to, in order.

        :param cases: all of the task's, for what measures know of them.
        :param pairs: of each answer the id of the case that it is about.
        """


def judge_elsewhere(
    judges: JudgesElsewhere, known: Expectations, measures: Sequence[Measure], cases: Sequence[Case], answers: Answers
) -> None:
    """Have each pair of answer and expected output judged elsewhere that has not been; the same pair once.

    What a measure cannot be asked without knowing more than answer and case is left to this program.
    """
    own = {one.name for one in known.task.measures}
    for measure in measures:
        if not measure.is_of_pairs or measure.name not in own:
            continue
        expected = known.of(measure, cases)
        wanted: dict[PairKey, tuple[Case, Answer]] = {}
        for case in (case for case in cases if case.id in expected):
            key = known.key(case)
            for of_arm in answers.values():
                for answer in of_arm.get(case.id, ()):
                    if answer is not None and answer.text:
                        wanted.setdefault((key, answer.status, answer.how, answer.text), (case, answer))
        judged = known.judged(measure)
        left = {pair: of for pair, of in wanted.items() if judged.find(pair) is None}
        if left:
            done = judges.judged(
                known.task, cases, measure.name, [(case.id, answer) for case, answer in left.values()]
            )
            for pair, one in zip(left, done, strict=True):
                judged.add(pair, one)
