"""Verdicts: paired on the common cases, careful with failures and groups, and said in words."""

from __future__ import annotations

import random
from collections.abc import Mapping
from typing import Any

import numpy as np
import pytest
from scipy import stats

from drovik.comparing.contrast import sample_of, simultaneous_level
from drovik.comparing.ranking import flattery_text, headline_verdicts, rank, ranking_text
from drovik.comparing.verdict import compare_arms, estimate, estimate_figures, verdict_text
from drovik.errors import DrovikError
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.cases import Case
from drovik.project.models import Price
from drovik.project.spending import Spending
from drovik.project.tasks import MeasureTable, Task
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.catalogue import measures_of
from drovik.scoring.scores import ArmScores


def task(kind: str = "label", **table: Any) -> Task:
    table = table or {"at": "/k", "labels": ["a", "b"]}
    return Task("t", "", "json", None, "m", (MeasureTable("m", kind, table),), ())


def cases(count: int, groups: int | None = None) -> list[Case]:
    return [
        Case(f"c{n:03d}", (), {}, {"t": {"k": "a"}}, f"g{n % groups}" if groups else None, "tune", frozenset(), "")
        for n in range(count)
    ]


def arm(
    name: str, said: Mapping[int, str | None], count: int, groups: int | None = None, made: Task | None = None
) -> ArmScores:
    """An arm that said so for each case by its number; None is a reply that never came."""
    one = made or task()
    answers = {
        f"c{n:03d}": Answer(Status.OK, value={"k": what}) if what is not None else Answer(Status.FAILED)
        for n, what in said.items()
    }
    return score_arm(
        one, name, measures_of(one, []), cases(count, groups), {name: (one,) for name, one in answers.items()}
    )


def hits(right: set[int], count: int) -> dict[int, str]:
    return {n: "a" if n in right else "b" for n in range(count)}


def test_a_clear_difference_is_better_one_way_and_worse_the_other() -> None:
    low, high = arm("low/v1", hits(set(range(20)), 40), 40), arm("high/v1", hits(set(range(5, 40)), 40), 40)
    found = compare_arms(low, high, "m")
    assert found.outcome == "better"
    assert (len(found.fixed), len(found.broken)) == (20, 5)
    assert found.difference == pytest.approx(15 / 40)
    assert found.low < found.difference < found.high
    assert found.p == pytest.approx(stats.chi2.sf(15**2 / 25, 1))
    assert "adjusted" not in verdict_text(found)
    assert verdict_text(found).startswith(
        "high/v1 is better than low/v1 on m (accuracy): 87.5 % against 50.0 %, +37.5 points"
    )
    assert compare_arms(high, low, "m").outcome == "worse"


def test_a_small_difference_is_too_close_to_call_and_none_is_none() -> None:
    one, other = arm("one", hits(set(range(20)), 40), 40), arm("other", hits(set(range(6, 28)), 40), 40)
    found = compare_arms(one, other, "m")
    assert found.outcome == "too close to call"
    assert found.low < 0 < found.high
    # Of 40 cases 14 changed, 2 more for the better: (1.96 + 0.84)^2 (0.35 - 0.05^2) / 0.05^2.
    assert found.needed == pytest.approx(2.8**2 * (14 / 40 - 0.05**2) / 0.05**2, abs=1)
    assert verdict_text(found).startswith("Too close to call on m")
    assert "if it stays like this, about 1100 cases would decide" in verdict_text(found)
    assert compare_arms(one, one, "m").outcome == "no difference"


def test_only_cases_that_both_answered_are_compared() -> None:
    one = arm("one", dict.fromkeys(range(30), "a"), 40)
    other = arm("other", dict.fromkeys(range(20, 40), "b"), 40)
    found = compare_arms(one, other, "m")
    assert found.after.cases == found.before.cases == 10
    with pytest.raises(DrovikError, match="no scored case in common"):
        compare_arms(arm("one", {0: "a"}, 4), arm("other", {3: "a"}, 4), "m")


def test_there_is_no_verdict_where_more_than_one_in_twenty_failed() -> None:
    said: dict[int, str | None] = dict(hits(set(), 40))
    enough, few = {**said, 0: None, 1: None}, {**said, 0: None, 1: None, 2: None}
    good = arm("good", hits(set(range(40)), 40), 40)
    assert compare_arms(arm("bad", enough, 40), good, "m").outcome == "better"
    found = compare_arms(arm("bad", few, 40), good, "m")
    assert found.outcome == "no verdict"
    assert "3 of 40 answers failed" in verdict_text(found)


