"""A question asked by hand → a project of one task with one prompt, so that all that sends tasks sends it too.

The question is given to the prompt as a fact, so that nothing in it is taken for a template.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from drovik.project.arms import Arm, arms_of
from drovik.project.cases import Case, Picture
from drovik.project.dialects import Dialect
from drovik.project.opening import Project
from drovik.project.prompts import Prompt
from drovik.project.settings import ProjectFile
from drovik.project.tasks import Task

TASK, PROMPT = "by-hand", "asked"


@dataclass(frozen=True)
class Question:
    """What is asked: the text, the rules, the schema of the answer, and whether the service is told it."""

    text: str = ""
    system: str = ""
    schema: Mapping[str, Any] | None = None
    send_schema: bool = False


def by_hand(
    folder: Path,
    settings: ProjectFile,
    dialects: dict[str, Dialect],
    keys: dict[str, str],
    question: Question,
    cases: Sequence[tuple[str, Sequence[Picture]]],
) -> tuple[Project, Task, tuple[Arm, ...]]:
    """A project, its one task, and an arm for each of its models.

    :param cases: of each its id and its pictures.
    """
    variables = frozenset(("question", "rules"))
    prompt = Prompt(PROMPT, "the question", "", "{{ rules }}", "{{ question }}", variables)
    form = "json" if question.schema is not None else "text"
    task = Task(TASK, "", form, question.schema, None, (), (prompt,), send_schema=question.send_schema)  # type: ignore[arg-type]
    given = {"question": question.text, "rules": question.system}
    made = tuple(Case(name, tuple(pictures), given, {}, None, "tune", frozenset(), "") for name, pictures in cases)
    project = Project(folder, settings, dialects, (task,), made, keys)
    return project, task, arms_of(task, settings)
