"""Chains: a task that comes `after` another one, and `where` it is asked at all."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import Field, field_validator, model_validator

from drovik.errors import Problem, known_words
from drovik.project.toml_files import Frozen

if TYPE_CHECKING:
    from drovik.project.tasks import Task


class After(Frozen):
    """Whose answer a task takes up: by the same model and prep, unless another model is named.

    Without `prompt` it is the prompt version of the same name, or the last one where there is none.
    """

    task: str
    model: str | None = None
    prompt: str | None = None

    def canonical(self) -> dict[str, object]:
        """What is given of it."""
        return self.model_dump(exclude_none=True)


class Where(Frozen):
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
            raise ValueError(f"'{at}' is no JSON Pointer; write it like /kind") from None
        return at

    @model_validator(mode="after")
    def _asks_something(self) -> Where:
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


def check_chains(tasks: Sequence[Task], models: Sequence[str]) -> list[Problem]:
    """Tasks that come after one that is not there, after themselves, or have a condition and nothing before."""
    by_name = {task.name: task for task in tasks}
    problems = []
    for task in tasks:
        after = task.after
        if after is None:
            if task.where is not None:
                what = "a condition is about the answer before, and the task comes after no other"
                problems.append(Problem(what, 'add after = "TASK"', task.file, "where"))
            continue
        before = by_name.get(after.task)
        if before is None:
            what = f"there is no task '{after.task}'"
            problems.append(Problem(what, known_words(after.task, by_name), task.file, "after"))
            continue
        if after.model is not None and after.model not in models:
            what = f"there is no model '{after.model}'"
            problems.append(Problem(what, known_words(after.model, models), task.file, "after.model"))
        names = [prompt.name for prompt in before.prompts]
        if after.prompt is not None and after.prompt not in names:
            what = f"'{after.task}' has no prompt version '{after.prompt}'"
            problems.append(Problem(what, known_words(after.prompt, names), task.file, "after.prompt"))
        if _comes_round(task, by_name):
            problems.append(Problem("it comes after itself, round a circle", "break it", task.file, "after"))
    return problems


def _comes_round(task: Task, by_name: dict[str, Task]) -> bool:
    seen, here = set(), task
    while here.after is not None and here.after.task in by_name:
        if here.name in seen:
            return True
        seen.add(here.name)
        here = by_name[here.after.task]
    return False
