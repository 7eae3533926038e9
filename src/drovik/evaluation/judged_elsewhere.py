"""Answers held against expected outputs ahead of the scores: by other processes and machines, each pair once."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, NamedTuple, Protocol

from drovik.parsing.answer_text import Answer
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.arm_scores import score_case
from drovik.scoring.judged_pairs import Judged, JudgedPairs, PairKey
from drovik.scoring.measure import Measure
from drovik.scoring.scores import Expectations

_AT_ONCE = 10_000
"""Pairs that are held in memory beside what they come to."""
_JUDGED_BY = Answer._fields.index("note") + 1
"""Members of an answer: those from `model` on are what it took."""

Answers = Mapping[str, Mapping[str, Sequence[Answer | None]]]
"""By arm and case, the answers to all repeats."""


class Pair(NamedTuple):
    """An answer, and what a measure looks at of the expected output of its case."""

    case: Case
    expected: object
    answer: Answer

    def packed(self) -> tuple[Any, ...]:
        """All that it is judged by, small enough to travel."""
        return tuple(self.case.refusal), self.expected, tuple(self.answer[:_JUDGED_BY])

    @classmethod
    def unpacked(cls, packed: tuple[Any, ...]) -> Pair:
        """What `packed` packed; the case has nothing else."""
        refusal, expected, answer = packed
        return cls(Case("", (), {}, {}, None, "tune", frozenset(refusal), ""), expected, Answer(*answer))


def judge_pair(task: Task, measure: Measure, pair: Pair) -> Judged:
    """What an answer comes to by a measure that looks at nothing but the pair."""
    one = score_case(task, measure, pair.case, pair.answer, pair.expected)
    return Judged(one.score, one.as_read, one.note)


class JudgesElsewhere(Protocol):
    """Runs measures in other processes, or on other machines."""

    def judged(self, task: Task, measure: Measure, pairs: Sequence[Pair]) -> list[Judged]:
        """What answers come to, in order."""


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
        judged = known.judged(measure)
        every = _not_judged(known, judged, measure, cases, answers)
        while judged.has_room and (wanted := dict(islice(every, _AT_ONCE))):
            done = judges.judged(known.task, measure, list(wanted.values()))
            for key, one in zip(wanted, done, strict=True):
                judged.add(key, one)


def _not_judged(
    known: Expectations, judged: JudgedPairs, measure: Measure, cases: Sequence[Case], answers: Answers
) -> Iterator[tuple[PairKey, Pair]]:
    """The pairs that nobody judged; the same one may come several times.

    They come case by case, so that what is worked out of an expected output is there for the answers of all arms.
    """
    expected = known.of(measure, cases)
    for case in cases:
        if case.id not in expected:
            continue
        key = known.key(case)
        for of_arm in answers.values():
            for answer in of_arm.get(case.id, ()):
                if answer is not None and answer.text:
                    pair = key, answer.status, answer.how, answer.text
                    if judged.find(pair) is None:
                        yield pair, Pair(case, expected[case.id], answer)
