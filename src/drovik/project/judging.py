"""Tasks that judge answers: whose answers they are put, what people said of the same ones, in which order sides come.

A judge is a task as any other; only its cases are not the project's own but the answers of another task, one case for
each arm and case (`lp-014~gull/v2`). People's own verdicts stand in `reviews.jsonl`, shaped as the judge's answers.
"""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING

from drovik.project.toml_files import Frozen

if TYPE_CHECKING:
    pass

GIVEN_ONE = ("answer", "expected")
GIVEN_TWO = ("first", "second", "expected")


class Judges(Frozen):
    """Whose answers a task judges: those of the `arms` of a task, or of all of them.

    With `against`, two answers are put side by side: an arm's and that one's, in an order drawn by chance.
    """

    task: str
    arms: list[str] | None = None
    against: str | None = None

    def given(self) -> tuple[str, ...]:
        """The variables that a judge's prompt may use beside those of the case."""
        return GIVEN_TWO if self.against else GIVEN_ONE


def judged_id(case: str, arm: str) -> str:
    """The id of the case that an arm's answer about a case is to a judge."""
    return f"{case}~{arm}"


def comes_first(case: str, arm: str) -> bool:
    """Whether an arm's answer stands first of two: by a draw that is the same each time."""
    return hashlib.sha256(f"{case}\0{arm}".encode()).digest()[0] % 2 == 0
