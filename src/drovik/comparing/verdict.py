"""Two arms' scores of one measure → a verdict: the difference, how sure it is, and it all in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import TYPE_CHECKING, Literal

from drovik.comparing import weighted_resampling as weighed
from drovik.comparing.statistics import (
    bootstrap_all,
    bootstrapped_interval,
    holm,
    mcnemar,
    paired_interval,
    permutation_test,
    score_interval,
    wilson_interval,
)
from drovik.errors import DrovikError, Problem, UsageError
from drovik.heavy import np
from drovik.scoring.measure import CaseScore, Measure
from drovik.scoring.scores import ArmScores, Costs, MeasureScore, ScoredCase, costs_of
from drovik.text import bounds_text, counted, difference_text, p_value, score_text

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats, Weighing

Outcome = Literal["better", "worse", "too close to call", "no difference", "no verdict"]

SIGNIFICANT = 0.05
"""The usual level: of arms that are alike, one pair in twenty is called different."""
_SAME = 1e-12
"""Below this two scores differ by rounding alone."""
_WORTH_SAYING = Decimal("1.1")
MOST_FAILED = 0.05
"""With a larger share of failed answers than this there is no verdict."""


@dataclass(frozen=True)
class Estimate:
    """A score with its 95 % interval and the number of cases it rests on."""

    value: float
    low: float
    high: float
    cases: int
    method: str
    coefficient: bool = False


@dataclass(frozen=True)
class Verdict:
    """What the comparison of two arms comes to. `difference` is the second's score less the first's.

    `outcome` says how the second is beside the first. `fixed` are the ids of the cases that are
    fully correct with the second and were not with the first, `broken` those of which the reverse is true;
    `improved` and `worsened` are the others that changed. Estimates and costs are of the common cases.
    """

    task: str
    measure: str
    what: str
    first: str
    second: str
    before: Estimate
    after: Estimate
    difference: float
    low: float
    high: float
    p: float
    test: str
    outcome: Outcome
    fixed: tuple[str, ...]
    broken: tuple[str, ...]
    improved: tuple[str, ...]
    worsened: tuple[str, ...]
    first_costs: Costs
    second_costs: Costs
    why: str = ""
    compared: int = 1


def estimate(score: MeasureScore) -> Estimate:
    """A measure's score with its interval; whole groups of cases are resampled if there are groups."""
    return _estimate(score.measure, score.scored)


def estimate_as_read(score: MeasureScore) -> Estimate | None:
    """What the score would be if answers off the schema were scored as read; None if there are none."""
    return _estimate(score.measure, score.as_read) if score.as_read else None


def estimate_figures(score: MeasureScore) -> dict[str, Estimate]:
    """A measure's further figures by name, each with its interval."""
    rows, grouped = _rows(score.measure, score.scored)
    found = {}
    figures = score.measure.figures
    values = bootstrap_all(rows, figures)
    plain = _is_plain(score.scored, grouped)
    for name, figure in figures(rows.sum(axis=0)).items():
        value = float(figure)
        if name in score.measure.shares and plain:
            (low, high), method = wilson_interval(value * len(rows), len(rows)), "Wilson"
        else:
            (low, high), method = bootstrapped_interval(value, values[name], len(rows))
        found[name] = Estimate(
            value=value,
            low=low,
            high=high,
            cases=len(score.scored),
            method=method,
            coefficient=name in score.measure.coefficients,
        )
    for name, weigh in score.measure.weighed([_score(one) for one in score.scored]).items():
        found[name] = _weighed_estimate(weigh, score.scored)
    return found


def _weighed_estimate(weigh: Weighing, cases: Sequence[ScoredCase]) -> Estimate:

    (low, high), method = weighed.interval(weigh, weighed.groups_of(cases))
    return Estimate(float(weigh(np.ones((1, len(cases))))[0]), low, high, len(cases), method)


def _is_plain(cases: Sequence[ScoredCase], grouped: bool) -> bool:
    """Whether each row is one answer, fully correct or wrong: no group of cases, and no mean of repeats."""
    return not grouped and all(len(one.repeats) < 2 for one in cases)


def _estimate(measure: Measure, cases: Sequence[ScoredCase]) -> Estimate:
    if measure.is_weighed:
        return _weighed_estimate(measure.weighed([_score(one) for one in cases])[measure.what], cases)
    rows, grouped = _rows(measure, cases)
    (low, high), method = score_interval(rows, measure.score_of, measure.binary and _is_plain(cases, grouped))
    value = float(measure.score_of(rows.sum(axis=0)))
    return Estimate(
        value=value, low=low, high=high, cases=len(cases), method=method, coefficient=measure.is_coefficient
    )