def test_few_differing_cases_decide_nothing_and_the_verdict_says_how_many_would() -> None:
    """Five of five are rare by chance, but not rare enough: p would be 0.025 here, and 0.06 if counted exactly."""
    one = arm("one", hits(set(range(35)), 40), 40)
    found = compare_arms(one, arm("other", hits(set(range(40)), 40), 40), "m")
    assert found.outcome == "too few cases"
    assert "they differ in 5 cases, and fewer than 6 cannot decide" in verdict_text(found)
    assert "about 55 cases would decide" in verdict_text(found)
    assert "p =" not in verdict_text(found)
    assert compare_arms(
        arm("one", hits(set(range(34)), 40), 40), arm("o", hits(set(range(40)), 40), 40), "m"
    ).outcome == ("better")


def test_groups_count_whole_so_copies_of_a_case_prove_nothing() -> None:
    """Ten sources, each pictured eight times, the arms alike but for three of the sources."""
    right = {n for n in range(80) if n % 10 >= 3}
    alone = compare_arms(arm("one", hits(right, 80), 80), arm("two", hits(set(range(80)), 80), 80), "m")
    grouped = compare_arms(
        arm("one", hits(right, 80), 80, groups=10), arm("two", hits(set(range(80)), 80), 80, groups=10), "m"
    )
    assert alone.test == "McNemar's test with Tango's interval"
    assert alone.outcome == "better"
    assert grouped.test == "paired jackknife t test on whole groups"
    assert grouped.outcome == "too few cases"
    assert "they differ in 3 groups" in verdict_text(grouped)
    wide, narrow = (
        estimate(arm("one", hits(right, 80), 80, groups=10).measures[0]),
        estimate(arm("one", hits(right, 80), 80).measures[0]),
    )
    assert (wide.method, wide.groups) == ("Wilson on effective cases", 10)
    assert (narrow.method, narrow.groups) == ("Wilson", None)
    assert wide.high - wide.low > 2 * (narrow.high - narrow.low)
    assert wide.value == narrow.value == pytest.approx(0.7)


def test_five_groups_decide_nothing() -> None:
    found = compare_arms(
        arm("one", hits(set(), 80), 80, groups=5), arm("two", hits(set(range(80)), 80), 80, groups=5), "m"
    )
    assert found.outcome == "too few cases"
    assert "5 groups cannot decide, nor could any fewer than 6; if it stays like this, about 96 cases" in (
        verdict_text(found)
    )


def graded(name: str, values: list[float]) -> ArmScores:
    """An arm whose answers score so by the share of ten fields that are right."""
    made = task("fields", fields={f"f{n}": {"rule": "exact"} for n in range(10)}, score="f1")
    wanted = {f"f{n}": 1 for n in range(10)}
    rows = [Case(f"c{n:03d}", (), {}, {"t": wanted}, None, "tune", frozenset(), "") for n in range(len(values))]
    answers = {
        f"c{n:03d}": (Answer(Status.OK, value={f"f{k}": int(k < round(value * 10)) for k in range(10)}),)
        for n, value in enumerate(values)
    }
    return score_arm(made, name, measures_of(made, []), rows, answers)


def test_arms_that_find_the_same_but_are_sure_of_other_things_do_differ_by_average_precision() -> None:
    """Each finds one thing of one and invents another; the second is surer of what is there."""
    made = task("boxes", place="/b", confidence="/c", score="ap50")
    wanted = [{"b": [0, 0, 10, 10]}]
    rows = [Case(f"c{n:03d}", (), {}, {"t": wanted}, None, "tune", frozenset(), "") for n in range(40)]

    def sure(name: str, right: float) -> ArmScores:
        value = [{"b": [0, 0, 10, 10], "c": right}, {"b": [50, 50, 60, 60], "c": 0.5}]
        answers = {one.id: (Answer(Status.OK, value=value),) for one in rows}
        return score_arm(made, name, measures_of(made, []), rows, answers)

    found = compare_arms(sure("unsure", 0.4), sure("sure", 0.6), "m")
    assert (found.before.value, found.after.value) == (pytest.approx(0.5), pytest.approx(1.0))
    assert found.outcome == "better"


def test_a_constant_gain_in_a_few_cases_is_no_proof_for_one_answer_may_yet_run_away() -> None:
    few = compare_arms(graded("low", [0.8] * 20), graded("high", [0.9] * 20), "m")
    assert few.outcome in ("too few cases", "too close to call")
    varied = [0.7, 0.8, 0.9, 0.8] * 5
    better = [value + 0.1 for value in varied]
    better[0] += 0.1
    found = compare_arms(graded("low", varied), graded("high", better), "m")
    assert found.low > 0
    assert found.outcome == "too few cases"
    assert "20 cases cannot decide: one case going all the other way would undo it" in verdict_text(found)
    many = compare_arms(graded("low", varied * 3), graded("high", better * 3), "m")
    assert many.outcome == "better"


