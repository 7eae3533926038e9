"""Arms of a task with their answers and scores."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from drovik.evaluation.asked import Asks, add_outside, answered_within, asks_of_older, earlier_turns, repair_turns
from drovik.evaluation.judged_elsewhere import JudgesElsewhere, judge_elsewhere
from drovik.evaluation.judgements import people_measure
from drovik.evaluation.kept_judgements import KeptJudgements
from drovik.following import followed, following
from drovik.parsing.answer_text import Answer
from drovik.planning.answers import answers_to, judged_cases, pictures_sent
from drovik.planning.conversation import threads_of_task
from drovik.planning.plan import Thread
from drovik.project.arms import Arm
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.project.tasks import Task
from drovik.scoring.arm_scores import score_arm, with_wrong_before
from drovik.scoring.measure import Measure
from drovik.scoring.scores import ArmScores, Expectations
from drovik.store.answer_store import Store

_CASES = 5_000
"""Whose requests are in memory at once."""


@dataclass(frozen=True)
class ScoredArms:
    """Arms with what they were asked and answered, by arm and case, and their scores.

    `cases` are those of the task, which for one that judges are answers of another; `measures` has people's too.
    """

    cases: tuple[Case, ...]
    measures: tuple[Measure, ...]
    identities: Mapping[str, Mapping[str, str]]
    answers: Mapping[str, Mapping[str, Answer]]
    scores: tuple[ArmScores, ...]


@dataclass(frozen=True)
class ToScore:
    """What is the same for all arms of a task that are scored.

    `measures` know all that they have to; `wrong` are by arm the cases that the task before was wrong about already.
    """

    project: Project
    store: Store
    task: Task
    cases: tuple[Case, ...]
    digests: dict[str, str]
    measures: tuple[Measure, ...]
    judges: JudgesElsewhere
    wrong: Mapping[str, frozenset[str]] = field(default_factory=dict)

    @cached_property
    def judgements(self) -> KeptJudgements:
        """What the measures said before."""
        return KeptJudgements(self.store, self.task)

    @cached_property
    def expectations(self) -> Expectations:
        """What the measures look at in the expected outputs."""
        return Expectations(self.task, self.judgements.of)


def _threads(to_score: ToScore, arms: Sequence[Arm]) -> Iterator[Sequence[Thread]]:
    """What arms are asked, of some cases at a time where nothing of it depends on answers, which are read at once."""
    task, cases = to_score.task, to_score.cases
    is_plain = task.after is None and task.judges is None and not task.repair_turn
    at_once = _CASES if is_plain and not any(arm.prompt.turns for arm in arms) else max(1, len(cases))
    with following(f"looking up what was asked of {task.name}, in cases", len(cases)) as tell:
        for start in range(0, len(cases), at_once):
            some = cases[start : start + at_once]
            tell(start)
            yield threads_of_task(to_score.project, to_score.store, task, arms, some, to_score.digests)


def scored_arms(to_score: ToScore, arms: Sequence[Arm]) -> ScoredArms:
    """Arms of a task, scored."""
    project, store, task = to_score.project, to_score.store, to_score.task
    cases, digests, measures = to_score.cases, to_score.digests, to_score.measures
    today = [arm for arm in arms if "@" not in arm.name and arm.outside is None]
    asks, threads = Asks(arms), []
    for some in _threads(to_score, today):
        asks.add(one.requests[-1] for one in some if len(one.requests) > len(one.arm.prompt.turns))
        threads += [one for one in some if one.arm.prompt.turns or one.second or one.state == "not_asked"]
    if task.judges is not None:
        cases = judged_cases(project, store, task, cases, digests, threads_of_task)
    asks.add(asks_of_older(store, task, arms, cases))
    left_out = {(one.arm.name, one.case.id) for one in threads if one.state == "not_asked"}
    found = answers_to(project, store, task, asks.arms())
    of_periods = [answered_within(project, store, task, arm, cases, digests) for arm in arms if arm.period]
    if any(measure.wants_pictures for measure in measures):
        found = {one: answer._replace(pictures=tuple(pictures_sent(store, one))) for one, answer in found.items()}
    asked = asks.answered(found)
    for answered in of_periods:
        asked.add(answered)
    add_outside(asked, task, arms, cases)
    if people := people_measure(project, task, asked.answers):
        measures = (*measures, people)
    by_turn = earlier_turns(project, store, task, threads)
    second = repair_turns(project, store, task, threads)
    del threads, found  # of a hundred thousand cases these are as much memory as their scores
    known, keep = to_score.expectations, to_score.judgements.keep
    judge_elsewhere(to_score.judges, known, measures, cases, asked.repeats, keep)
    scores = []
    before = task.after.task if task.after else ""
    for arm in followed(f"scoring the arms of {task.name}", arms, len(arms)):
        own = [case for case in cases if (arm.name, case.id) not in left_out] if left_out else cases
        answers = asked.repeats[arm.name]
        made = score_arm(task, arm.name, measures, own, answers, by_turn.get(arm.name), second.get(arm.name), known)
        scores.append(with_wrong_before(made, before, to_score.wrong.get(arm.name, frozenset())))
    keep()
    return ScoredArms(cases, measures, asked.identities, asked.answers, tuple(scores))
