"""Answers held against expected outputs ahead of the scores: by other processes and machines, each pair once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple, Protocol

from drovik.following import following
from drovik.parsing.answer_text import Answer
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.arm_scores import score_case
from drovik.scoring.judged_pairs import Judged, JudgedPairs, PairKey
from drovik.scoring.measure import Measure
from drovik.scoring.scores import Expectations

_KEPT_AT_ONCE = 5_000
"""Pairs that are judged until they are kept."""
_JUDGED_BY = Answer._fields.index("note") + 1
"""Members of an answer: those from `model` on are what it took."""

Answers = Mapping[str, Mapping[str, Sequence[Answer | None]]]
"""By arm and case, the answers to all repeats."""


class Pair(NamedTuple):
    """An answer, and what a measure looks at of the expected output of its case; what both together are known by."""

    case: Case
    expected: object
    answer: Answer
    key: PairKey = ("", "", "", "")

    def packed(self) -> tuple[Any, ...]:
        """All that it is judged by, small enough to travel; the key stays here."""
        return tuple(self.case.refusal), self.expected, tuple(self.answer[:_JUDGED_BY])

    @classmethod
    def unpacked(cls, packed: tuple[Any, ...]) -> Pair:
        """What `packed` packed; the case has nothing else."""
        refusal, expected, answer = packed
        return cls(Case("", (), {}, {}, None, "tune", frozenset(refusal), ""), expected, Answer(*answer))


JudgedPart = tuple[Sequence[Pair], Sequence[Judged]]


def judge_pair(task: Task, measure: Measure, pair: Pair) -> Judged:
    """What an answer comes to by a measure that looks at nothing but the pair."""
    one = score_case(task, measure, pair.case, pair.answer, pair.expected)
    return Judged(one.score, one.as_read, one.note)


class JudgesElsewhere(Protocol):
    """Runs measures in other processes, or on other machines."""

    def judged(self, task: Task, measure: Measure, pairs: Iterable[Pair]) -> Iterator[JudgedPart]:
        """Parts of the pairs with what these come to, as they are ready; no more pairs are taken than are needed."""

    def rest(self) -> None:
        """Nothing is asked for a while: what takes memory may go until then."""


def judge_elsewhere(
    judges: JudgesElsewhere,
    known: Expectations,
    measures: Sequence[Measure],
    cases: Sequence[Case],
    answers: Answers,
    keep: Callable[[], None],
) -> None:
    """Have each pair of answer and expected output judged elsewhere that has not been; the same pair once.

    What a measure cannot be asked without knowing more than answer and case is left to this program.

    :param keep: called now and then, to keep what was judged.
    """
    own = {one.name for one in known.task.measures}
    for measure in measures:
        if not measure.is_of_pairs or measure.name not in own:
            continue
        judged = known.judged(measure)
        under_way: set[PairKey] = set()
        every = _not_judged(known, judged, measure, cases, answers, under_way)
        with following(f"judging answers to {known.task.name} by {measure.name}") as tell:
            count = 0
            for pairs, done in judges.judged(known.task, measure, every):
                for pair, one in zip(pairs, done, strict=True):
                    judged.add(pair.key, one)
                under_way.difference_update([pair.key for pair in pairs])
                count += len(pairs)
                tell(count)
                if judged.fresh >= _KEPT_AT_ONCE:
                    keep()
    judges.rest()


def _not_judged(
    known: Expectations,
    judged: JudgedPairs,
    measure: Measure,
    cases: Sequence[Case],
    answers: Answers,
    under_way: set[PairKey],
) -> Iterator[Pair]:
    """The pairs that nobody judged, while there is room for more; those that are given are added to `under_way`.

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
                    if pair not in under_way and judged.find(pair) is None:
                        if not judged.has_room(len(under_way)):
                            return
                        under_way.add(pair)
                        yield Pair(case, expected[case.id], answer, pair)