def _rows(measure: Measure, cases: Sequence[ScoredCase]) -> tuple[Floats, bool]:
    """The rows of statistics, summed over groups where some group has several cases; and whether that is so."""

    rows = measure.rows([_score(one) for one in cases])
    names = [one.case.group if one.case.group is not None else f"\0{one.case.id}" for one in cases]
    if len(set(names)) == len(names):
        return rows, False
    _, places = np.unique(names, return_inverse=True)
    sums = np.zeros((int(places.max()) + 1, rows.shape[1]))
    np.add.at(sums, places, rows)
    return sums, True


def _score(one: ScoredCase) -> CaseScore:
    assert one.score is not None, "only scored cases come here"
    return one.score


def compare_arms(first: ArmScores, second: ArmScores, measure_name: str) -> Verdict:
    """The verdict between two arms of a task, on the cases that both have answered.

    :raises DrovikError: where they have no case in common.
    """
    one, other = first.measure(measure_name), second.measure(measure_name)
    pairs = _common(one, other) if one and other else []
    if not pairs or one is None or other is None:
        what = f"{first.arm} and {second.arm} have no scored case in common in '{first.task}'"
        raise UsageError(Problem(what, "send them first: drovik send"))
    measure = one.measure
    before, after = [pair[0] for pair in pairs], [pair[1] for pair in pairs]
    values = _estimate(measure, before), _estimate(measure, after)
    fixed, broken, improved, worsened = _changed(pairs)
    low, high, p, test = _tested(measure, before, after, (len(broken), len(fixed)))
    verdict = Verdict(
        first.task, measure.name, measure.what, first.arm, second.arm, *values,
        values[1].value - values[0].value, low, high, p, test, "too close to call",
        fixed, broken, improved, worsened,
        costs_of([one for a in before for one in a.answers]), costs_of([one for b in after for one in b.answers]),
    )  # fmt: skip
    return judged(verdict, _too_many_failed(one, other))


def _tested(
    measure: Measure, before: Sequence[ScoredCase], after: Sequence[ScoredCase], changed: tuple[int, int]
) -> tuple[float, float, float, str]:
    """The interval of the difference of two arms, the p value, and the name of the test.

    :param changed: how many cases only the first has right, and only the second.
    """
    if measure.is_weighed:
        groups = weighed.groups_of(before)
        one, other = ([_score(case) for case in cases] for cases in (before, after))
        first, second = measure.weighed(one)[measure.what], measure.weighed(other)[measure.what]
        p = weighed.permutation_test(measure.weighed([*one, *other])[measure.what], groups)
        on_groups = " on whole groups" if len(set(groups)) < len(before) else ""
        return *weighed.paired_interval(first, second, groups), p, f"paired permutation test{on_groups}"
    (rows_before, grouped), (rows_after, _) = _rows(measure, before), _rows(measure, after)
    low, high = paired_interval(rows_before, rows_after, measure.score_of)
    if measure.binary and _is_plain(before, grouped) and _is_plain(after, grouped):
        return low, high, mcnemar(*changed), "exact McNemar test"
    p = permutation_test(rows_before, rows_after, measure.score_of)
    return low, high, p, "paired permutation test" + (" on whole groups" if grouped else "")


def _changed(pairs: Sequence[tuple[ScoredCase, ScoredCase]]) -> tuple[tuple[str, ...], ...]:
    """The ids of the cases that were fixed, broken, improved, worsened."""
    found: tuple[list[str], ...] = ([], [], [], [])
    for one, other in pairs:
        before, after = _score(one).value, _score(other).value
        if abs(after - before) > _SAME:
            whole = max(before, after) > 1 - _SAME
            found[(0 if whole else 2) + (after < before)].append(one.case.id)
    return tuple(tuple(ids) for ids in found)


def _common(one: MeasureScore, other: MeasureScore) -> list[tuple[ScoredCase, ScoredCase]]:
    theirs = {case.case.id: case for case in other.scored}
    return [(case, theirs[case.case.id]) for case in one.scored if case.case.id in theirs]


def _too_many_failed(*scores: MeasureScore) -> str:
    for score in scores:
        asked = score.failed + len(score.scored)
        if score.failed > MOST_FAILED * asked:
            return f"{score.failed} of {counted(asked, 'answer')} failed, more than {MOST_FAILED:.0%}"
    return ""


