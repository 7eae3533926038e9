"""`tasks/NAME/question.toml` and `answer.schema.json`: the form of a task's answer, and its measures.

Chains: a task that comes `after` another one, and `where` it is asked at all.

Tasks that judge answers: whose answers they are put, what people said of the same ones, in which order sides come.

A judge is a task as any other; only its cases are not the project's own but the answers of another task, one case for
each arm and case (`lp-014~gull/v2`). People's own verdicts are in `reviews.jsonl`, shaped as the judge's answers.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Annotated, Any, Literal

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import BeforeValidator, Field, field_validator, model_validator

from drovik.errors import Problem, ProjectError, known_words
from drovik.files import unreadable_problem
from drovik.project.prompts import Prompt, read_prompts
from drovik.project.schemas import check_schema
from drovik.project.toml_files import Frozen, read_json, read_toml, validated


class EarlierAnswer(Frozen):
    """Whose answer a task takes up: by the same model and prep, unless another model is named.

    Without `prompt` it is the prompt version of the same name, or the last one if there is none.
    """

    task: str
    model: str | None = None
    prompt: str | None = None

    def canonical(self) -> dict[str, object]:
        """What is given of it."""
        return self.model_dump(exclude_none=True)


class Condition(Frozen):
    """A condition on the earlier answer's value: what stands `at` a place `is` one of these, or not, or has it."""

    at: str = ""
    is_: list[Any] | None = Field(default=None, alias="is")
    is_not: list[Any] | None = None
    has: str | None = None

    @field_validator("is_", "is_not", mode="before")
    @classmethod
    def _as_list(cls, value: object) -> object:
        return value if value is None or isinstance(value, list) else [value]

    @field_validator("at")
    @classmethod
    def _is_pointer(cls, at: str) -> str:
        try:
            JsonPointer(at)
        except JsonPointerException:
            raise ValueError(f"'{at}' is not a JSON Pointer; write it like /kind") from None
        return at

    @model_validator(mode="after")
    def _asks_something(self) -> Condition:
        if sum(one is not None for one in (self.is_, self.is_not, self.has)) != 1:
            raise ValueError("it has one of 'is', 'is_not' and 'has'")
        return self

    def holds(self, value: Any) -> bool:
        """Whether an answer's value meets the condition; a place that is not there is nothing."""
        found = JsonPointer(self.at).resolve(value, None) if isinstance(value, dict | list) or not self.at else None
        if self.has is not None:
            return self.has.lower() in found.lower() if isinstance(found, str) else self.has in (found or ())
        if self.is_ is not None:
            return found in self.is_
        return found not in (self.is_not or ())


GIVEN_ONE = ("answer", "expected")
GIVEN_TWO = ("first", "second", "expected")


class JudgedArms(Frozen):
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


def is_shown_first(case: str, arm: str) -> bool:
    """Whether an arm's answer is first of two: by a draw that is the same each time."""
    return hashlib.sha256(f"{case}\0{arm}".encode()).digest()[0] % 2 == 0


Form = Literal["json", "text"]


class AnswerForm(Frozen):
    """What an answer is: JSON, with or without a schema, or plain text.

    `send_schema` tells the service the schema too, where the dialect has a slot for it. `repair_turn` has an answer
    that is not valid answered again, with what is wrong with it.
    """

    form: Form = "json"
    schema_file: str | None = Field(default=None, alias="schema")
    send_schema: bool = False
    repair_turn: bool = False


def _by_name(value: object) -> object:
    return {"task": value} if isinstance(value, str) else value


class TaskFile(Frozen):
    """All of `question.toml`; what is in a measure's table is read by the measure itself."""

    title: str = ""
    decide_on: str | None = None
    repeats: int | None = Field(default=None, ge=1, le=1000)
    answer: AnswerForm = AnswerForm()
    after: Annotated[EarlierAnswer, BeforeValidator(_by_name)] | None = None
    where: Condition | None = None
    judges: JudgedArms | None = None
    measures: dict[str, dict[str, Any]] = {}


@dataclass(frozen=True)
class MeasureTable:
    """A measure as it was written: its name, its type, and the rest of its table.

    `turn` is the turn of the conversation whose answer it looks at, from 1; None for the last.
    """

    name: str
    type: str
    table: Mapping[str, Any]
    turn: int | None = None


@dataclass(frozen=True)
class Task:
    """One question put to every case.

    `labels` are those of the measure that is decided on, or of the first that has any: what a
    prompt may list by `{{ labels }}`.
    """

    name: str
    title: str
    form: Form
    schema: Mapping[str, Any] | None
    decide_on: str | None
    measures: tuple[MeasureTable, ...]
    prompts: tuple[Prompt, ...]
    labels: tuple[str, ...] = field(default=())
    after: EarlierAnswer | None = None
    where: Condition | None = None
    send_schema: bool = False
    repair_turn: bool = False
    repeats: int | None = None
    judges: JudgedArms | None = None

    @property
    def heading(self) -> str:
        """The task's name, and its title where it has one."""
        return f"{self.name}: {self.title}" if self.title else self.name

    @property
    def file(self) -> str:
        """The question's file, as messages name it."""
        return f"tasks/{self.name}/question.toml"

    def told_schema(self) -> Mapping[str, Any] | None:
        """The schema, where the service gets it."""
        return self.schema if self.send_schema else None

    def schema_text(self) -> str:
        """The schema as text for a prompt; empty if there is none."""
        return self._schema_text

    @cached_property
    def _schema_text(self) -> str:
        return json.dumps(self.schema, ensure_ascii=False) if self.schema is not None else ""


