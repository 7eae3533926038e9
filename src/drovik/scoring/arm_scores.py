"""Answers of one arm → its scores: per measure, with every case's statistics, and what was paid."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial

from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.agreement import comparable, pairwise_agreement
from drovik.scoring.causes.cause_table import (
    ANOTHER_CASES_CONTENT,
    BEYOND_COMPARING,
    NO_REPLY,
    OF_STATUS,
    SHOULD_HAVE_DECLINED,
)
from drovik.scoring.causes.label_causes import explained, other_case_answered
from drovik.scoring.judged_pairs import Judged
from drovik.scoring.measure import (
    UNTOLD,
    AnswerContext,
    CannotScore,
    Finding,
    Measure,
    mean_of,
)
from drovik.scoring.scores import (
    ArmScores,
    Expectations,
    MeasureScore,
    RepairTurns,
    ScoredCase,
    costs_of,
)

MOST_COMPARED = 500_000
"""Characters of an answer. A longer one is a model that has lost its way: seconds of every measure, and a miss."""


Repeats = Mapping[str, Sequence[Answer | None]]
"""By the case's id, the answers to all of its repeats, the first among them; None if there is none."""


def score_arm(
    task: Task,
    arm_name: str,
    measures: Sequence[Measure],
    cases: Sequence[Case],
    answers: Repeats,
    by_turn: Mapping[int, Repeats] | None = None,
    second: Mapping[tuple[str, int], Answer] | None = None,
    expectations: Expectations | None = None,
) -> ArmScores:
    """The scores of an arm.

    :param answers: to the last turn.
    :param by_turn: the answers to the turns before, by turn and case; they are paid for as well.
    :param second: the answers of repair turns, by case and repeat (from 0).
    :param expectations: what the measures look at, where other arms are scored by the same.
    """
    known = expectations or Expectations(task)
    every = [answer for case in cases for answer in answers.get(case.id, (None,))]
    present = [answer for answer in every if answer is not None]
    turns = by_turn or {}
    before = [answer for one in turns.values() for case in cases for answer in one.get(case.id, ())]
    paid = present + [answer for answer in before if answer is not None]
    found, not_scored = _score_measures(known, arm_name, measures, cases, answers, turns)
    most = max((len(one) for one in answers.values()), default=1)
    return ArmScores(
        task=task.name,
        arm=arm_name,
        statuses=Counter(one.status for one in present),
        how=Counter(one.how for one in present if one.how),
        unsent=len(every) - len(present),
        costs=costs_of(paid),
        measures=found,
        second=_repair_turns(known, arm_name, measures, cases, answers, turns, second or {}),
        repeats=most,
        agreement=_agreement(answers) if most > 1 else None,
        not_scored=not_scored,
        decide_on=task.decide_on,
    )


def _agreement(answers: Repeats) -> float | None:
    """The share of pairs of repeats that answer the same."""
    return pairwise_agreement(
        {
            case: [None if one.status is Status.FAILED else comparable(one) for one in values if one is not None]
            for case, values in answers.items()
        }
    )


def _score_measures(
    known: Expectations,
    arm: str,
    measures: Sequence[Measure],
    cases: Sequence[Case],
    answers: Repeats,
    turns: Mapping[int, Repeats],
) -> tuple[tuple[MeasureScore, ...], dict[str, str]]:
    """The scores, and why measures have none where that is their own failure."""
    found, not_scored = [], {}
    turn_of = {one.name: one.turn for one in known.task.measures}
    for measure in measures:
        score = _score_measure(known, arm, measure, cases, turns.get(turn_of.get(measure.name) or 0, answers))
        if isinstance(score, MeasureScore):
            found.append(score)
        elif score:
            not_scored[measure.name] = score
    return tuple(found), not_scored


def _repair_turns(
    known: Expectations,
    arm: str,
    measures: Sequence[Measure],
    cases: Sequence[Case],
    answers: Repeats,
    turns: Mapping[int, Repeats],
    second: Mapping[tuple[str, int], Answer],
) -> RepairTurns | None:
    if not second:
        return None
    mended = {
        case: [second.get((case, number), answer) for number, answer in enumerate(values)]
        for case, values in answers.items()
    }
    scores, _ = _score_measures(known, arm, measures, cases, mended, turns)
    in_form = sum(one.status is Status.OK for one in second.values())
    return RepairTurns(len(second), in_form, scores, costs_of(list(second.values())))


def _score_measure(
    known: Expectations, arm: str, measure: Measure, cases: Sequence[Case], answers: Repeats
) -> MeasureScore | str:
    """The score, or why there is none; that is empty where there was nothing to score."""
    expected = known.of(measure, cases)
    looks_at_all = type(measure).looks_at is Measure.looks_at
    scored = []
    for case in cases:
        id_ = case.id
        if id_ in expected and (looks_at_all or measure.looks_at(id_, arm)):
            wanted, given = expected[id_], answers.get(id_, (None,))
            if len(given) == 1:
                scored.append(_known_score(known, measure, case, given[0], wanted, arm))
            else:
                scored.append(_mean_of(case, [_known_score(known, measure, case, one, wanted, arm) for one in given]))
    if type(measure).traits is not Measure.traits:
        scored = _told_of_other_cases(partial(known.traits, measure, cases), measure, scored)
    done = [one.score for one in scored if one.score is not None]
    if not done:
        return next((one.note for one in scored if one.note), "")
    failed = [expected[one.case.id] for one in scored if one.score is None and one.answers]
    bounds = None
    if failed:
        low = measure.combine([*done, *(measure.worst(one, NO_REPLY) for one in failed)])
        high = measure.combine([*done, *(measure.best(one) for one in failed)])
        bounds = (low, high)
    totals = measure.totals(done)
    value = measure.combine(done) if measure.is_weighed else float(measure.score_of(totals))
    return MeasureScore(
        measure=measure, cases=tuple(scored), value=value, bounds=bounds, tables=measure.tables(totals), totals=totals
    )