def judged(verdict: Verdict, hindrance: str = "") -> Verdict:
    """The verdict with its outcome: better or worse only where both the test and the interval say so.

    :param hindrance: why there can be no verdict, if there is a reason.
    """
    outcome: Outcome = "too close to call"
    if hindrance:
        outcome = "no verdict"
    elif not (verdict.fixed or verdict.broken or verdict.improved or verdict.worsened):
        outcome = "no difference"
    elif verdict.p < SIGNIFICANT and verdict.low > 0:
        outcome = "better"
    elif verdict.p < SIGNIFICANT and verdict.high < 0:
        outcome = "worse"
    return replace(verdict, outcome=outcome, why=hindrance or verdict.why)


def rank(arms: Sequence[ArmScores], measure_name: str) -> tuple[list[ArmScores], list[Verdict]]:
    """The arms from best to worst, and the verdict of the best beside each other one.

    The p values are adjusted for being several. An arm without a score is left out.
    """
    scored = [(arm, score.value) for arm in arms if (score := arm.measure(measure_name))]
    ordered = [arm for arm, _ in sorted(scored, key=lambda one: -one[1])]
    verdicts = []
    for arm in ordered[1:]:
        try:
            verdicts.append(compare_arms(arm, ordered[0], measure_name))
        except DrovikError:
            continue
    adjusted = holm([one.p for one in verdicts])
    together = [
        judged(replace(one, p=p, compared=len(verdicts)), one.why) for one, p in zip(verdicts, adjusted, strict=True)
    ]
    return ordered, together


def headline_verdicts(ordered: Sequence[ArmScores], verdicts: Sequence[Verdict]) -> list[Verdict]:
    """Of the verdicts of `rank`, those worth a sentence: on the second arm, and on each other model's best."""
    by_first = {one.first: one for one in verdicts}
    told: dict[str, Verdict] = {}
    models = {ordered[0].arm.split("/")[0]} if ordered else set()
    for place, arm in enumerate(ordered[1:]):
        model = arm.arm.split("/")[0]
        if arm.arm in by_first and (place == 0 or model not in models):
            told[arm.arm] = by_first[arm.arm]
        models.add(model)
    return list(told.values())


def verdict_text(verdict: Verdict) -> str:
    """The verdict as sentences: what it is, how sure, and what the one costs beside the other."""
    first, second = verdict.first, verdict.second
    plain = verdict.after.coefficient
    scores = f"{score_text(verdict.after.value, plain)} against {score_text(verdict.before.value, plain)}"
    low, high = bounds_text(verdict.low, verdict.high, plain, signed=True)
    apart = f"{difference_text(verdict.difference, plain)} (95 % interval {low} to {high})"
    test = verdict.test + (f", adjusted for {verdict.compared} comparisons" if verdict.compared > 1 else "")
    sure = f"{test}, p {p_value(verdict.p)}, {counted(verdict.after.cases, 'case')}"
    on = f"on {verdict.measure} ({verdict.what})"
    cost = _cost_in_words(verdict)
    if verdict.outcome == "no verdict":
        return f"No verdict between {second} and {first} {on}: {verdict.why}. Send the failed ones again first."
    if verdict.outcome == "no difference":
        return f"No difference {on}: {second} and {first} score alike in every case ({verdict.after.cases}).{cost}"
    if verdict.outcome == "too close to call":
        return f"Too close to call {on}: {second} {scores} of {first}, {apart}; {sure}.{cost}"
    return f"{second} is {verdict.outcome} than {first} {on}: {scores}, {apart}; {sure}.{cost}"


def _cost_in_words(verdict: Verdict) -> str:
    """How many times as much the costlier one costs; nothing if prices are unknown or in several currencies."""
    before, after = verdict.first_costs.money, verdict.second_costs.money
    if len(before) != 1 or before.keys() != after.keys():
        return ""
    (one,), (other,) = before.values(), after.values()
    if not one or not other:
        return ""
    costlier, times = (verdict.second, other / one) if other > one else (verdict.first, one / other)
    return (
        f" {costlier} costs {times:.1f} times as much."
        if times >= _WORTH_SAYING
        else " They cost the same, or nearly."
    )


def with_interval(one: Estimate) -> str:
    """A score with its interval."""
    return f"{score_text(one.value, one.coefficient)} ({' – '.join(bounds_text(one.low, one.high, one.coefficient))})"
