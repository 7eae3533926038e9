"""The measure `people`: what people said of answers. It is there for every task that somebody judged."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from typing_extensions import override

from drovik.errors import Problem
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import JUDGED_WRONG
from drovik.scoring.measure import UNTOLD, AnswerContext, CannotScore, CaseScore, Finding, MeanMeasure

NAME = "people"


class PeopleTable(Frozen):
    """It has no table: whoever runs `drovik review` adds it."""


class People(MeanMeasure):
    """The mean of what people said of an arm's answers: right 1, partly 0.5, wrong 0; of several people the mean.

    Answers that nobody judged are not looked at.

    :param said: by case and arm, what each person's verdict is worth, and the notes.
    """

    kind: ClassVar[str] = "people"
    table_type: ClassVar[type[Frozen]] = PeopleTable
    wants_said: ClassVar[bool] = True
    takes_any_status: ClassVar[bool] = True

    def __init__(self, said: Mapping[tuple[str, str], Sequence[tuple[float, str]]]) -> None:
        super().__init__(NAME, "judged by people", binary=False)
        self.said = said

    @override
    @classmethod
    def make(cls, name: str, table: Any, task: Task, place: str, problems: list[Problem]) -> None:
        """It is made of judgements, and not of a table."""
        return None

    @override
    def looks_at(self, case: str, arm: str) -> bool:
        return (case, arm) in self.said

    @override
    def expected_of(self, expected: Any) -> Any:
        """People judge answers whatever is expected, and where nothing is."""
        return True

    @override
    def expected_of_nothing(self) -> Any:
        return True

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        found = self.said.get((said.case, said.arm))
        if not found:
            raise CannotScore("nobody judged it")
        worth = sum(one for one, _ in found) / len(found)
        notes = "; ".join(note for _, note in found if note)
        finding = Finding("", "right", notes or f"worth {worth:g}", JUDGED_WRONG)
        return CaseScore((worth, 1.0), worth, () if worth == 1 else (finding,))
