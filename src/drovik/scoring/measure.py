"""What every measure is: statistics of one case, and a score of the statistics of many.

The two levels are there so that figures which are no mean of cases (F1, kappa, an error rate over a
corpus) are right, and so that the score without a case, or a group, is recomputed. Nearly all of them
are functions of added-up statistics. Those that are not (average precision sorts what all cases found) are
functions of the cases and of how often each of them counts: see `Measure.weighed`.
"""

from __future__ import annotations

import itertools
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

from typing_extensions import override

from drovik.errors import Problem
from drovik.heavy import np
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen, validated
from drovik.scoring.json_pointer import ABSENT

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]
    Weighing = Callable[[Floats], Floats]
    """From how often each case counts, shape (b, n), to values, shape (b,)."""


class Finding(NamedTuple):
    """One explained difference: where, what was expected, what came, and the kind of miss.

    `effect` is what would change in the case's statistics if it were not there: places and amounts. `note` says
    more, such as that the task before was wrong already.
    """

    where: str
    expected: str
    got: str
    cause: str
    effect: tuple[tuple[int, float], ...] = ()
    note: str = ""


class CaseScore(NamedTuple):
    """What a measure says of one case.

    `statistics` are numbers that `Measure.rows` makes into what can be added up over cases; `value` is how good this
    one case is, from 0 to 1; `findings` say why it is not 1. `parts` are the scores of several answers to one case,
    of which this is the mean.
    """

    statistics: tuple[float, ...]
    value: float
    findings: tuple[Finding, ...] = ()
    parts: tuple[CaseScore, ...] = ()


class CannotScore(Exception):
    """A measure's own failure: the answer is not scored, and it is not a miss of the arm."""


class Trace(NamedTuple):
    """What came of one thing that was expected, right or wrong: the outcome, the thing, the words that decide it."""

    outcome: str
    what: str
    words: str


class AnswerContext(NamedTuple):
    """What else is known of an answer: its text, how its JSON was found, the pictures it is about, and whose it is.

    Each picture is as `store.digests.places` has it: the size that was sent, and the maps back to its source.
    """

    text: str = ""
    how: str = ""
    pictures: tuple[Mapping[str, Any], ...] = ()
    arm: str = ""
    case: str = ""


UNTOLD = AnswerContext()


