"""What every measure is: statistics of one case, and a score of the statistics of many.

The two levels are there so that figures which are no mean of cases (F1, kappa, an error rate over a
corpus) are right, and so that resampling recomputes the score on whole groups of cases.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from jsonpointer import JsonPointer, JsonPointerException

from drovik.problems import Problem
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen, validated

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]

ABSENT: Any = type("Absent", (), {"__repr__": lambda self: "ABSENT", "__bool__": lambda self: False})()
"""What stands at a place where nothing stands."""


@dataclass(frozen=True)
class Finding:
    """One explained difference: where, what was expected, what came, and the kind of miss."""

    where: str
    expected: str
    got: str
    cause: str


@dataclass(frozen=True)
class CaseScore:
    """What a measure says of one case.

    `statistics` are numbers that can be added up over cases; `value` is how good this one case is,
    from 0 to 1; `findings` say why it is not 1.
    """

    statistics: tuple[float, ...]
    value: float
    findings: tuple[Finding, ...] = ()


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
    :cvar shares: the names of those figures that are shares of cases, each wholly right or wrong.
    :cvar what: what the score is, in few words.
    :ivar turn: the turn of the conversation whose answer it looks at; None for the last.
    """

    kind: ClassVar[str]
    table_type: ClassVar[type[Frozen]]
    shares: ClassVar[frozenset[str]] = frozenset()

    def __init__(self, name: str, what: str, binary: bool) -> None:
        self.name = name
        self.what = what
        self.binary = binary
        self.turn: int | None = None

    @classmethod
    @abstractmethod
    def make(cls, name: str, table: Any, task: Task, place: str, problems: list[Problem]) -> Measure | None:
        """The measure of a table that was read into `table_type`; None after adding to `problems`."""

    @abstractmethod
    def expected_of(self, expected: Any) -> Any:
        """The part of a task's expected output that this measure looks at, or ABSENT."""

    @abstractmethod
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """What is wrong with an expected output and what to do; None where nothing is."""

    @abstractmethod
    def per_case(self, answer: Any, expected: Any) -> CaseScore:
        """The statistics of one answer.

        :param answer: the whole answer, as read.
        :param expected: what `expected_of` gave.
        """

    @abstractmethod
    def worst(self, expected: Any, why: str) -> CaseScore:
        """The statistics of an answer that is not in form; `why` is the cause its findings name."""

    @abstractmethod
    def best(self, expected: Any) -> CaseScore:
        """The statistics of a right answer."""

    @abstractmethod
    def score_of(self, totals: Floats) -> Floats:
        """The score of added-up statistics.

        :param totals: shape (..., k): any number of totals at once, so that a thousand resamples
            are one call.
        :return: shape (...), each from 0 to 1.
        """

    @abstractmethod
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """Further figures of added-up statistics by name; shapes as in `score_of`."""

    @abstractmethod
    def tables(self, totals: Floats) -> tuple[Table, ...]:
        """Tables of added-up statistics, shape (k,)."""

    def rows(self, scores: Sequence[CaseScore]) -> Floats:
        """The statistics of many cases, shape (n, k)."""
        import numpy as np

        return np.array([one.statistics for one in scores], dtype=np.float64)

    def combine(self, scores: Sequence[CaseScore]) -> float:
        """The score of many cases."""
        return float(self.score_of(self.rows(scores).sum(axis=0)))


def at(value: Any, pointer: str) -> Any:
    """What stands at a JSON Pointer, or ABSENT."""
    try:
        return JsonPointer(pointer).resolve(value, ABSENT)
    except (JsonPointerException, TypeError, IndexError, KeyError):
        return ABSENT


def proper_pointer(pointer: str) -> str:
    """A JSON Pointer as it was written.

    :raises ValueError: where it is none.
    """
    try:
        JsonPointer(pointer)
    except JsonPointerException:
        raise ValueError(f"'{pointer}' is no JSON Pointer; it begins with '/', like /kind") from None
    return pointer


def read_table(
    measure: type[Measure], table: Mapping[str, Any], place: str, task: Task, problems: list[Problem]
) -> Any:
    """A measure's table as its record, or None after adding to `problems`."""
    return validated(measure.table_type, table, task.file, problems, place)


def expected_at(measure: Measure, task: Task, case: Case) -> Any:
    """What a measure looks at in a case's expected output, or ABSENT."""
    whole = case.expected.get(task.name, ABSENT)
    return ABSENT if whole is ABSENT else measure.expected_of(whole)
