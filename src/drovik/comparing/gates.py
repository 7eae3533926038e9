"""What an arm must be, in words → whether it is, by the bound of the interval: it holds where that is known.

`score >= 0.9`, `macro F1 >= 80 %`, `schema violations <= 1 %`, `refused <= 2 %`, `cost per case <= 0.002 EUR`,
`p95 seconds <= 4`, `not worse than fulmar/v1 by 2`, `better than baseline`.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Literal

from drovik.comparing.contrast import Sample, contrast_of, group_count, groups_of, sample_of, sizes_of, sums_of_groups
from drovik.comparing.frontier import Amount, money_per_case
from drovik.comparing.intervals import LEVEL, score_interval, wilson_interval
from drovik.comparing.jackknife import leave_out
from drovik.comparing.verdict import Estimate, Judgement, estimate, estimate_figures
from drovik.errors import Problem, UsageError, known_words
from drovik.heavy import np, special
from drovik.parsing.status import STATUSES, Status
from drovik.scoring.measure import share
from drovik.scoring.scores import ArmScores, MeasureScore
from drovik.text import bounds_text, counted, difference_text, percent, score_text

State = Literal["holds", "does not hold", "not known"]
BASELINE = "baseline"
"""The name of the arm that a baseline file holds."""
_BOUND = re.compile(
    r"^(?P<what>.+?)\s*(?P<sign>>=|<=|>|<|≥|≤)\s*(?P<value>[0-9]*[.,]?[0-9]+)\s*(?P<unit>%|s|[A-Z]{3})?$"
)
_BESIDE = re.compile(
    r"^(?P<how>not worse|better) than (?P<arm>\S+?)(?: by (?P<points>[0-9]*[.,]?[0-9]+)(?: points?)?)?$"
)
_FORMS = "'score >= 0.9', 'schema violations <= 1 %', 'cost per case <= 0.002 EUR', 'not worse than ARM by 2'"
VIOLATIONS = "schema violations"
_AMOUNTS = ("cost per case", "p95 seconds", "median seconds")


@dataclass(frozen=True)
class Must:
    """What is demanded of an arm: a bound on something, or a place beside another arm."""

    text: str
    what: str = ""
    at_least: bool = True
    value: float = 0.0
    unit: str | None = None
    beside: str | None = None
    margin: float = 0.0
    """The lowest difference that is allowed, or demanded where it must be better."""
    better: bool = False
    unless_known: bool = False
    """Whether it holds unless the arm is known to be worse."""


@dataclass(frozen=True)
class GateResult:
    """Whether a demand holds, and the reason in one line."""

    task: str
    arm: str
    must: str
    state: State
    why: str


def read_must(text: str) -> Must:
    """A demand as it was written.

    :raises UsageError: where it is none.
    """
    plain = " ".join(text.split())
    if found := _BESIDE.match(plain):
        points = float((found["points"] or "0").replace(",", ".")) / 100
        better = found["how"] == "better"
        return Must(plain, beside=found["arm"], margin=points if better else -points, better=better)
    if found := _BOUND.match(plain):
        value, unit = float(found["value"].replace(",", ".")), found["unit"]
        return Must(
            plain, what=found["what"], at_least=found["sign"] in (">", ">=", "≥"),
            value=value / 100 if unit == "%" else value, unit=unit,
        )  # fmt: skip
    raise UsageError(Problem(f"'{text}' says nothing that can be held against an arm", f"write it like {_FORMS}"))


def not_known_worse(other: str) -> Must:
    """The demand that an arm is not known to be worse than another."""
    return Must(f"not known to be worse than {other}", beside=other, unless_known=True)


Others = Callable[[str], tuple[ArmScores, "Sample | None"]]
"""The arm of a name, or, for a baseline, its sample."""


def judge_must(must: Must, arm: ArmScores, measure: str, other: Others) -> GateResult:
    """Whether a demand holds for an arm.

    :param measure: what "score" means, and what arms are compared on.
    :raises UsageError: where the demand is of something that the arm has not.
    """
    if must.beside is not None:
        state, why = _beside(must, arm, measure, *other(must.beside))
    else:
        low, high, told = _interval(must, arm, measure)
        state, why = _within(must, low, high), told
    return GateResult(arm.task, arm.arm, must.text, state, why)


def _within(must: Must, low: float, high: float) -> State:
    if must.at_least:
        return "holds" if low >= must.value else "does not hold" if high < must.value else "not known"
    return "holds" if high <= must.value else "does not hold" if low > must.value else "not known"


def _interval(must: Must, arm: ArmScores, measure: str) -> tuple[float, float, str]:
    """The bounds of what a demand is about, and it in words."""
    if must.what in _AMOUNTS:
        return _amount(must, arm, measure)
    decided = _score_of(arm, measure)
    if must.what == VIOLATIONS or must.what in STATUSES:
        return _share_of_statuses(must.what, decided)
    found = _figures(arm, decided)
    if must.what not in found:
        known = [*found, VIOLATIONS, *STATUSES, *_AMOUNTS]
        raise UsageError(Problem(f"'{must.what}' is nothing that '{arm.arm}' has", known_words(must.what, known)))
    one = found[must.what]()
    bounds = " – ".join(bounds_text(one.low, one.high, one.coefficient))
    return one.low, one.high, f"{score_text(one.value, one.coefficient)} ({bounds}), {counted(one.cases, 'case')}"


def _figures(arm: ArmScores, decided: MeasureScore) -> dict[str, Callable[[], Estimate]]:
    """What has a score, by name: the measure that decides, each measure, and the further figures of all."""
    found: dict[str, Callable[[], Estimate]] = {"score": partial(estimate, decided)}
    for score in (decided, *arm.measures):
        found.setdefault(score.measure.name, partial(estimate, score))
        for name in score.measure.figures(score.totals):
            found.setdefault(name, partial(_figure, score, name))
    return found


def _figure(score: MeasureScore, name: str) -> Estimate:
    return estimate_figures(score)[name]


def _score_of(arm: ArmScores, measure: str) -> MeasureScore:
    score = arm.measure(measure)
    if score is None or not score.scored:
        raise UsageError(
            Problem(f"nothing of '{arm.arm}' can be scored by '{measure}'", "send it first: drovik send")
        )
    return score


def _share_of_statuses(what: str, score: MeasureScore) -> tuple[float, float, str]:
    """The share of answers with a status; "schema violations" are all that are asked to have a form and have not."""
    wanted = (
        {one for one in Status if one.is_off_form} if what == VIOLATIONS else {one for one in Status if one == what}
    )
    cases = [one for one in score.cases if one.answers]
    rows = np.array([[sum(a.status in wanted for a in one.answers), len(one.answers)] for one in cases], float)
    groups = groups_of(cases)
    count = group_count(groups)
    if count is None and all(len(one.answers) == 1 for one in cases):
        at = float(rows[:, 0].mean())
        low, high = wilson_interval(float(rows[:, 0].sum()), len(cases))
    else:
        spread = leave_out(sums_of_groups(rows, groups), lambda t: share(t[..., 0], t[..., 1], 0.0), sizes_of(groups))
        at, (low, high) = spread.value, score_interval(spread)
    bounds = " – ".join(bounds_text(low, high))
    return low, high, f"{percent(at)} ({bounds}), {counted(int(rows[:, 1].sum()), 'answer')}"


def _amount(must: Must, arm: ArmScores, measure: str) -> tuple[float, float, str]:
    cases = [one for one in _score_of(arm, measure).cases if one.answers]
    if must.what == "cost per case":
        currency, found = money_per_case(cases)
        if found is None:
            raise UsageError(Problem(f"what '{arm.arm}' costs is not known", "add a price to its model"))
        if must.unit != currency:
            raise UsageError(
                Problem(f"'{must.text}': '{arm.arm}' is paid in {currency}", f"write {currency} behind it")
            )
        return found.low, found.high, f"{found.value:.6f} {currency} ({found.low:.6f} – {found.high:.6f})"
    quantile = 0.95 if must.what == "p95 seconds" else 0.5
    seconds = sorted(a.seconds for one in cases for a in one.answers if a.seconds is not None)
    if not seconds:
        raise UsageError(Problem(f"how long '{arm.arm}' took is not known", "send it again, or leave this out"))
    at = quantile_interval(seconds, quantile)
    top = "no bound" if math.isinf(at.high) else f"{at.high:.2f}"
    few = f"; {counted(len(seconds), 'answer')} are too few to bound it" if math.isinf(at.high) else ""
    return at.low, at.high, f"{at.value:.2f} s ({at.low:.2f} – {top}){few}"


def quantile_interval(values: Sequence[float], quantile: float) -> Amount:
    """A quantile of values in order, with its interval (W. R. Thompson, Ann. Math. Statist. 7, 1936).

    Below as many values lie as successes in n trials; a bound is infinite, or 0, where no value is far enough out.
    """
    n, tail = len(values), (1 - LEVEL) / 2
    below = special.bdtr(np.arange(n), n, quantile)  # P(at most k values lie below the quantile)
    low, high = int(np.searchsorted(below, tail, side="right")), int(np.searchsorted(below, 1 - tail, side="left"))
    return Amount(
        float(np.quantile(values, quantile)),
        values[low - 1] if low > 0 else 0.0,
        values[high] if high < n else math.inf,
    )


def _beside(must: Must, arm: ArmScores, measure: str, other: ArmScores, sample: Sample | None) -> tuple[State, str]:
    """Whether an arm stands as it must beside another, or a baseline, on the cases that both have."""
    mine = _score_of(arm, measure)
    theirs = sample.cases if sample is not None else _score_of(other, measure).scored
    known = {one.case.id: one for one in theirs}
    pairs = [(known[one.case.id], one) for one in mine.scored if one.case.id in known]
    if not pairs:
        raise UsageError(Problem(f"'{arm.arm}' and '{must.beside}' have no scored case in common", "send them first"))
    before, after = (sample_of(arm.task, mine.measure, cases) for cases in zip(*pairs, strict=True))
    contrast = contrast_of(before, after)
    low, high = contrast.interval()
    plain = mine.measure.is_coefficient
    bounds = " to ".join(bounds_text(low, high, plain, signed=True))
    told = f"{difference_text(contrast.spread.value, plain)} ({bounds}), {counted(len(pairs), 'case')}"
    outcome = Judgement(contrast, contrast.p).outcome
    if outcome == "no difference":
        return ("does not hold" if must.better else "holds"), f"alike in every case ({len(pairs)})"
    if must.unless_known:
        return ("does not hold" if outcome == "worse" else "holds"), told
    if outcome == "too few cases" and not low > must.margin:
        return "not known", f"{told}; {contrast.undecidable}"
    return ("holds" if low > must.margin else "does not hold" if high < must.margin else "not known"), told


def state_of(results: Sequence[GateResult]) -> State:
    """What all demands come to."""
    states = {one.state for one in results}
    return "does not hold" if "does not hold" in states else "not known" if "not known" in states else "holds"


def counts_of(results: Sequence[GateResult]) -> Mapping[State, int]:
    """How many demands hold, do not, and are not known to."""
    order: tuple[State, ...] = ("holds", "does not hold", "not known")
    return {state: sum(one.state == state for one in results) for state in order}
