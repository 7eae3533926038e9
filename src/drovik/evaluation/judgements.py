"""People's judgements → what they are worth beside the answers of today."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from drovik.parsing.answer_text import Answer
from drovik.project.reading import Project
from drovik.project.reviews import VERDICTS, WORTH, Judgement, answer_mark
from drovik.project.tasks import Task
from drovik.scoring.measures.people import NAME, People

Answers = Mapping[str, Mapping[str, Answer]]
"""By arm and case."""


@dataclass(frozen=True)
class TodaysJudgements:
    """A task's judgements that hold for the answers of today; `stale` are of answers that changed since."""

    of_answers: tuple[Judgement, ...]
    preferences: tuple[Judgement, ...]
    stale: int


def todays_judgements(project: Project, task: Task, answers: Answers) -> TodaysJudgements:
    """What people say of a task's answers."""
    mine = [one for one in project.judgements if one.task == task.name]
    holding = [one for one in mine if _holds(one, answers)]
    return TodaysJudgements(
        # What became an expected output itself agrees with it, and says nothing of the measures.
        tuple(one for one in holding if one.arms is None and one.verdict in VERDICTS and not one.fill),
        tuple(one for one in holding if one.arms is not None and one.prefer is not None),
        len(mine) - len(holding),
    )


def _holds(one: Judgement, answers: Answers) -> bool:
    """Whether what was judged is what the arms answer today; a line without a mark is taken at its word."""
    arms = one.arms or (one.arm,)
    found = [answers.get(arm, {}).get(one.case) for arm in arms]
    if any(answer is None for answer in found):
        return False
    return not one.answers or one.answers == tuple(answer_mark(answer.text) for answer in found if answer)


def people_measure(project: Project, task: Task, answers: Answers) -> People | None:
    """The measure of what people said; None where nobody said anything, or a measure of the task has its name."""
    if not project.judgements or any(one.name == NAME for one in task.measures):
        return None
    said = by_answer(todays_judgements(project, task, answers).of_answers)
    worth = {key: [(WORTH[one.verdict], one.note) for one in judged] for key, judged in said.items()}
    return People(worth) if worth else None


def by_answer(judgements: Iterable[Judgement]) -> dict[tuple[str, str], list[Judgement]]:
    """Judgements by case and arm, a person's one at most in each."""
    found: dict[tuple[str, str], list[Judgement]] = {}
    for one in judgements:
        found.setdefault((one.case, one.arm), []).append(one)
    return found
