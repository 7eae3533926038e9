"""Two arms' scores of one measure → a verdict: the difference, how sure it is, and it all in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Literal

from drovik.comparing.contrast import (
    Contrast,
    Sample,
    case_score,
    contrast_of,
    group_count,
    groups_of,
    sample_of,
    sizes_of,
    unit_kinds,
)
from drovik.comparing.intervals import LEVEL, score_interval, wilson_interval
from drovik.comparing.jackknife import Spread, leave_out_kinds, leave_out_weighed
from drovik.errors import Problem, UsageError
from drovik.money import add_money, money_text
from drovik.scoring.measure import Measure
from drovik.scoring.scores import ArmScores, Costs, MeasureScore, ScoredCase, costs_of
from drovik.text import about, bounds_text, counted, difference_text, p_value, score_text

Outcome = Literal["better", "worse", "too close to call", "too few cases", "no difference", "no verdict"]

SIGNIFICANT = 1 - LEVEL
"""The usual level: of arms that are alike, one pair in twenty is called different."""
_SAME = 1e-12
"""Below this two scores differ by rounding alone."""
_WORTH_SAYING = Decimal("1.1")
MOST_FAILED = 0.05
"""With a larger share of failed answers than this there is no verdict."""
WILSON, EFFECTIVE = "Wilson", "Wilson on effective cases"
"""The methods of the intervals of scores."""


@dataclass(frozen=True)
class Estimate:
    """A score with its 95 % interval and the number of cases it rests on, and of groups, where they have some."""

    value: float
    low: float
    high: float
    cases: int
    method: str
    coefficient: bool = False
    groups: int | None = None


@dataclass(frozen=True, eq=False)
class Judgement:
    """A contrast with the p value and the level of the interval as they are among all comparisons that are made."""

    contrast: Contrast
    p: float
    level: float = LEVEL
    compared: int = 1
    failed: str = ""
    """Why there can be no verdict, where too many answers failed."""

    @cached_property
    def outcome(self) -> Outcome:
        """How the second arm is beside the first; by the interval, with which p agrees."""
        if self.failed:
            return "no verdict"
        if self.contrast.differing == 0:
            return "no difference"
        if self.contrast.undecidable:
            return "too few cases"
        low, high = self.contrast.interval(self.level)
        if self.p >= SIGNIFICANT or low <= 0 <= high:
            return "too close to call"
        return "better" if low > 0 else "worse"


@dataclass(frozen=True)
class Verdict:
    """What the comparison of two arms comes to. `difference` is the second's score less the first's.

    `low` and `high` are its interval, `p` is of the test that belongs to it; among several comparisons both are
    adjusted. `outcome` says how the second is beside the first. `fixed` are the ids of the cases that are
    fully correct with the second and were not with the first, `broken` those of which the reverse is true;
    `improved` and `worsened` are the others that changed. Estimates and costs are of the common cases. `needed` is
    about how many cases would decide a difference like this; None where it is decided, or none would.
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
    needed: int | None = None


def estimate(score: MeasureScore) -> Estimate:
    """A measure's score with its interval; whole groups of cases are left out if there are groups."""
    return estimate_of(sample_of("", score.measure, score.scored))


def estimate_as_read(score: MeasureScore) -> Estimate | None:
    """What the score would be if answers off the schema were scored as read; None if there are none."""
    return estimate_of(sample_of("", score.measure, score.as_read)) if score.as_read else None


def estimate_of(sample: Sample) -> Estimate:
    """The score of a sample with its interval."""
    measure = sample.measure
    return _estimate(
        measure, measure.what, sample.spread, len(sample.cases), sample.group_count, is_share=sample.is_plain
    )


def _estimate(
    measure: Measure, figure: str, spread: Spread, cases: int, groups: int | None, is_share: bool
) -> Estimate:
    if is_share:
        (low, high), method = wilson_interval(spread.value * cases, cases), WILSON
    else:
        (low, high), method = score_interval(spread, measure.bounds_of(figure)), EFFECTIVE
    least = 0.0 if figure in measure.floored else low
    return Estimate(
        value=max(spread.value, least), low=max(low, least), high=max(high, least), cases=cases, method=method,
        coefficient=figure in measure.coefficients, groups=groups,
    )  # fmt: skip


