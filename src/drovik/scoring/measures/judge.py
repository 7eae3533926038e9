"""The measure `judge`: what another task, put the answers of this one, says of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, ClassVar

from pydantic import Field
from typing_extensions import override

from drovik.errors import Problem
from drovik.project.tasks import Task, is_shown_first, judged_id
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import JUDGED_WRONG
from drovik.scoring.json_pointer import ABSENT, Pointer, shown, value_at_pointer
from drovik.scoring.measure import UNTOLD, AnswerContext, CannotScore, CaseScore, Finding, MeanMeasure
from drovik.text import folded

if TYPE_CHECKING:
    pass

WORTH = {"yes": 1.0, "true": 1.0, "right": 1.0, "partly": 0.5, "same": 0.5, "no": 0.0, "false": 0.0, "wrong": 0.0}


class JudgeTable(Frozen):
    """The table of a judge measure in question.toml.

    `by` is the task that judges; `arm` which of its arms (the first, where it is left out); `at` is where its verdict
    stands, `why` where its reason does. `worth` says what each verdict counts as, from 0 to 1; a number counts
    between `least` and `most`. Of two sides, "first" and "second" count for whichever this answer was.
    """

    by: str
    arm: str | None = None
    at: Pointer = ""
    why: Pointer | None = None
    worth: dict[str, float] = {}
    least: float = 0.0
    most: float = Field(default=1.0)


class Judge(MeanMeasure):
    """The mean of what a judge's verdicts are worth. The worst: 0.

    An answer that the judge did not judge, or not valid, is not scored: that is no failure of the arm.
    """

    kind: ClassVar[str] = "judge"
    table_type: ClassVar[type[JudgeTable]] = JudgeTable
    wants_said: ClassVar[bool] = True

    def __init__(
        self,
        name: str,
        table: JudgeTable,
        verdicts: Mapping[str, Any] | None = None,
        reviews: Mapping[str, Any] = MappingProxyType({}),
    ) -> None:
        super().__init__(name, f"judged by {table.by}", binary=False)
        self._table = table
        self.is_heard = verdicts is not None
        self._verdicts = said = verdicts or {}
        places = (value_at_pointer(said[one], table.at) for one in reviews if one in said)
        people = (value_at_pointer(review, table.at) for one, review in reviews.items() if one in said)
        self.beside_people = tuple((_word(one), _word(other)) for one, other in zip(places, people, strict=True))

    @override
    @classmethod
    def make(cls, name: str, table: JudgeTable, task: Task, place: str, problems: list[Problem]) -> Judge | None:
        if any(not 0 <= one <= 1 for one in table.worth.values()):
            problems.append(Problem("a verdict is worth from 0 to 1", "correct it", task.file, f"{place}.worth"))
            return None
        if table.most <= table.least:
            problems.append(Problem("'most' is not above 'least'", "correct them", task.file, place))
            return None
        return cls(name, table)

    @property
    def by(self) -> str:
        """The task that judges."""
        return self._table.by

    @property
    def arm(self) -> str | None:
        """Which of its arms, if that is said."""
        return self._table.arm

    def heard(self, verdicts: Mapping[str, Any], reviews: Mapping[str, Any]) -> Judge:
        """The measure with the judge's valid answers, and what people said, by the id of the judged answer."""
        return Judge(self.name, self._table, verdicts, reviews)

    @override
    def expected_of(self, expected: Any) -> Any:
        """A judge may do without."""
        return expected

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics: what the verdict is worth, and cases.

        :raises CannotScore: where the judge said nothing of this answer that could be read.
        """
        found = self._verdicts.get(judged_id(said.case, said.arm), ABSENT)
        if found is ABSENT:
            raise CannotScore(f"{self.by} has no verdict on it")
        verdict = value_at_pointer(found, self._table.at)
        worth = self._worth(verdict, is_shown_first(said.case, said.arm))
        if worth is None:
            raise CannotScore(f"{self.by} says {shown(verdict)[:60]}, which `worth` does not list")
        if worth == 1.0:
            return CaseScore((1.0, 1.0), 1.0)
        reason = value_at_pointer(found, self._table.why) if self._table.why is not None else ABSENT
        told = shown(verdict) if reason is ABSENT else f"{shown(verdict)}: {reason}"
        return CaseScore((worth, 1.0), worth, (Finding("", "right", told, JUDGED_WRONG),))

    def _worth(self, verdict: Any, is_first: bool) -> float | None:
        if isinstance(verdict, int | float) and not isinstance(verdict, bool):
            part = (verdict - self._table.least) / (self._table.most - self._table.least)
            return float(part) if 0 <= part <= 1 else None
        word = _word(verdict)
        known = {_word(one): value for one, value in self._table.worth.items()}
        if word in known:
            return known[word]
        if word in ("first", "second"):
            return float((word == "first") == is_first)
        return None if self._table.worth else WORTH.get(word)


def _word(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return folded(str(value))


def agreement_rows(pairs: Sequence[tuple[str, str]]) -> tuple[list[str], list[tuple[int, int]]]:
    """The distinct verdicts of judge and people in order, and each pair as their numbers: people's first."""
    words = sorted({word for pair in pairs for word in pair})
    index = {word: number for number, word in enumerate(words)}
    return words, [(index[people], index[judge]) for judge, people in pairs]