def test_a_measure_that_is_no_mean_of_cases_gets_the_jackknife() -> None:
    made = task(at="/k", labels=["a", "b"], score="macro_f1")
    chance = random.Random(1)
    one = arm("one", {n: chance.choice("ab") for n in range(30)}, 30, made=made)
    other = arm("other", {n: chance.choice("aab") for n in range(30)}, 30, made=made)
    found = compare_arms(one, other, "m")
    assert found.test == "paired jackknife t test"
    assert 0 < found.p <= 1
    assert found.before.method == "Wilson on effective cases"


def test_the_order_of_cases_changes_nothing() -> None:
    said = hits({1, 4, 7, 9, 20, 33}, 40)
    backwards = dict(reversed(said.items()))
    other = arm("other", hits(set(range(10)), 40), 40)
    first, second = (
        compare_arms(arm("one", said, 40), other, "m"),
        compare_arms(arm("one", backwards, 40), other, "m"),
    )
    assert (first.p, first.low, first.high) == (second.p, second.low, second.high)


def test_a_ranking_names_the_best_and_what_may_be_as_good_and_sets_aside_what_was_not_sent() -> None:
    arms = [
        arm("x/v1", hits(set(range(10)), 40), 40), arm("y/v1", hits(set(range(31)), 40), 40),
        arm("y/v2", hits(set(range(2, 38)), 40), 40), arm("z/v1", {}, 40),
        arm("w/v1", hits(set(range(5)), 5), 40), arm("v/v1", {**hits(set(range(40)), 40), **dict.fromkeys(range(3))}, 40),
    ]  # fmt: skip
    found = rank(arms, "m")
    assert found.names == ("y/v2", "y/v1", "x/v1")
    assert found.may_be_best == ("y/v2", "y/v1")
    assert found.worse == ("x/v1",)
    assert dict(found.set_aside) == {
        "z/v1": "not sent", "w/v1": "35 of 40 cases not sent",
        "v/v1": "3 of 40 answers failed, more than 5%",
    }  # fmt: skip
    assert ranking_text(found) == "The best on m: y/v2; may be as good: y/v1; worse: x/v1."
    assert [one.first for one in headline_verdicts(found)] == ["y/v1", "x/v1"]
    assert "adjusted for 3 comparisons" in verdict_text(found.verdicts[0])
    assert "y/v2 was chosen as the best of 3 on these cases" in flattery_text(found)


def test_in_a_ranking_intervals_are_wider_and_p_larger_than_alone_but_for_two_arms() -> None:
    arms = [arm(f"a{n}/v1", hits(set(range(n, n + 20 + n)), 60), 60) for n in range(6)]
    found = rank(arms, "m")
    for verdict in found.verdicts:
        alone = compare_arms(
            *(next(one for one in arms if one.arm == name) for name in (verdict.first, verdict.second)), "m"
        )
        assert verdict.p > alone.p
        assert verdict.high - verdict.low > alone.high - alone.low
    two = rank(arms[:2], "m").verdicts[0]
    assert (two.p, two.low) == (compare_arms(arms[0], arms[1], "m").p, compare_arms(arms[0], arms[1], "m").low)


def test_three_arms_are_compared_at_a_stricter_level_than_two() -> None:
    arms = [arm(f"a{n}", hits(set(range(5 * n, 25 + 5 * n)), 60), 60) for n in range(3)]
    samples = [sample_of("t", one.measures[0].measure, one.measures[0].scored) for one in arms]
    assert simultaneous_level(samples[:2])[0] == 0.95
    level, largest = simultaneous_level(samples)
    assert 0.97 < level < 1 - 0.05 / 3 + 0.002  # at most what Bonferroni asks
    assert np.quantile(largest, 0.95) == pytest.approx(stats.norm.ppf((1 + level) / 2), abs=1e-3)


def test_what_is_said_of_flattery_is_the_figure_in_points() -> None:
    arms = [arm(f"a{n}/v1", hits(set(range(n, 40 + n)), 60), 60) for n in range(6)]
    found = rank(arms, "m")
    assert found.flattered > 0.01
    assert f"by about {found.flattered * 100:.1f} points; held-out cases tell" in flattery_text(found)
    assert flattery_text(rank(arms[:1], "m")) == ""