def read_tasks(folder: Path, problems: list[Problem]) -> tuple[Task, ...]:
    """Every task of a project, by name; what is wrong is added to `problems` and left out."""
    found = [folder / "tasks" / name for name in task_names(folder)]
    if not found:
        problems.append(
            Problem("no task is there", "make tasks/NAME/question.toml and tasks/NAME/prompts/v1.toml", "tasks")
        )
    tasks = [_read_task(path, problems) for path in found]
    return tuple(task for task in tasks if task is not None)


def task_names(folder: Path) -> list[str]:
    """The names of a project's tasks: those of the folders in `tasks/`."""
    home = folder / "tasks"
    try:
        return sorted(path.name for path in home.iterdir() if path.is_dir() and not path.name.startswith("."))
    except (FileNotFoundError, NotADirectoryError):
        return []
    except OSError as error:
        raise ProjectError(unreadable_problem(error, "tasks")) from None


def _read_task(home: Path, problems: list[Problem]) -> Task | None:
    shown = f"tasks/{home.name}/question.toml"
    table = read_toml(home / "question.toml", shown, problems)
    prompts = read_prompts(home, problems)
    if table is None:
        return None
    question = validated(TaskFile, table, shown, problems)
    if question is None:
        return None
    schema = _read_schema(home, question, shown, problems)
    measures = tuple(_measure_tables(question, shown, problems))
    decide_on = _decided_on(question, measures, shown, problems)
    labels = _labels(measures, decide_on, schema)
    return Task(
        name=home.name,
        title=question.title,
        form=question.answer.form,
        schema=schema,
        decide_on=decide_on,
        measures=measures,
        prompts=prompts,
        labels=labels,
        after=question.after,
        where=question.where,
        send_schema=question.answer.send_schema,
        repair_turn=question.answer.repair_turn,
        repeats=question.repeats,
        judges=question.judges,
    )


def _read_schema(home: Path, question: TaskFile, shown: str, problems: list[Problem]) -> Mapping[str, Any] | None:
    name = question.answer.schema_file
    if name is None:
        return None
    if question.answer.form == "text":
        problems.append(
            Problem("a text answer has no schema", 'take it out, or set form = "json"', shown, "answer.schema")
        )
        return None
    file = f"tasks/{home.name}/{name}"
    if name.startswith("/") or ".." in name.split("/"):
        problems.append(Problem(f"'{name}' lies outside of the task's folder", "copy it in", shown, "answer.schema"))
        return None
    before = len(problems)
    schema = read_json(home / name, file, problems)
    if len(problems) > before:
        return None
    found = check_schema(schema, file)
    problems.extend(found)
    if found or not isinstance(schema, dict):
        return None
    return schema


def _measure_tables(question: TaskFile, shown: str, problems: list[Problem]) -> list[MeasureTable]:
    tables = []
    for name, table in question.measures.items():
        kind = table.get("type")
        if not isinstance(kind, str):
            problems.append(Problem("'type' is missing", 'add it, like type = "label"', shown, f"measures.{name}"))
            continue
        turn = table.get("turn")
        if turn is not None and (not isinstance(turn, int) or isinstance(turn, bool) or turn < 1):
            problems.append(Problem(f"{turn!r} is not a turn", "count from 1", shown, f"measures.{name}.turn"))
            turn = None
        rest = {key: value for key, value in table.items() if key not in ("type", "turn")}
        tables.append(MeasureTable(name, kind, rest, turn))
    return tables


def _decided_on(
    question: TaskFile, measures: tuple[MeasureTable, ...], shown: str, problems: list[Problem]
) -> str | None:
    if question.decide_on is None:
        return measures[0].name if measures else None
    if question.decide_on not in question.measures:
        what = f"there is no measure '{question.decide_on}'"
        problems.append(Problem(what, known_words(question.decide_on, question.measures), shown, "decide_on"))
        return None
    return question.decide_on


def _labels(
    measures: tuple[MeasureTable, ...], decide_on: str | None, schema: Mapping[str, Any] | None
) -> tuple[str, ...]:
    for measure in sorted(measures, key=lambda one: one.name != decide_on):
        if measure.type == "label":
            return labels_of(measure.table, schema)
    return ()


def labels_of(table: Mapping[str, Any], schema: Mapping[str, Any] | None) -> tuple[str, ...]:
    """The labels a measure's table lists, else those that the schema's `enum` lists at the same place."""
    labels = table.get("labels")
    if labels is None and schema is not None:
        labels = _enum_at(schema, table.get("at", ""))
    if not isinstance(labels, list):
        return ()
    return tuple(label for label in labels if isinstance(label, str))


def _enum_at(schema: Mapping[str, Any], pointer: object) -> object:
    try:
        part: Any = schema
        for step in JsonPointer(str(pointer)).parts:
            part = part["properties"][step]
        return part.get("enum")
    except (JsonPointerException, KeyError, TypeError, AttributeError):
        return None
