"""Verdicts: paired on the common cases, careful with failures and groups, and said in words."""

from __future__ import annotations

import random
from collections.abc import Mapping
from typing import Any

import pytest
from scipy import stats

from drovik.comparing.verdict import compare_arms, estimate, headline_verdicts, rank, verdict_text
from drovik.errors import DrovikError
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.cases import Case
from drovik.project.settings import Price
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
    assert found.p == pytest.approx(stats.binomtest(5, 25).pvalue)
    assert verdict_text(found).startswith(
        "high/v1 is better than low/v1 on m (accuracy): 87.5 % against 50.0 %, +37.5 points"
    )
    assert compare_arms(high, low, "m").outcome == "worse"


def test_a_small_difference_is_too_close_to_call_and_none_is_none() -> None:
    one, other = arm("one", hits(set(range(20)), 40), 40), arm("other", hits(set(range(22)), 40), 40)
    assert compare_arms(one, other, "m").outcome == "too close to call"
    assert verdict_text(compare_arms(one, other, "m")).startswith("Too close to call on m")
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


def test_groups_are_resampled_whole_so_copies_of_a_case_prove_nothing() -> None:
    """Ten sources, each pictured eight times, the arms alike but for three of the sources."""
    right = {n for n in range(80) if n % 10 >= 3}
    alone = compare_arms(arm("one", hits(right, 80), 80), arm("two", hits(set(range(80)), 80), 80), "m")
    grouped = compare_arms(
        arm("one", hits(right, 80), 80, groups=10), arm("two", hits(set(range(80)), 80), 80, groups=10), "m"
    )
    assert alone.test == "exact McNemar test"
    assert alone.outcome == "better"
    assert grouped.test == "paired permutation test on whole groups"
    assert grouped.p == pytest.approx(2 / 2**3)  # three sources differ: of the eight swaps two are as far apart
    assert grouped.outcome == "too close to call"
    wide, narrow = (
        estimate(arm("one", hits(right, 80), 80, groups=10).measures[0]),
        estimate(arm("one", hits(right, 80), 80).measures[0]),
    )
    assert wide.method == "bootstrap"
    assert narrow.method == "Wilson"
    assert wide.high - wide.low > narrow.high - narrow.low
    assert wide.value == narrow.value == pytest.approx(0.7)


def test_a_measure_that_is_no_mean_of_cases_gets_the_permutation_test() -> None:
    made = task(at="/k", labels=["a", "b"], score="macro_f1")
    chance = random.Random(1)
    one = arm("one", {n: chance.choice("ab") for n in range(30)}, 30, made=made)
    other = arm("other", {n: chance.choice("aab") for n in range(30)}, 30, made=made)
    found = compare_arms(one, other, "m")
    assert found.test == "paired permutation test"
    assert 0 < found.p <= 1
    assert found.before.method == "bootstrap"


def test_the_order_of_cases_changes_nothing() -> None:
    said = hits({1, 4, 7, 9, 20, 33}, 40)
    backwards = dict(reversed(said.items()))
    other = arm("other", hits(set(range(10)), 40), 40)
    first, second = (
        compare_arms(arm("one", said, 40), other, "m"),
        compare_arms(arm("one", backwards, 40), other, "m"),
    )
    assert (first.p, first.low, first.high) == (second.p, second.low, second.high)


def test_a_ranking_adjusts_for_being_several_and_tells_of_each_model() -> None:
    arms = [
        arm("x/v1", hits(set(range(10)), 40), 40), arm("y/v1", hits(set(range(30)), 40), 40),
        arm("y/v2", hits(set(range(38)), 40), 40), arm("z/v1", {}, 40),
    ]  # fmt: skip
    ordered, verdicts = rank(arms, "m")
    assert [one.arm for one in ordered] == ["y/v2", "y/v1", "x/v1"]
    alone = {one.arm: compare_arms(one, ordered[0], "m").p for one in ordered[1:]}
    adjusted = {one.first: one.p for one in verdicts}
    assert adjusted["x/v1"] == pytest.approx(2 * alone["x/v1"])
    assert adjusted["y/v1"] == pytest.approx(max(alone["y/v1"], 2 * alone["x/v1"]))
    assert [one.first for one in headline_verdicts(ordered, verdicts)] == ["y/v1", "x/v1"]
    assert "adjusted for 2 comparisons" in verdict_text(verdicts[0])


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