@dataclass(frozen=True)
class Table:
    """A table of numbers that goes with a score: counts, or shares where `shares` is set."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, tuple[float, ...]], ...]
    shares: bool = False


class Measure(ABC):
    """A rule that turns an answer and the expected output into a score and findings.

    :cvar kind: what `type` says in question.toml.
    :cvar table_type: the record that the rest of its table is read into.
    :cvar shares: the names of those figures that are shares of cases, each fully correct or wrong.
    :cvar coefficients: the names of figures, maybe of the score, that are printed as they are and not in per cent.
    :cvar bounds: the lowest and highest value of those figures that do not lie between 0 and 1; infinity for none.
    :cvar floored: the names of figures without bias, which may fall below the 0 that the true value cannot.
    :cvar wants_pictures: whether it has to know what pictures an answer is about.
    :cvar wants_said: whether it has to know more of an answer than its value.
    :cvar takes_any_status: whether an answer that is not valid is looked at as any other.
    :cvar is_repeatable: whether it always says the same of the same value, so that it need not be asked again.
    :ivar what: what the score is, in few words.
    :ivar binary: whether the score is a share of cases, each of which is fully correct or wrong.
    """

    kind: ClassVar[str]
    table_type: ClassVar[type[Frozen]]
    shares: ClassVar[frozenset[str]] = frozenset()
    coefficients: ClassVar[frozenset[str]] = frozenset()
    bounds: ClassVar[Mapping[str, tuple[float, float]]] = {}
    floored: ClassVar[frozenset[str]] = frozenset()
    wants_pictures: ClassVar[bool] = False
    wants_said: ClassVar[bool] = False
    is_repeatable: ClassVar[bool] = True
    takes_any_status: ClassVar[bool] = False

    def __init__(self, name: str, what: str, binary: bool) -> None:
        self.name = name
        self.what = what
        self.binary = binary

    @classmethod
    @abstractmethod
    def make(cls, name: str, table: Any, task: Task, place: str, problems: list[Problem]) -> Measure | None:
        """The measure of a table that was read into `table_type`; None after adding to `problems`."""

    def looks_at(self, case: str, arm: str) -> bool:
        """Whether it has anything to say of an arm's answer to a case."""
        return True

    def expected_of_nothing(self) -> Any:
        """What it looks at where a case has no expected output for the task: ABSENT, for nearly all."""
        return ABSENT

    def informed(self, expected: Sequence[Any]) -> Measure:
        """The measure when it knows what is expected of every case; most have no use for that."""
        return self

    def knowledge(self) -> str:
        """What else it knows than its table and the task say, where a score depends on that; see `informed`."""
        return ""

    @property
    def is_of_pairs(self) -> bool:
        """Whether an answer and what is expected are all that its score of a case depends on."""
        return self.is_repeatable and not self.wants_said

    @abstractmethod
    def expected_of(self, expected: Any) -> Any:
        """The part of a task's expected output that this measure looks at, or ABSENT."""

    @abstractmethod
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """What is wrong with an expected output and what to do; None where nothing is."""

    @abstractmethod
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics of one answer.

        :param answer: the whole answer, as read.
        :param expected: what `expected_of` gave.
        :param said: what else is known of the answer.
        """

    @abstractmethod
    def worst(self, expected: Any, why: str) -> CaseScore:
        """The statistics of an answer that is not valid; `why` is the cause its findings name."""

    @abstractmethod
    def best(self, expected: Any) -> CaseScore:
        """The statistics of a right answer."""

    def traces(self, answer: Any, expected: Any) -> tuple[Trace, ...]:
        """What came of everything that was expected, right or wrong; empty where findings tell all there is."""
        return ()

    def language_of(self, expected: Any) -> str | None:
        """The language that an answer has to be in to be right, by its code; None where it does not matter."""
        return None

    def cause_as_read(self, where: str, expected: Any, got: Any) -> str | None:
        """Why a value is off the schema at a place, where this measure takes it for right all the same."""
        return None

    def traits(self, expected: Any) -> frozenset[str]:
        """What an expected output is known by, so that an answer about another case is seen to be one."""
        return frozenset()

    def traits_of(self, answer: Any) -> frozenset[str]:
        """The same of an answer."""
        return frozenset()

    def confidence_in(self, answer: Any) -> float | None:
        """How sure an answer says that it is, from 0 to 1; None where it does not say."""
        return None

    def leaf_rows(self, scores: Sequence[CaseScore]) -> Floats:
        """The statistics that add up, of single answers: shape (n, k)."""
        return as_rows([one.statistics for one in scores])

    def rows(self, scores: Sequence[CaseScore]) -> Floats:
        """The statistics of many cases, shape (n, k); of several answers to one case, the mean."""

        if not any(one.parts for one in scores):
            return self.leaf_rows(scores)
        leaves = [part for one in scores for part in one.parts or (one,)]
        counts = np.array([len(one.parts) or 1 for one in scores])
        starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
        sums: Floats = np.add.reduceat(self.leaf_rows(leaves), starts, axis=0)
        means: Floats = sums / counts[:, None]
        return means

    def kinds(self, scores: Sequence[CaseScore]) -> tuple[Floats, NDArray[np.int64]]:
        """The different rows of many cases, shape (kinds, k), and which of them each case has, shape (n,).

        Most cases are right in the same way, and a row may have hundreds of numbers: not all of them fit in memory.
        """
        if not scores or any(one.parts for one in scores):
            return self.rows(scores), np.arange(len(scores), dtype=np.int64)
        seen: dict[int, int] = {}
        known: dict[tuple[float, ...], int] = {}
        for one in scores:  # which mostly have one tuple in common, so that few are looked into
            if id(one.statistics) not in seen:
                seen[id(one.statistics)] = known.setdefault(one.statistics, len(known))
        places = [seen[id(one.statistics)] for one in scores]
        return self.leaf_rows([CaseScore(one, 0.0) for one in known]), np.array(places, dtype=np.int64)

    def totals(self, scores: Sequence[CaseScore]) -> Floats:
        """The added-up statistics of cases, shape (k,)."""
        if not scores:
            nothing: Floats = self.rows(scores).sum(axis=0)
            return nothing
        rows, kinds = self.kinds(scores)
        totals: Floats = np.bincount(kinds, minlength=len(rows)).astype(np.float64) @ rows
        return totals

    @abstractmethod
    def score_of(self, totals: Floats) -> Floats:
        """The score of added-up statistics.

        :param totals: shape (..., k): any number of totals at once, so that leaving out each of many cases
            is one call.
        :return: shape (...), each from 0 to 1.
        """

    def figures(self, totals: Floats) -> dict[str, Floats]:
        """Further figures of added-up statistics by name; shapes as in `score_of`."""
        return {}

    def tables(self, totals: Floats) -> tuple[Table, ...]:
        """Tables of added-up statistics, shape (k,)."""
        return ()

    def weighed(self, scores: Sequence[CaseScore]) -> dict[str, Weighing]:
        """Figures that are no function of added-up statistics, by name; `what` among them if the score is one."""
        return {}

    @property
    def is_weighed(self) -> bool:
        """Whether the score is not a function of added-up statistics, so that it comes from `weighed`."""
        return False

    @property
    def is_coefficient(self) -> bool:
        """Whether the score is a coefficient, such as kappa, and not a share."""
        return self.what in self.coefficients

    def bounds_of(self, figure: str) -> tuple[float, float]:
        """The lowest and highest value that a figure, or the score by its `what`, can have."""
        return self.bounds.get(figure, (0.0, 1.0))

    def combine(self, scores: Sequence[CaseScore]) -> float:
        """The score of many cases."""

        if self.is_weighed:
            return float(self.weighed(scores)[self.what](np.ones((1, len(scores))))[0])
        return float(self.score_of(self.totals(scores)))

    def without(self, score: CaseScore, expected: Any, causes: Collection[str]) -> CaseScore:
        """A case's score as it would be if the findings of some causes were not there."""
        if score.parts:
            return mean_of([self.without(one, expected, causes) for one in score.parts])
        left = tuple(one for one in score.findings if one.cause not in causes)
        if len(left) == len(score.findings):
            return score
        if not left:
            return self.best(expected)
        statistics = list(score.statistics)
        for one in score.findings:
            for place, amount in one.effect if one.cause in causes else ():
                statistics[place] += amount
        return CaseScore(tuple(statistics), score.value, left)


