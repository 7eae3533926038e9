"""What the scores of an arm are: of a case, of a measure, of all, and what was paid for it."""

from __future__ import annotations

import json
import statistics
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING, NamedTuple

from drovik.money import add_money
from drovik.parsing.answer_text import Answer
from drovik.project.arms import digest_of_text
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.agreement import pairwise_agreement
from drovik.scoring.json_pointer import ABSENT
from drovik.scoring.judged_pairs import JudgedPairs
from drovik.scoring.measure import (
    CaseScore,
    Measure,
    Table,
    expected_at,
)

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats


LONG = 120
"""Characters of an expected output that is known by its digest, which takes less memory."""
_sorted_json = json.JSONEncoder(sort_keys=True).encode


class ScoredCase(NamedTuple):
    """A case that has an expected output. `score` is None where it is unanswered: not sent, or failed.

    `as_read` is what an answer off the schema would score if it had been valid. Where the case was asked several
    times, `score` is the mean over the `repeats`, and `answer` is that of the first.
    """

    case: Case
    answer: Answer | None
    score: CaseScore | None
    as_read: CaseScore | None = None
    repeats: tuple[ScoredCase, ...] = ()
    note: str = ""

    @property
    def answers(self) -> tuple[Answer, ...]:
        """The answers of all repeats."""
        return tuple(one.answer for one in self.repeats or (self,) if one.answer is not None)

    @property
    def failed_answers(self) -> int:
        """How many of them have no score: no reply after all tries, or none that the measure could score."""
        return sum(one.score is None and one.answer is not None for one in self.repeats or (self,))


@dataclass(frozen=True, eq=False)
class MeasureScore:
    """One measure of one arm. `bounds` are the score if all failed cases were wrong, and if all were right; `totals`
    are the added-up statistics.
    """

    measure: Measure
    cases: tuple[ScoredCase, ...]
    value: float
    bounds: tuple[float, float] | None
    tables: tuple[Table, ...]
    totals: Floats

    @property
    def scored(self) -> tuple[ScoredCase, ...]:
        """The cases that have a score."""
        return tuple(one for one in self.cases if one.score is not None)

    @property
    def as_read(self) -> tuple[ScoredCase, ...]:
        """The cases with a score, with answers off the schema scored as they were read; empty where none was."""
        if all(one.as_read is None for one in self.scored):
            return ()
        return tuple(one._replace(score=one.as_read or one.score) for one in self.scored)

    @property
    def failed(self) -> int:
        """How many cases have no reply after all tries, or none that the measure could score."""
        return sum(one.score is None and bool(one.answers) for one in self.cases)

    @property
    def agreement(self) -> float | None:
        """The share of pairs of repeats that the measure says the same of; None without repeats.

        Only what it looks at counts. A repeat that failed agrees with none.
        """
        return pairwise_agreement(
            {
                one.case.id: [
                    (repeat.score.statistics, repeat.score.findings) if repeat.score else None
                    for repeat in one.repeats
                    if repeat.answer is not None
                ]
                for one in self.cases
            }
        )

    @property
    def unscored(self) -> tuple[str, ...]:
        """Why answers have no score, where that is the measure's own failure: a note for each."""
        return tuple(one.note for one in self.cases if one.note)


@dataclass(frozen=True)
class Costs:
    """What an arm's answers took. Money by currency; seconds are the median; None where nothing is known."""

    answers: int
    input_tokens: int
    output_tokens: int
    money: Mapping[str, Decimal]
    seconds: float | None
    reported_models: tuple[str, ...]


@dataclass(frozen=True)
class RepairTurns:
    """What repair turns came to: how many there were, how many are valid, the scores with them, what they cost."""

    asked: int
    in_form: int
    measures: tuple[MeasureScore, ...]
    costs: Costs


