"""`reviews.jsonl`: what people said of answers, one JSON object a line.

The file is only ever added to, and of several judgements of one thing by one person the last by time counts, so that
git may merge the lines of two people in any order. A judgement holds for the answer that it was made of, known by a
digest, and for no later one.
"""

from __future__ import annotations

import fcntl
import json
import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, get_args

from pydantic import Field, ValidationError

from drovik.errors import Problem, UsageError, known_words
from drovik.project.arms import digest_of_text
from drovik.project.record_problems import problems_of
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen, read_text

REVIEWS = "reviews.jsonl"
MARK = 12
"""Characters of an answer's digest in a line."""
NO_DIFFERENCE = "no difference"
Verdict = Literal["right", "partly", "wrong"]
VERDICTS: tuple[Verdict, ...] = get_args(Verdict)
WORTH: Mapping[Verdict, float] = {"right": 1.0, "partly": 0.5, "wrong": 0.0}
Truth = Literal["true", "false", "unknown"]
"""Of a claim: `unknown` cannot be known from the picture."""
TRUTHS: tuple[Truth, ...] = get_args(Truth)


class Claim(Frozen):
    """A sentence of a description, and whether it is so."""

    text: str
    verdict: Truth


class Judgement(Frozen):
    """A line of `reviews.jsonl`: what a person says of one answer, or which of two answers is better.

    Of an answer: `arm`, `verdict`, maybe `fields` (verdicts by place), `claims`, and `correct`, what would be right.
    Of two: `arms` and `prefer`, the name of one of them or "no difference". `answers` are the digests of their texts.
    `blind` says that the arms were not shown, `fill` that an expected output was filled in by it. `withdrawn` takes
    back what the same person said of it before.
    """

    task: str
    case: str
    arm: str = ""
    arms: tuple[str, str] | None = None
    verdict: Any = None
    prefer: str | None = None
    fields: dict[str, Verdict] = {}
    claims: tuple[Claim, ...] = ()
    correct: Any = None
    missing: tuple[tuple[float, ...], ...] = ()
    """Boxes (left, top, right, bottom) and points (x, y) that the answer lacks, in pixels of the first picture."""
    note: str = ""
    by: str = Field(default="")
    at: str = ""
    blind: bool = False
    answers: tuple[str, ...] = ()
    fill: bool = False
    withdrawn: bool = False

    @property
    def about(self) -> tuple[str, str, tuple[str, ...], str]:
        """What it is a judgement of, and whose: only the last of these counts."""
        arms = tuple(sorted(self.arms)) if self.arms else (self.arm,)
        return self.task, self.case, arms, self.by


Reviews = Mapping[tuple[str, str, str], Any]
"""People's verdicts on a judging task's answers, shaped as these, by task, case and arm."""


def answer_mark(text: str) -> str:
    """What an answer is known by in a judgement."""
    return digest_of_text(text)[:MARK]


def read_reviews(
    folder: Path, tasks: Sequence[Task], problems: list[Problem]
) -> tuple[Reviews, tuple[Judgement, ...]]:
    """What people said: of what judging tasks judge, and of answers. What is wrong is added to `problems`."""
    if not (folder / REVIEWS).is_file():
        return {}, ()
    judging = {task.name for task in tasks if task.judges is not None}
    known = {task.name for task in tasks}
    found: dict[tuple[str, str, str], Any] = {}
    lines: list[Judgement] = []
    text = read_text(folder / REVIEWS, REVIEWS, problems) or ""
    for number, line in enumerate(text.splitlines(), 1):
        one = _line(line, f"line {number}", known, problems) if line.strip() else None
        if one is None:
            continue
        if one.task in judging:
            found[one.task, one.case, one.arm] = one.verdict
        else:
            lines.append(one)
    return found, latest(lines)


def _line(line: str, place: str, known: set[str], problems: list[Problem]) -> Judgement | None:
    try:
        one = Judgement.model_validate(json.loads(line))
    except ValidationError as error:
        problems.extend(problems_of(error, Judgement, REVIEWS, place))
        return None
    except (ValueError, RecursionError) as error:
        problems.append(Problem(f"is not JSON: {error}", "each line is one JSON object", REVIEWS, place))
        return None
    if one.task not in known:
        problems.append(Problem(f"there is no task '{one.task}'", known_words(one.task, known), REVIEWS, place))
        return None
    return one


def latest(lines: Iterable[Judgement]) -> tuple[Judgement, ...]:
    """Of each person the last word on each thing, unless it was withdrawn."""
    found: dict[tuple[str, str, tuple[str, ...], str], Judgement] = {}
    for one in lines:
        before = found.get(one.about)
        if before is None or one.at >= before.at:
            found[one.about] = one
    return tuple(one for one in found.values() if not one.withdrawn)


def add_judgement(folder: Path, one: Judgement) -> None:
    """Add a line; two people, or two pages, may do so at once.

    :raises DrovikError: where the file cannot be written.
    """
    line = json.dumps(one.model_dump(exclude_defaults=True), ensure_ascii=False) + "\n"
    try:
        with (folder / REVIEWS).open("a+b") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            size = file.seek(0, os.SEEK_END)
            if size:
                file.seek(size - 1)
                line = line if file.read(1) == b"\n" else "\n" + line
            file.write(line.encode("utf-8", "replace"))
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        what = f"cannot be written: {error.strerror}"
        raise UsageError(Problem(what, "free it, or take a copy of the project", REVIEWS)) from None
