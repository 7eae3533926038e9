"""People's own verdicts on answers, in `reviews.jsonl`, shaped as the judge's answers."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import Field, ValidationError

from drovik.errors import Problem, known_words
from drovik.project.toml_files import Frozen, problems_of, read_text

if TYPE_CHECKING:
    from drovik.project.tasks import Task
from drovik.project.tasks import Task

REVIEWS = "reviews.jsonl"


class Review(Frozen):
    """A line of `reviews.jsonl`: what a person says of one answer."""

    task: str
    case: str
    arm: str
    verdict: Any
    by: str = Field(default="")


Reviews = Mapping[tuple[str, str, str], Any]
"""People's verdicts, by the judging task, the case and the arm."""


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