class MeanMeasure(Measure):
    """A measure that is the mean of what each answer is worth, from 0 to 1. The statistics: that, and cases."""

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        return CaseScore((0.0, 1.0), 0.0, (Finding("", "right", "nothing", why),))

    @override
    def best(self, expected: Any) -> CaseScore:
        return CaseScore((1.0, 1.0), 1.0)

    def score_of(self, totals: Floats) -> Floats:
        """The mean."""
        return share(totals[..., 0], totals[..., 1], 0.0)


def mean_of(scores: Sequence[CaseScore]) -> CaseScore:
    """Several answers to one case as one: their mean."""
    findings = tuple(dict.fromkeys(found for one in scores for found in one.findings))
    return CaseScore((), sum(one.value for one in scores) / len(scores), findings, tuple(scores))


def as_rows(statistics: Sequence[Sequence[float]]) -> Floats:
    """Statistics of the same length as one array, shape (n, k)."""

    if not statistics:
        return np.zeros((0, 0))
    size = len(statistics[0])
    every = itertools.chain.from_iterable(statistics)
    return np.fromiter(every, dtype=np.float64, count=size * len(statistics)).reshape(-1, size)


def read_table(
    measure: type[Measure], table: Mapping[str, Any], place: str, task: Task, problems: list[Problem]
) -> Any:
    """A measure's table as its record, or None after adding to `problems`."""
    return validated(measure.table_type, table, task.file, problems, place)


def expected_at(measure: Measure, task: Task, case: Case) -> Any:
    """What a measure looks at in a case's expected output, or ABSENT."""
    whole = case.expected.get(task.name, ABSENT)
    return measure.expected_of_nothing() if whole is ABSENT else measure.expected_of(whole)


def share(part: Floats, whole: Floats, of_nothing: float = 1.0) -> Floats:
    """`part / whole`, element by element, and `of_nothing` if there is nothing to have a share of."""

    result: Floats = np.where(whole > 0, part / np.where(whole > 0, whole, 1.0), of_nothing)
    return result
