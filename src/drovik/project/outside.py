"""Outside answers: those of a person, another reader, last year's system; brought in as an arm.

They lie in the project as `tasks/TASK/outside/NAME.jsonl`, a case a line: `{"case": "lp-001", "answer": …}`, with
`money`, `currency` and `seconds` where they are known.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, StringConstraints, ValidationError, model_validator

from drovik.errors import Problem, UsageError
from drovik.files import read_text, write_whole
from drovik.project.case_sources import put, type_at, typed
from drovik.project.record_problems import problems_of
from drovik.project.spending import Spending
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.text import counted

FOLDER = "outside"
_COLUMNS = ("case", "answer", "money", "currency", "seconds")
_MOST_BYTES = 1_000_000_000
_MOST_WRONG = 20
"""Problems of one file that are said."""


class OutsideAnswer(Frozen):
    """What was answered of a case; `answer` is a text, or a JSON value."""

    case: str = Field(min_length=1)
    answer: Any
    money: Annotated[Decimal, Field(ge=0)] | None = None
    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")] | None = None
    seconds: float | None = Field(default=None, ge=0)

    @model_validator(mode="after")
    def _money_has_a_currency(self) -> OutsideAnswer:
        if self.money is not None and self.currency is None:
            raise ValueError("'currency' is missing beside 'money', like EUR")
        return self

    @property
    def spent(self) -> Spending | None:
        """What it cost, if that is known."""
        return Spending(self.currency, self.money) if self.money is not None and self.currency else None

    def text(self) -> str:
        """The answer as a text that can be read like a reply."""
        return self.answer if isinstance(self.answer, str) else json.dumps(self.answer, ensure_ascii=False)


@dataclass(frozen=True)
class OutsideArm:
    """An arm that was brought in: its name, its answers by case, and what its file is known by."""

    name: str
    answers: Mapping[str, OutsideAnswer]
    content: str


def read_outside(folder: Path, task: Task, problems: list[Problem]) -> tuple[OutsideArm, ...]:
    """The arms that were brought into a task; what is wrong is added to `problems`."""
    found = []
    for path in sorted((folder / "tasks" / task.name / FOLDER).glob("*.jsonl")):
        shown = f"tasks/{task.name}/{FOLDER}/{path.name}"
        text = read_text(path, shown, _MOST_BYTES)
        found.append(OutsideArm(path.stem, _answers(_lines(text, shown, problems), shown, problems), text))
    return tuple(found)


def outside_answers(path: Path, task: Task) -> dict[str, OutsideAnswer]:
    """The answers of a file that is to be brought in: JSON Lines, or CSV with a column `answer`, or `answer.NAME` for
    each member.

    :raises UsageError: with all that is wrong with it.
    """
    problems: list[Problem] = []
    text = read_text(path, str(path), _MOST_BYTES)
    rows = (
        _table(text, path.name, task, problems)
        if path.suffix.lower() == ".csv"
        else _lines(text, path.name, problems)
    )
    found = _answers(rows, path.name, problems)
    if not found and not problems:
        problems.append(Problem("has no answer in it", "a case a line: its id, and its answer", path.name))
    if problems:
        raise UsageError(problems[:_MOST_WRONG])
    return found


def write_outside(folder: Path, task: Task, name: str, answers: Mapping[str, OutsideAnswer]) -> Path:
    """Keep an arm in the project; one of that name is replaced.

    :return: its file.
    """
    path = folder / "tasks" / task.name / FOLDER / f"{name}.jsonl"
    rows = (one.model_dump(mode="json", exclude_none=True) | {"answer": one.answer} for one in answers.values())
    write_whole(path, "".join(f"{json.dumps(row, ensure_ascii=False)}\n" for row in rows))
    return path


def _lines(text: str, shown: str, problems: list[Problem]) -> Iterator[tuple[str, Any]]:
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            try:
                yield f"line {number}", json.loads(line)
            except (ValueError, RecursionError) as error:
                problems.append(
                    Problem(f"is not JSON: {error}", "each line is one JSON object", shown, f"line {number}")
                )


def _table(text: str, shown: str, task: Task, problems: list[Problem]) -> Iterator[tuple[str, Any]]:
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff"), newline=""), strict=True)
    columns = [one for one in reader.fieldnames or () if one]
    members = [one for one in columns if one.startswith("answer.")]
    for column in columns:
        if column not in (*_COLUMNS, *members):
            what = f"unknown column '{column}'"
            problems.append(Problem(what, f"take {', '.join(_COLUMNS)}, or answer.NAME", shown, "line 1"))
    if "case" not in columns or not ("answer" in columns or members):
        problems.append(Problem("there is no column 'case', or none with answers", "name them so", shown, "line 1"))
    if problems:
        return
    try:
        for cells in reader:
            place = f"line {reader.line_num}"
            row = {name: cell for name, cell in cells.items() if name in _COLUMNS and cell not in ("", None)}
            if members:
                row["answer"] = _member_values(cells, members, task)
            yield place, {"answer": "", **row}
    except csv.Error as error:
        problems.append(Problem(f"is not proper CSV: {error}", "fix its quotes", shown))


def _member_values(cells: Mapping[str, Any], members: Sequence[str], task: Task) -> dict[str, Any]:
    """The members of an answer from their cells, each as the schema wants it; what cannot be so stays a text."""
    tree: dict[str, Any] = {}
    for column in members:
        cell = cells.get(column) or ""
        if cell:
            steps = column.split(".")[1:]
            try:
                value = typed(cell, type_at(f"expected.{task.name}.{'.'.join(steps)}", [task]))
            except ValueError:
                value = cell
            put(tree, steps, value)
    return tree


def _answers(rows: Iterator[tuple[str, Any]], shown: str, problems: list[Problem]) -> dict[str, OutsideAnswer]:
    found: dict[str, OutsideAnswer] = {}
    for place, row in rows:
        try:
            one = OutsideAnswer.model_validate(row)
        except ValidationError as error:
            problems.extend(problems_of(error, OutsideAnswer, shown, place))
            continue
        if one.case in found:
            problems.append(Problem(f"the case '{one.case}' has an answer already", "keep one", shown, place))
        found[one.case] = one
    return found


def unknown_cases(answers: Mapping[str, OutsideAnswer], known: Sequence[str]) -> str:
    """Which cases of answers the project has not, in words; empty where it has all."""
    wrong = sorted(set(answers) - set(known))
    if not wrong:
        return ""
    shown = ", ".join(wrong[:5]) + (" …" if len(wrong) > 5 else "")
    return f"{counted(len(wrong), 'answer')} of no case of this project: {shown}"
