"""Measures against figures worked out by hand, and the rules of the statuses."""

from __future__ import annotations

from typing import Any

import pytest

from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.cases import Case
from drovik.project.tasks import MeasureTable, Task
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.catalogue import measures_of
from drovik.scoring.language.english import stem
from drovik.scoring.measure import Measure
from drovik.scoring.rules.text_rules import read_date
from drovik.scoring.scores import Expectations


def task(measure: dict[str, Any], form: Any = "json") -> tuple[Task, Measure]:
    made, problems, measures = measures_and_problems(measure, form)
    assert not problems
    return made, measures[0]


def measures_and_problems(measure: dict[str, Any], form: Any = "json") -> tuple[Task, list[Any], list[Measure]]:
    measure = dict(measure)
    made = Task("t", "", form, None, "m", (MeasureTable("m", measure.pop("type"), measure),), ())
    problems: list[Any] = []
    return made, problems, measures_of(made, problems)


def case(name: str, expected: Any, refusal: bool = False) -> Case:
    return Case(name, (), {}, {"t": expected}, None, "tune", frozenset(["t"] if refusal else []), "")


def label(**more: Any) -> tuple[Task, Measure]:
    return task({"type": "label", "at": "/k", "labels": ["a", "b", "c"], "same_as": {"bee": "b"}, **more})


def test_label_figures_agree_with_a_table_worked_out_by_hand() -> None:
    # expected: a a a a b b b c c c; answered: a a b none b b a c c b
    expected, got = "aaaabbbccc", ["a", "A", "b", "x", "bee", "b", "a", "c", " c ", "b"]
    _, measure = label()
    scores = [measure.per_case({"k": g}, e) for e, g in zip(expected, got, strict=True)]
    assert measure.combine(scores) == pytest.approx(6 / 10)
    totals = measure.rows(scores).sum(axis=0)
    confusion, each = measure.tables(totals)
    assert confusion.columns == ("a", "b", "c", "none")
    assert dict(confusion.rows) == {"a": (2, 1, 0, 1), "b": (1, 2, 0, 0), "c": (0, 1, 2, 0)}
    # a: 2 of 3 answered, 2 of 4 expected; b: 2 of 4, 2 of 3; c: 2 of 2, 2 of 3. F1 = 2pr/(p+r).
    assert {name: pytest.approx(row) for name, row in each.rows} == {
        "a": (2 / 3, 2 / 4, 4 / 7), "b": (2 / 4, 2 / 3, 4 / 7), "c": (1, 2 / 3, 4 / 5),
    }  # fmt: skip
    assert measure.figures(totals)["macro F1"] == pytest.approx((4 / 7 + 4 / 7 + 4 / 5) / 3)
    _, macro = label(score="macro_f1")
    assert macro.combine(scores) == pytest.approx((4 / 7 + 4 / 7 + 4 / 5) / 3)


@pytest.mark.parametrize(
    ("got", "cause"),
    [
        ("bs", "plural of the label"), ("a b", "several labels"), ("the b", "other words around the label"), ("c", "another label"), ("cs", "another label"),
        ("two bs", "plural of the label"), ("zebra", "outside the list"), (3, "no label at its place"),
    ],
)  # fmt: skip
def test_missed_labels_have_their_cause(got: Any, cause: str) -> None:
    _, measure = label()
    assert measure.per_case({"k": got}, "b").findings[0].cause == cause


def test_letter_case_counts_only_where_asked() -> None:
    assert label()[1].per_case({"k": "B"}, "b").value == 1
    strict = label(fold_case=False)[1].per_case({"k": "B"}, "b")
    assert strict.value == 0
    assert strict.findings[0].cause == "letter case"


FIELDS = {
    "type": "fields",
    "fields": {
        "no": {"rule": "exact"}, "name": {"rule": "text"}, "sum": {"rule": "number", "tolerance": 0.01},
        "day": {"rule": "date"}, "deep": {"at": "/in/0/x", "rule": "exact"},
    },
}  # fmt: skip
RIGHT = {"no": "K1", "name": "Ann Lee", "sum": 12.5, "day": "2026-03-04", "in": [{"x": 1}]}