@dataclass(frozen=True)
class ArmScores:
    """All that is known of one arm in one task. `unsent` counts what has no answer as yet.

    Scores and costs are those of the first replies; `second` is what repair turns add. `repeats` is how often each
    case is asked, `agreement` the share of pairs of repeats that answer the same in all.
    """

    task: str
    arm: str
    statuses: Mapping[str, int]
    how: Mapping[str, int]
    unsent: int
    costs: Costs
    measures: tuple[MeasureScore, ...]
    repeats: int
    second: RepairTurns | None = None
    agreement: float | None = None
    not_scored: Mapping[str, str] = field(default_factory=dict)
    """Why measures could score no answer at all, where that is their own failure, by their names."""
    decide_on: str | None = None
    """The measure that the task is decided on."""

    def measure(self, name: str) -> MeasureScore | None:
        """The score of that measure, if it has one."""
        return next((one for one in self.measures if one.measure.name == name), None)


class Expectations:
    """What the measures of a task look at in each case's expected output, and what that is known by.

    Found once for all arms that are scored about the same cases.

    :param judged: gives what answers came to by a measure in earlier runs.
    """

    def __init__(self, task: Task, judged: Callable[[Measure], JudgedPairs] | None = None) -> None:
        self.task = task
        self._judged_before = judged
        self._judged: dict[str, JudgedPairs] = {}
        self._expected: dict[str, dict[str, object]] = {}
        self._last: dict[str, tuple[Sequence[Case], dict[str, object]]] = {}
        self._traits: dict[str, dict[str, frozenset[str]]] = {}
        self._keys: dict[str, str] = {}

    def of(self, measure: Measure, cases: Sequence[Case]) -> dict[str, object]:
        """What a measure looks at, by the ids of those cases that have an expected output for it."""
        before, found = self._last.get(measure.name, ((), {}))
        if before is cases and cases:  # those of the arm before
            return found
        known = self._expected.setdefault(measure.name, {})
        for case in cases:
            if case.id not in known:
                known[case.id] = expected_at(measure, self.task, case)
        found = {case.id: one for case in cases if (one := known[case.id]) is not ABSENT}
        self._last[measure.name] = cases, found
        return found

    def key(self, case: Case) -> str:
        """What two cases share that the same answer scores the same in."""
        known = self._keys.get(case.id)
        if known is None:
            wanted = _sorted_json(case.expected.get(self.task.name))
            same = wanted if len(wanted) < LONG else digest_of_text(wanted)
            known = f"{'declines' if self.task.name in case.refusal else 'answers'} {same}"
            self._keys[case.id] = known
        return known

    def judged(self, measure: Measure) -> JudgedPairs:
        """What answers came to by a measure, beside what is expected: see `key`."""
        if measure.name not in self._judged:
            self._judged[measure.name] = self._judged_before(measure) if self._judged_before else JudgedPairs()
        return self._judged[measure.name]

    def traits(self, measure: Measure, cases: Sequence[Case]) -> dict[str, frozenset[str]]:
        """What each of these expected outputs is known by, by case."""
        known = self._traits.setdefault(measure.name, {})
        expected = self.of(measure, cases)
        for case, one in expected.items():
            if case not in known:
                known[case] = measure.traits(one)
        return {case: known[case] for case in expected}


def costs_of(answers: Sequence[Answer]) -> Costs:
    """What answers took: tokens, money by currency, and the median of their seconds."""
    money: dict[str, Decimal] = {}
    # Many answers cost the same, and then have one record of it in common: it is added up once, times their number.
    every = [one.spent for one in answers]
    spent = dict(zip(map(id, every), every, strict=True))
    for key, many in Counter(map(id, every)).items():
        if (found := spent[key]) is not None:
            add_money(money, found.currency, found.amount * many)
    seconds = [one for answer in answers if (one := answer.seconds) is not None]
    return Costs(
        answers=len(answers),
        input_tokens=sum([one.input_tokens or 0 for one in answers]),
        output_tokens=sum([one.output_tokens or 0 for one in answers]),
        money=money,
        seconds=statistics.median(seconds) if seconds else None,
        reported_models=tuple(sorted({one.model for one in answers if one.model})),
    )