def _known_score(
    known: Expectations, measure: Measure, case: Case, answer: Answer | None, expected: object, arm: str
) -> ScoredCase:
    """The case with its score; the same answer is held against the same expected output once, whoever gave it."""
    if answer is None or not answer.text or not measure.is_of_pairs:
        return score_case(known.task, measure, case, answer, expected, arm)
    judged = known.judged(measure)
    # What an answer is read as depends on no more than its text, and on how its reply ended, which the status says.
    key = known.key(case), answer.status, answer.how, answer.text
    found = judged.find(key)
    if found is None:
        one = score_case(known.task, measure, case, answer, expected, arm)
        if judged.has_room():
            judged.add(key, Judged(one.score, one.as_read, one.note))
        return one
    return ScoredCase(case, answer, found.score, found.as_read, (), found.note)


def _told_of_other_cases(
    traits: Callable[[], Mapping[str, frozenset[str]]], measure: Measure, scored: list[ScoredCase]
) -> list[ScoredCase]:
    """The scored cases, with those findings replaced whose answer is about another case."""
    missed = {
        one.case.id: (one.answer, one.as_read or one.score)
        for one in scored
        if one.score
        and one.answer
        and one.score.findings
        and not one.repeats
        and one.answer.status is not Status.REFUSED
    }
    other = other_case_answered(measure, traits, missed) if missed else {}
    if not other:
        return scored

    def told(one: ScoredCase) -> ScoredCase:
        if one.case.id not in other or one.score is None:
            return one
        first = one.score.findings[0]
        found = Finding("", first.expected, f"what is in case {other[one.case.id]}", ANOTHER_CASES_CONTENT)
        return one._replace(score=one.score._replace(findings=(found,)))

    return [told(one) for one in scored]


def _mean_of(case: Case, every: Sequence[ScoredCase]) -> ScoredCase:
    """Several answers to one case as one: the means of what those that have a score come to."""
    done = [one for one in every if one.score is not None]
    if not done:
        return ScoredCase(case, every[0].answer, None, None, tuple(every))
    as_read = None
    if any(one.as_read for one in done):
        as_read = mean_of([found for one in done if (found := one.as_read or one.score)])
    score = mean_of([one.score for one in done if one.score])
    return ScoredCase(case, every[0].answer, score, as_read, tuple(every))


def with_wrong_before(scores: ArmScores, before: str, wrong: frozenset[str]) -> ArmScores:
    """The scores with each finding saying so where the task before was wrong about the case already.

    :param before: the task before.
    :param wrong: the ids of the cases that it was wrong about.
    """
    if not wrong:
        return scores

    def told(one: ScoredCase) -> ScoredCase:
        if one.score is None or one.case.id not in wrong:
            return one
        findings = tuple(found._replace(note=f"{before} was wrong already") for found in one.score.findings)
        return one._replace(score=one.score._replace(findings=findings))

    measures = tuple(replace(measure, cases=tuple(map(told, measure.cases))) for measure in scores.measures)
    return replace(scores, measures=measures)


def score_case(
    task: Task, measure: Measure, case: Case, answer: Answer | None, expected: object, arm: str = ""
) -> ScoredCase:
    """One case by the rules of the statuses: what is not valid scores the measure's worst.

    :param expected: what the measure looks at, not ABSENT.
    :param arm: the name of the arm that answered.
    """
    if answer is None or answer.status is Status.FAILED:
        return ScoredCase(case, answer, None)
    if task.name in case.refusal:
        right = answer.status is Status.REFUSED
        return ScoredCase(
            case, answer, measure.best(expected) if right else measure.worst(expected, SHOULD_HAVE_DECLINED)
        )
    in_form = (
        answer.status is Status.OK
        or (answer.status is Status.CUT_OFF and task.form == "text" and answer.value is not None)
        or (measure.takes_any_status and answer.status.has_text)
    )
    if len(answer.text) > MOST_COMPARED:
        return ScoredCase(case, answer, measure.worst(expected, BEYOND_COMPARING))
    if in_form or answer.status.is_scored:
        try:
            said = (
                AnswerContext(answer.text, answer.how, answer.pictures, arm, case.id)
                if measure.wants_said
                else UNTOLD
            )
            read = measure.per_case(answer.value, expected, said)
            if in_form and not read.findings:
                return ScoredCase(case, answer, read)
            findings = explained(measure, answer, expected, read)
        except CannotScore as error:
            return ScoredCase(case, answer, None, note=str(error))
        except Exception:  # an answer that no measure was made for is a miss, and not the end of scoring
            return ScoredCase(case, answer, measure.worst(expected, BEYOND_COMPARING))
        if in_form:
            return ScoredCase(case, answer, read if findings is read.findings else read._replace(findings=findings))
        # What it would take to undo a finding is worked out from the statistics as read, and these are the worst.
        plain = tuple(one._replace(effect=()) for one in findings)
        return ScoredCase(case, answer, measure.worst(expected, "")._replace(findings=plain), read)
    return ScoredCase(case, answer, measure.worst(expected, OF_STATUS[answer.status]))
