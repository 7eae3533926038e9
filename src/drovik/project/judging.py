"""Tasks that judge answers: whose answers they are put, what people said of the same ones, in which order sides come.

A judge is a task as any other; only its cases are not the project's own but the answers of another task, one case for
each arm and case (`lp-014~gull/v2`). People's own verdicts stand in `reviews.jsonl`, shaped as the judge's answers.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import Field, ValidationError

from drovik.errors import Problem, known_words
from drovik.project.toml_files import Frozen, problems_of, read_text

if TYPE_CHECKING:
    from drovik.project.tasks import Task

REVIEWS = "reviews.jsonl"
GIVEN_ONE = ("answer", "expected")
GIVEN_TWO = ("first", "second", "expected")
Reviews = Mapping[tuple[str, str, str], Any]
"""People's verdicts, by the judging task, the case and the arm."""


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


class Review(Frozen):
    """A line of `reviews.jsonl`: what a person says of one answer."""

    task: str
    case: str
    arm: str
    verdict: Any
    by: str = Field(default="")


def judged_id(case: str, arm: str) -> str:
    """The id of the case that an arm's answer about a case is to a judge."""
    return f"{case}~{arm}"


def comes_first(case: str, arm: str) -> bool:
    """Whether an arm's answer stands first of two: by a draw that is the same each time."""
    return hashlib.sha256(f"{case}\0{arm}".encode()).digest()[0] % 2 == 0


def read_reviews(folder: Path, tasks: Sequence[Task], problems: list[Problem]) -> Reviews:
    """What people said; of several verdicts on one answer the last. What is wrong is added to `problems`."""
    if not (folder / REVIEWS).is_file():
        return {}
    found: dict[tuple[str, str, str], Any] = {}
    judging = {task.name for task in tasks if task.judges is not None}
    text = read_text(folder / REVIEWS, REVIEWS, problems) or ""
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        place = f"line {number}"
        try:
            one = Review.model_validate(json.loads(line))
        except ValidationError as error:
            problems.extend(problems_of(error, Review, REVIEWS, place))
            continue
        except (ValueError, RecursionError) as error:
            problems.append(Problem(f"is not JSON: {error}", "each line is one JSON object", REVIEWS, place))
            continue
        if one.task not in judging:
            what = f"there is no judging task '{one.task}'"
            problems.append(Problem(what, known_words(one.task, judging), REVIEWS, place))
            continue
        found[one.task, one.case, one.arm] = one.verdict
    return found


def check_judges(tasks: Sequence[Task]) -> list[Problem]:
    """Judges of a task that is not there, of one that judges itself, or that come after another task; and measures of
    judges that are none.
    """
    by_name = {task.name: task for task in tasks}
    judging = [task.name for task in tasks if task.judges is not None]
    problems = []
    for task in tasks:
        for measure in task.measures:
            by = measure.table.get("by")
            if measure.type == "judge" and isinstance(by, str) and by not in judging:
                what = f"the task '{by}' judges no other" if by in by_name else f"there is no judging task '{by}'"
                remedy = f"say whose answers: [judges] in tasks/{by}/question.toml" if by in by_name else "correct it"
                problems.append(Problem(what, remedy, task.file, f"measures.{measure.name}.by"))
        if task.judges is None:
            continue
        judged = by_name.get(task.judges.task)
        if judged is None:
            what = f"there is no task '{task.judges.task}'"
            problems.append(Problem(what, known_words(task.judges.task, by_name), task.file, "judges.task"))
        elif judged.judges is not None:
            problems.append(Problem(f"'{judged.name}' judges itself", "judge its answers", task.file, "judges.task"))
        if task.after is not None:
            problems.append(Problem("a judge comes after no other task", "take 'after' out", task.file, "after"))
    return problems