def test_figures_have_the_interval_that_suits_them_and_only_calibration_ends_at_nothing() -> None:
    made = task(at="/k", labels=["a", "b"], confidence="/sure")
    rows = [Case(f"c{n}", (), {}, {"t": {"k": "ab"[n % 2]}}, None, "tune", frozenset(), "") for n in range(40)]

    def scored(cases: list[Case]) -> dict[str, Any]:
        said = {
            one.id: (Answer(Status.OK, value={"k": "ba"[n % 2] if n < 30 else "ab"[n % 2], "sure": 0.25}),)
            for n, one in enumerate(cases)
        }
        return estimate_figures(score_arm(made, "arm", measures_of(made, []), cases, said).measures[0])

    found = scored(rows)
    assert found["accuracy"].method == "Wilson"
    assert {found[name].method for name in ("macro F1", "Cohen's kappa", "Brier score")} == {
        "Wilson on effective cases"
    }
    assert (found["Cohen's kappa"].value, found["Cohen's kappa"].low < -0.5) == (pytest.approx(-0.5), True)
    assert found["expected calibration error"].value == 0.0  # a quarter is right, as was said; chance is taken off
    assert found["expected calibration error"].low == 0.0
    grouped = scored([one._replace(group=f"g{n // 4}") for n, one in enumerate(rows)])
    assert grouped["accuracy"].method == "Wilson on effective cases"


def test_arms_are_ranked_on_the_cases_that_all_of_them_share() -> None:
    """One arm failed on two hard cases, which the others have wrong: that must not make it the best."""
    easy = hits(set(range(38)), 40)
    lucky: dict[int, str | None] = {**hits(set(range(37)), 40), 38: None, 39: None}
    found = rank([arm("steady", easy, 40), arm("lucky", lucky, 40)], "m")
    assert found.names == ("steady", "lucky")
    assert [one.cases for one in found.estimates] == [38, 38]


def test_graded_measures_tell_fixed_from_merely_improved() -> None:
    made = task("fields", fields={"k": {"rule": "exact"}, "l": {"rule": "exact"}})
    wanted = {"k": 1, "l": 2}
    answers = {
        "c0": ({"k": 1}, wanted),
        "c1": (wanted, {"l": 2}),
        "c2": ({}, {"k": 1}),
        "c3": ({"k": 1}, {}),
        "c4": (wanted, wanted),
    }
    both = []
    for side in (0, 1):
        rows = [Case(name, (), {}, {"t": wanted}, None, "tune", frozenset(), "") for name in answers]
        said = {name: Answer(Status.OK, value=pair[side]) for name, pair in answers.items()}
        both.append(
            score_arm(made, f"arm{side}", measures_of(made, []), rows, {name: (one,) for name, one in said.items()})
        )
    found = compare_arms(both[0], both[1], "m")
    assert (found.fixed, found.broken, found.improved, found.worsened) == (("c0",), ("c1",), ("c2",), ("c3",))


def test_currencies_are_never_added_up() -> None:
    made = task()
    rows = cases(3)
    euro, crown = Price(currency="EUR", input=2, output=10), Price(currency="NOK", input=20, output=0)
    answers = {
        "c000": Answer(Status.OK, value={"k": "a"}, spent=Spending.of(euro, 1_000_000, 100_000)),
        "c001": Answer(Status.OK, value={"k": "a"}, spent=Spending.of(crown, 500_000, 7)),
        "c002": Answer(Status.OK, value={"k": "a"}, spent=Spending.of(euro, None, None)),
    }
    money = score_arm(
        made, "arm", measures_of(made, []), rows, {name: (one,) for name, one in answers.items()}
    ).costs.money
    assert {currency: str(amount.normalize()) for currency, amount in money.items()} == {"EUR": "3", "NOK": "1E+1"}


def test_the_verdict_says_what_one_costs_beside_the_other_in_one_currency() -> None:
    made = task()

    def priced(name: str, tokens: int, currency: str = "EUR") -> ArmScores:
        spent = Spending.of(Price(currency=currency, input=1, output=1), tokens, 0)
        answers = {f"c{n:03d}": Answer(Status.OK, value={"k": "a" if n % 2 else "b"}, spent=spent) for n in range(10)}
        return score_arm(
            made, name, measures_of(made, []), cases(10), {name: (one,) for name, one in answers.items()}
        )

    assert verdict_text(compare_arms(priced("cheap", 100), priced("dear", 890), "m")).endswith(
        " dear costs 8.9 times as much."
    )
    assert verdict_text(compare_arms(priced("dear", 890), priced("cheap", 100), "m")).endswith(
        " dear costs 8.9 times as much."
    )
    assert verdict_text(compare_arms(priced("one", 100), priced("other", 101), "m")).endswith(
        " They cost the same, or nearly."
    )
    assert "cost" not in verdict_text(compare_arms(priced("one", 100), priced("other", 890, "NOK"), "m"))
