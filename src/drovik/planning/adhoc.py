"""A question asked by hand → a project of one task with one prompt, so that all that sends tasks sends it too.

What is asked is given to the prompt as facts, so that nothing in it is taken for a template.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from drovik.project.arms import Arm, arms_of
from drovik.project.cases import Case, Picture
from drovik.project.dialects import Dialect
from drovik.project.picture_files import PictureFolder
from drovik.project.prompts import Prompt
from drovik.project.reading import Project
from drovik.project.settings import ProjectFile
from drovik.project.tasks import Form, Task

TASK, PROMPT = "by-hand", "asked"


@dataclass(frozen=True)
class Question:
    """What is asked: the text, the rules, the schema of the answer, and whether the service is told it.

    `later` are the turns of a conversation after the first, each with its text and the numbers of the
    pictures that come with it, from 1.
    """

    text: str = ""
    system: str = ""
    schema: Mapping[str, Any] | None = None
    send_schema: bool = False
    later: tuple[tuple[str, tuple[int, ...]], ...] = ()

    def prompt(self) -> Prompt:
        """The prompt version that asks it, its text in variables."""
        turns = tuple(
            "".join(f"{{{{ picture({one}) }}}}" for one in pictures) + f"{{{{ turn_{number} }}}}"
            for number, (_, pictures) in enumerate(self.later, 2)
        )
        names = frozenset(("question", "rules", *(f"turn_{number}" for number in range(2, len(turns) + 2))))
        return Prompt(PROMPT, "the question", "", "{{ rules }}", "{{ question }}", names, turns)

    def given(self) -> dict[str, Any]:
        """The facts that fill the prompt."""
        turns = {f"turn_{number}": text for number, (text, _) in enumerate(self.later, 2)}
        return {"question": self.text, "rules": self.system, **turns}


@dataclass(frozen=True)
class ByHand:
    """A project made for one question: its task, and an arm for each model and prep."""

    project: Project
    task: Task
    arms: tuple[Arm, ...]


def by_hand(
    folder: Path,
    settings: ProjectFile,
    dialects: dict[str, Dialect],
    keys: dict[str, str],
    question: Question,
    cases: Sequence[tuple[str, Sequence[Picture]]] = (),
) -> ByHand:
    """A project for a question.

    :param folder: from where the pictures' paths count.
    :param cases: of each its id and its pictures.
    """
    form: Form = "json" if question.schema is not None else "text"
    task = Task(TASK, "", form, question.schema, None, (), (question.prompt(),), send_schema=question.send_schema)
    given = question.given()
    made = tuple(Case(name, tuple(pictures), given, {}, None, "tune", frozenset(), "") for name, pictures in cases)
    project = Project(folder, settings, dialects, (task,), made, keys, PictureFolder(folder, None))
    return ByHand(project, task, arms_of(task, settings))