@pytest.mark.parametrize(
    ("changes", "counts", "causes"),
    [
        ({}, (5, 0, 0, 0), []),
        ({"name": " ANN  lee", "sum": "12.505", "day": "4 March 2026", "in": [{"x": 1.0}]}, (5, 0, 0, 0), []),
        ({"day": "2026-04-03"}, (4, 1, 0, 0), ["day and month swapped"]),
        ({"sum": 1250}, (4, 1, 0, 0), ["off by a power of ten"]),
        ({"sum": "12,50"}, (4, 1, 0, 0), ["number as text"]),
        ({"no": "Kl"}, (4, 1, 0, 0), ["glyphs misread"]),
        ({"no": "k1"}, (4, 1, 0, 0), ["letter case, spaces or accents"]),
        ({"name": "Ann"}, (4, 1, 0, 0), ["cut short"]),
        ({"no": None}, (4, 0, 1, 0), ["missing"]),
        ({"in": [{"x": True}]}, (4, 1, 0, 0), ["another value"]),
        ({"in": []}, (4, 0, 1, 0), ["missing"]),
    ],
)
def test_fields_are_right_wrong_missing_or_invented(
    changes: dict[str, Any], counts: tuple[int, ...], causes: list[str]
) -> None:
    _, measure = task({**FIELDS})
    found = measure.per_case({**RIGHT, **changes}, RIGHT)
    statistics = found.statistics[:-2]
    assert tuple(sum(statistics[n::5]) for n in (0, 2, 3, 4)) == counts
    assert [one.cause for one in found.findings] == causes
    assert found.statistics[-2] == (counts == (5, 0, 0, 0))


def test_fields_scores_are_those_of_the_pooled_counts() -> None:
    _, measure = task({**FIELDS})
    lean = {**RIGHT, "sum": None}
    scores = [
        measure.per_case(RIGHT, RIGHT),  # 5 correct
        measure.per_case({**RIGHT, "no": "X"}, RIGHT),  # 4 correct, 1 wrong
        measure.per_case(RIGHT, lean),  # 4 correct, 1 invented
        measure.per_case(lean, lean),  # 4 correct, 1 rightly absent
        measure.worst(RIGHT, "no JSON"),  # 5 missing
    ]
    correct, wrong, missing, invented = 17, 1, 5, 1
    precision, recall = correct / (correct + wrong + invented), correct / (correct + wrong + missing)
    assert measure.combine(scores) == pytest.approx(2 * precision * recall / (precision + recall))
    figures = measure.figures(measure.rows(scores).sum(axis=0))
    assert figures["precision"] == pytest.approx(precision)
    assert figures["recall"] == pytest.approx(recall)
    assert figures["whole records right"] == pytest.approx(2 / 5)


@pytest.mark.parametrize(
    ("text", "day_first", "wanted"),
    [
        ("2026-03-04", True, "2026-03-04"), ("04.03.2026", True, "2026-03-04"), ("04/03/2026", False, "2026-04-03"),
        ("4th of March 2026", True, "2026-03-04"), ("March 2026", True, None), ("2026", True, None), ("soon", True, None),
        ("2026-02-30", True, None), ("", True, None),
    ],
)  # fmt: skip
def test_dates_are_read_whole_or_not_at_all(text: str, day_first: bool, wanted: str | None) -> None:
    found = read_date(text, day_first)
    assert (found.isoformat() if found else None) == wanted


@pytest.mark.parametrize(
    ("text", "met"),
    [
        ("A red umbrella.", True), ("Two red umbrellas lie there.", True), ("a red folding umbrella", True), ("RED UMBRELLA", True),
        ("There is no red umbrella.", False), ("I do not see a red umbrella", False), ("It isn't a red umbrella.", False),
        ("A tray without a red umbrella", False), ("No hat, but a red umbrella.", True), ("No hat. A red umbrella.", True),
        ("not only a red umbrella", True), ("A red hat and an umbrella.", False), ("A red hat. An umbrella.", False),
        ("an umbrella, red", False), ("a bright-red umbrella", True), ("a brolly", True), ("There is no hat; there is a brolly", True),
        ("There is no hat and a red umbrella.", True), ("There is no hat and red umbrella.", False), ("no hat or red umbrella", False),
        ("a hat rather than a red umbrella", False), ("a red umbrella rather than a hat", True), ("a hat instead of a brolly", False),
        ("neither a hat nor a red umbrella", False), ("nothing but a red umbrella", True), ("not a hat but a brolly", True),
    ],
)  # fmt: skip
def test_statements_are_met_on_stems_within_a_clause_and_not_where_denied(text: str, met: bool) -> None:
    _, measure = task({"type": "facts"}, form="text")
    required = measure.per_case(text, {"must": [["red umbrella", "brolly"]]})
    forbidden = measure.per_case(text, {"must_not": [["red umbrella", "brolly"]]})
    assert required.value == float(met)
    assert forbidden.value == float(not met)


