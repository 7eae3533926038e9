"""The next prompt version, written by a model: a question of its own, planned and kept as any other."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from drovik.errors import Problem, ServiceError, UsageError, known_words
from drovik.evaluation.prompt_writing import (
    WRITTEN_SCHEMA,
    draft_of_written,
    facts_for_writing,
    writing_task_name,
)
from drovik.parsing.status import Status
from drovik.planning.answers import answers_for
from drovik.planning.conversation import threads_of_task
from drovik.planning.plan import plan_sending
from drovik.planning.sources import adhoc_project, source_digests
from drovik.project.preps import Prep
from drovik.workflow.asking import question_with
from drovik.workflow.sending_plan import Planned
from drovik.workflow.services import Services

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.prompt_draft import PromptDraft
    from drovik.project.arms import Arm
    from drovik.project.models import Model
    from drovik.project.reading import Project
    from drovik.store.answer_store import Store

_ROOM = 2000
"""Tokens that a written prompt may take, where a model's own limit is for short answers."""


@dataclass(frozen=True)
class PromptWriting:
    """What is to be sent so that a model writes the next version of an arm's prompt."""

    project: Project
    planned: Planned
    view: TaskView
    arm: Arm
    model: str

    def draft(self, store: Store, name: str) -> PromptDraft:
        """The draft, once it was sent.

        :param name: what the version is called.
        :raises ServiceError: where no answer came, or it is no prompt.
        :raises UsageError: where what it wrote cannot be a prompt of this task.
        """
        (request,) = self.planned.requests()
        answer = answers_for(self.project, store, request.task, [request]).get(request.identity)
        if answer is None or answer.status is not Status.OK:
            what = "did not answer" if answer is None else f"wrote no prompt: {answer.status.words}"
            remedy = "ask again, or another model: --by-model NAME"
            raise ServiceError(Problem(f"{self.model} {what}", remedy))
        return draft_of_written(self.view, self.arm, name, self.model, answer.value)


def plan_writing(project: Project, store: Store, view: TaskView, arm: Arm, model: str) -> PromptWriting:
    """Plan that a model writes the next version of an arm's prompt; what it wrote from the same facts is kept,
    and what was no answer is asked for again.

    :raises UsageError: where the project has no such model, or the arm has no misses that can be told.
    """
    models = project.settings.models
    if model not in models:
        raise UsageError(Problem(f"there is no model '{model}'", known_words(model, models)))
    services = Services(project.folder, project.settings, project.dialects, project.keys)
    question = question_with(services, [model], facts_for_writing(view, arm), "", WRITTEN_SCHEMA)
    settings = project.settings.changed(models={model: _for_writing(models[model])}, preps={"full": Prep()})
    case = f"{arm.name} of {view.task.name}"
    made = adhoc_project(project.folder, settings, project.dialects, project.keys, question, [(case, ())])
    task = replace(made.task, name=writing_task_name(view.task))
    asking = replace(made.project, tasks=(task,))
    sources = source_digests(asking, store, asking.cases)
    threads = threads_of_task(asking, store, task, made.arms, asking.cases, sources)
    requests = [request for one in threads for request in one.every]
    answers = answers_for(asking, store, task, requests)
    unusable = [identity for identity, answer in answers.items() if answer.status is not Status.OK]
    plan = plan_sending(requests, store.concluded(), unusable)
    planned = Planned(plan, {task.name: made.arms}, {task.name: threads}, sources)
    return PromptWriting(asking, planned, view, arm, model)


def _for_writing(model: Model) -> Model:
    """The model, asked once, with room for a prompt where it has a limit at all."""
    limit = model.settings.max_output_tokens
    settings = model.settings
    if limit is not None and limit < _ROOM:
        settings = settings.changed(max_output_tokens=_ROOM)
    return model.changed(settings=settings, repeats=None)