def estimate_figures(score: MeasureScore) -> dict[str, Estimate]:
    """A measure's further figures by name, each with its interval."""
    measure, groups = score.measure, groups_of(score.scored)
    scores = [case_score(one) for one in score.scored]
    spreads = leave_out_kinds(*unit_kinds(measure, scores, groups), measure.figures, sizes_of(groups))
    spreads |= {name: leave_out_weighed(weigh, groups) for name, weigh in measure.weighed(scores).items()}
    cases, count = len(score.scored), group_count(groups)
    alone = count is None and all(len(one.repeats) < 2 for one in score.scored)
    return {
        name: _estimate(measure, name, spread, cases, count, is_share=alone and name in measure.shares)
        for name, spread in spreads.items()
    }


def compare_arms(first: ArmScores, second: ArmScores, measure_name: str) -> Verdict:
    """The verdict between two arms of a task, on the cases that both have answered.

    :raises DrovikError: where they have no case in common.
    """
    one, other = first.measure(measure_name), second.measure(measure_name)
    pairs = common_cases(one, other) if one and other else []
    if not pairs or one is None or other is None:
        what = f"{first.arm} and {second.arm} have no scored case in common in '{first.task}'"
        raise UsageError(Problem(what, "send them first: drovik send"))
    samples = [sample_of(first.task, one.measure, cases) for cases in zip(*pairs, strict=True)]
    contrast = contrast_of(*samples)
    failed = failed_answers(one) or failed_answers(other)
    return verdict_of((first, samples[0]), (second, samples[1]), Judgement(contrast, contrast.p, failed=failed))


def verdict_of(first: tuple[ArmScores, Sample], second: tuple[ArmScores, Sample], judgement: Judgement) -> Verdict:
    """The verdict between two arms on the cases of their samples, as it was judged."""
    contrast, outcome = judgement.contrast, judgement.outcome
    (one, before), (other, after) = first, second
    fixed, broken, improved, worsened = _changed(list(zip(before.cases, after.cases, strict=True)))
    low, high = contrast.interval(judgement.level)
    undecided = outcome in ("too close to call", "too few cases")
    return Verdict(
        task=one.task,
        measure=before.measure.name,
        what=before.measure.what,
        first=one.arm,
        second=other.arm,
        before=estimate_of(before),
        after=estimate_of(after),
        difference=contrast.spread.value,
        low=low,
        high=high,
        p=judgement.p,
        test=contrast.test,
        outcome=outcome,
        fixed=fixed,
        broken=broken,
        improved=improved,
        worsened=worsened,
        first_costs=costs_of([answer for case in before.cases for answer in case.answers]),
        second_costs=costs_of([answer for case in after.cases for answer in case.answers]),
        why=judgement.failed or (contrast.undecidable if outcome == "too few cases" else ""),
        compared=judgement.compared,
        needed=contrast.needed() if undecided else None,
    )


def _changed(pairs: Sequence[tuple[ScoredCase, ScoredCase]]) -> tuple[tuple[str, ...], ...]:
    """The ids of the cases that were fixed, broken, improved, worsened."""
    found: tuple[list[str], ...] = ([], [], [], [])
    for one, other in pairs:
        before, after = case_score(one).value, case_score(other).value
        if abs(after - before) > _SAME:
            whole = max(before, after) > 1 - _SAME
            found[(0 if whole else 2) + (after < before)].append(one.case.id)
    return tuple(tuple(ids) for ids in found)


def common_cases(one: MeasureScore, other: MeasureScore) -> list[tuple[ScoredCase, ScoredCase]]:
    """The cases that both have a score for, as the one has them and as the other."""
    theirs = {case.case.id: case for case in other.scored}
    return [(case, theirs[case.case.id]) for case in one.scored if case.case.id in theirs]


def failed_answers(score: MeasureScore) -> str:
    """Of how many answers too many failed, in words; empty where that is at most one in twenty. Repeats count."""
    asked = [answer for one in score.cases for answer in one.answers]
    failed = sum(one.failed_answers for one in score.cases)
    if failed > MOST_FAILED * len(asked):
        return f"{failed} of {counted(len(asked), 'answer')} failed, more than {MOST_FAILED:.0%}"
    return ""


