"""A task's measures, with all they have to know: what is expected, what judges and people said, who is trusted."""

from __future__ import annotations

from drovik.errors import Problem, UsageError
from drovik.parsing.status import Status
from drovik.planning.answers import answers_for
from drovik.planning.conversation import threads_of_task
from drovik.project.arms import arms_of, check_arm_words, fitting_arms
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.project.tasks import Task, judged_id
from drovik.scoring.catalogue import measures_of, measures_with_expectations
from drovik.scoring.measure import Measure
from drovik.scoring.measures.function import Function
from drovik.scoring.measures.judge import Judge
from drovik.store.answer_store import Store


def _heard(project: Project, store: Store, judge: Judge, cases: tuple[Case, ...], digests: dict[str, str]) -> Judge:
    """The measure with what its judge said of every answer, and people of some.

    :raises DrovikError: if the judge does not exist, or it has no such arm.
    """
    task = project.task(judge.by)
    if task.judges is None:
        what = f"the task '{judge.by}' judges no other"
        raise UsageError(Problem(what, f"say whose answers: [judges] in {task.file}"))
    arms = arms_of(task, project.settings)
    check_arm_words(arms, [judge.arm] if judge.arm else [])
    chosen = fitting_arms(arms, [judge.arm] if judge.arm else ())[:1]
    threads = threads_of_task(project, store, task, chosen, cases, digests)
    requests = [
        one.requests[-1] for one in threads if one.repeat == 1 and len(one.requests) > len(one.arm.prompt.turns)
    ]
    answers = answers_for(project, store, task, requests)
    verdicts = {
        request.case.id: answers[request.identity].value
        for request in requests
        if request.identity in answers and answers[request.identity].status is Status.OK
    }
    reviews = {
        judged_id(case, arm): verdict for (name, case, arm), verdict in project.reviews.items() if name == judge.by
    }
    return judge.heard(verdicts, reviews)


def task_measures(
    project: Project, store: Store, task: Task, cases: tuple[Case, ...], digests: dict[str, str], trust: bool
) -> tuple[tuple[Measure, ...], tuple[str, ...]]:
    """A task's measures, with all that they have to know; and the names of those that nobody trusted."""
    found: list[Measure] = []
    for one in measures_with_expectations(measures_of(task, []), task, project.cases):
        if isinstance(one, Judge):
            found.append(_heard(project, store, one, cases, digests))
        else:
            found.append(one.trusted(project.folder) if isinstance(one, Function) and trust else one)
    not_run = tuple(one.name for one in found if isinstance(one, Function) and not one.may_run)
    return tuple(one for one in found if one.name not in not_run), not_run