def test_stems_are_those_of_the_published_algorithm() -> None:
    # Examples of M. F. Porter, "An algorithm for suffix stripping", Program 14(3), 1980.
    pairs = {
        "caresses": "caress", "ponies": "poni", "cats": "cat", "agreed": "agre", "plastered": "plaster", "motoring": "motor",
        "hopping": "hop", "falling": "fall", "hissing": "hiss", "filing": "file", "happy": "happi", "sky": "sky",
        "relational": "relat", "conditional": "condit", "digitizer": "digit", "operator": "oper", "hopefulness": "hope",
        "triplicate": "triplic", "formalize": "formal", "electrical": "electr", "goodness": "good", "revival": "reviv",
        "allowance": "allow", "adjustment": "adjust", "adoption": "adopt", "effective": "effect", "probate": "probat",
        "rate": "rate", "controll": "control", "roll": "roll", "umbrellas": "umbrella", "generalizations": "gener",
    }  # fmt: skip
    assert {word: stem(word) for word in pairs} == pairs


def test_the_same_answer_to_many_cases_is_held_against_each_ones_own_expected_output() -> None:
    made, measure = label()
    cases = [case("right", {"k": "a"}), case("wrong", {"k": "b"}), case("declines", {"k": "a"}, refusal=True)]
    said = '{"k": "a"}'
    valid, cut = (Answer(one, "", said, {"k": "a"}) for one in (Status.OK, Status.CUT_OFF))
    one_arm = {"right": (valid,), "wrong": (valid,), "declines": (valid,)}
    known = Expectations(made)
    found = [
        [
            one.score.value
            for one in score_arm(made, arm, [measure], cases, answers, expectations=known).measures[0].cases
        ]
        for arm, answers in (("first", one_arm), ("second", {**one_arm, "right": (cut,)}))
    ]
    assert found == [[1, 0, 0], [0, 0, 0]]


def test_statuses_score_the_worst_and_what_failed_is_left_out_with_bounds() -> None:
    made, measure = label()
    cases = [case(f"c{n}", {"k": "a"}) for n in range(8)] + [case("declines", {"k": "a"}, refusal=True)]
    answers = {
        "c0": Answer(Status.OK, value={"k": "a"}),
        "c1": Answer(Status.OK, value={"k": "b"}),
        "c2": Answer(Status.OFF_SCHEMA, value={"k": "a", "x": 1}),
        "c3": Answer(Status.NOT_JSON),
        "c4": Answer(Status.CUT_OFF),
        "c5": Answer(Status.REFUSED),
        "c6": Answer(Status.FAILED),
        "declines": Answer(Status.REFUSED),
    }
    found = score_arm(made, "arm", [measure], cases, {name: (one,) for name, one in answers.items()})
    score = found.measures[0]
    assert found.unsent == 1
    assert (len(score.scored), score.failed) == (7, 1)
    assert score.value == pytest.approx(2 / 7)  # c0, and the one that rightly declines
    assert measure.combine([one.score for one in score.as_read if one.score]) == pytest.approx(3 / 7)
    assert score.bounds == (pytest.approx(2 / 8), pytest.approx(3 / 8))
    assert dict(found.statuses) == {"ok": 2, "off_schema": 1, "not_json": 1, "cut_off": 1, "refused": 2, "failed": 1}
    causes = {one.case.id: one.score.findings[0].cause for one in score.scored if one.score and one.score.findings}
    assert causes["c2"] == "off the schema"
    assert causes["c4"] == "cut off at the output limit"


def test_every_measure_gives_a_right_answer_one_and_its_worst_nought() -> None:
    measures = [
        (label()[1], "a", {"k": "a"}),
        (task({**FIELDS})[1], RIGHT, RIGHT),
        (task({**FIELDS, "score": "record"})[1], RIGHT, RIGHT),
        (task({"type": "facts"}, "text")[1], {"must": ["red cap"], "must_not": ["hat"]}, "A red cap."),
    ]
    for measure, expected, answer in measures:
        assert measure.combine([measure.per_case(answer, expected)]) == 1
        assert measure.combine([measure.best(expected)]) == 1
        assert measure.combine([measure.worst(expected, "why")]) == 0
        assert measure.worst(expected, "why").findings[0].cause == "why"