def verdict_text(verdict: Verdict) -> str:
    """The verdict as sentences: what it is, how sure, and what the one costs beside the other."""
    first, second = verdict.first, verdict.second
    plain = verdict.after.coefficient
    scores = f"{score_text(verdict.after.value, plain)} against {score_text(verdict.before.value, plain)}"
    low, high = bounds_text(verdict.low, verdict.high, plain, signed=True)
    apart = f"{difference_text(verdict.difference, plain)} (95 % interval {low} to {high})"
    on = f"on {verdict.measure} ({verdict.what})"
    cost = _cost_in_words(verdict)
    if verdict.outcome == "no verdict":
        return f"No verdict between {second} and {first} {on}: {verdict.why}. Send the failed ones again first."
    if verdict.outcome == "no difference":
        return f"No difference {on}: {second} and {first} score alike in every case ({verdict.after.cases}).{cost}"
    if verdict.outcome == "too few cases":
        return f"Too few cases {on}: {second} {scores} of {first}, {apart}; {verdict.why}{_needed(verdict)}.{cost}"
    test = verdict.test + (f", adjusted for {verdict.compared} comparisons" if verdict.compared > 1 else "")
    sure = f"{test}, p {p_value(verdict.p)}, {cases_text(verdict.after)}"
    if verdict.outcome == "too close to call":
        return f"Too close to call {on}: {second} {scores} of {first}, {apart}; {sure}{_needed(verdict)}.{cost}"
    return f"{second} is {verdict.outcome} than {first} {on}: {scores}, {apart}; {sure}.{cost}"


MOST_IN_A_LINE = 100
"""Characters of a verdict in one line: what a terminal shows without a break."""


def verdict_line(verdict: Verdict) -> str:
    """The verdict in one line: what it is, by how much, between which bounds."""
    first, second, on = verdict.first, verdict.second, f"on {verdict.measure}"
    plain = verdict.after.coefficient
    low, high = bounds_text(verdict.low, verdict.high, plain, signed=True)
    apart, between = difference_text(verdict.difference, plain), f" ({low} to {high})"
    if verdict.outcome == "no verdict":
        return f"No verdict {on} between {second} and {first}: {verdict.why}."
    if verdict.outcome == "no difference":
        return f"No difference {on}: {second} and {first} score alike in every case."
    if verdict.outcome in ("better", "worse"):
        forms = [f"{second} is {verdict.outcome} than {first} {on}: {apart}{between}."]
    else:
        what = verdict.outcome.capitalize()
        needed = "" if verdict.needed is None else f"; about {about(verdict.needed)} cases would decide"
        forms = [f"{what} {on}: {second} {apart}{between} beside {first}{needed}."]
    forms += [one.replace(between, "") for one in forms]
    return next((one for one in forms if len(one) <= MOST_IN_A_LINE), forms[-1])


def verdict_details(verdict: Verdict) -> str:
    """How sure a verdict is, by which test, on how many cases, and what the one costs beside the other."""
    if verdict.outcome in ("no verdict", "no difference"):
        return _cost_in_words(verdict).strip()
    test = verdict.test + (f", adjusted for {verdict.compared} comparisons" if verdict.compared > 1 else "")
    why = verdict.why if verdict.outcome == "too few cases" else f"p {p_value(verdict.p)}"
    return f"{test}: {why}, {cases_text(verdict.after)}.{_cost_in_words(verdict)}"


def cases_text(one: Estimate) -> str:
    """How many cases a score rests on, and in how many groups they are."""
    groups = "" if one.groups is None else f" in {counted(one.groups, 'group')}"
    return counted(one.cases, "case") + groups


def _needed(verdict: Verdict) -> str:
    """About how many cases would decide it, rounded to two places; nothing where that cannot be said."""
    if verdict.needed is None:
        return ""
    return f"; if it stays like this, about {about(verdict.needed)} cases would decide"


def more_cases_text(verdict: Verdict) -> str:
    """How many more cases would tell two arms apart in four of five trials, and what sending them to both costs.

    Empty where it is decided, where none would, or where the cases that there are suffice already.
    """
    have = verdict.after.cases
    if verdict.needed is None or verdict.needed <= have:
        return ""
    more = verdict.needed - have
    told = f"About {about(more)} more cases would tell them apart with a power of 80 %, if it stays like this"
    money = dict(verdict.first_costs.money)
    for currency, amount in verdict.second_costs.money.items():
        add_money(money, currency, amount)
    if money:
        each = {currency: amount * more / have for currency, amount in money.items()}
        told += f"; sending them to both costs about {money_text(each)}"
    return f"{told}."


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


def bounds_sentence(score: MeasureScore) -> str:
    """Between what a score with failed cases would lie if they were all wrong, or all right."""
    assert score.bounds is not None, "only scores with failed cases have bounds"
    low, high = (score_text(one, score.measure.is_coefficient) for one in score.bounds)
    return f"{score.failed} failed and are not scored: between {low} and {high} with them."
