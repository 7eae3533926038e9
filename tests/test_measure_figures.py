"""What measures come to over several cases: figures, tables, and which parts of an answer go together."""

from __future__ import annotations

import base64
import io
import json
from typing import Any

import pytest
from PIL import Image
from test_measures_in_detail import OTHER, PLACED, THING, made
from test_scoring import case, measures_and_problems, task

from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.measure import AnswerContext, mean_of
from drovik.scoring.measures.detection import MOST_FOUND


@pytest.mark.parametrize(
    ("said", "causes"),
    [
        ("Hier ist a blue bottle on the tray und das ist a tag of paper, und die ist nicht mit dem auf der da.", {"missing"}),
        ("Ein ganz anderer Satz, in dem gar nichts davon vorkommt, und der lang genug ist.", {"another language"}),
    ],
)  # fmt: skip
def test_an_answer_that_is_right_for_the_most_part_is_not_blamed_for_its_language(
    said: str, causes: set[str]
) -> None:
    owner, measure = task({"type": "facts"}, "text")
    expected = {"must": ["a blue bottle on the tray", "a tag of paper", "the label is red"]}
    answers = {"c": (Answer(Status.OK, "", said, said),)}
    scored = score_arm(owner, "a", [measure], [case("c", expected)], answers).measures[0].cases[0]
    assert scored.score is not None
    assert {one.cause for one in scored.score.findings} == causes


def test_precision_over_recall_weighs_a_case_once_however_often_it_was_asked() -> None:
    owner, measure = made({"type": "boxes", **PLACED, "confidence": "/sure", "score": "ap50"}, "json")
    right = [{**THING, "sure": 0.9}, {**OTHER, "sure": 0.8}]
    wrong = [{**OTHER, "sure": 0.95}]
    one, other = measure.per_case(right, [THING]), measure.per_case(wrong, [THING])
    together = measure.combine([one, other])
    assert together == pytest.approx(51 * 0.5 / 101), "the mean over 101 recalls, 51 of which are reached at 1 in 2"
    assert measure.combine([mean_of([one, one]), other]) == pytest.approx(together)
    assert measure.combine([one, mean_of([other, other])]) == pytest.approx(together)
    answers = {
        name: (Answer(Status.OK, "", json.dumps(value), value),) for name, value in (("a", right), ("b", wrong))
    }
    cases = [case("a", [THING]), case("b", [THING])]
    assert score_arm(owner, "arm", [measure], cases, answers).measures[0].value == pytest.approx(together)


def test_records_of_a_list_go_together_by_their_fields_and_values_by_how_they_are_written() -> None:
    items = {"item": {"rule": "exact"}, "note": {"rule": "exact"}}
    _, records = made(
        {"type": "fields", "fields": {"l": {"rule": "list", "item": {"rule": "record", "fields": items}}}}, "json"
    )
    wanted = {"item": "cap", "note": "a long note that is nearly the same here"}
    other = {"item": "cup", "note": "a long note that is nearly the same hare"}
    found = records.per_case({"l": [other, {"item": "cap", "note": ""}]}, {"l": [wanted]}).findings
    assert ("/l/1/note", "another value") in [(one.where, one.cause) for one in found]
    _, values = made({"type": "fields", "fields": {"l": {"rule": "list", "item": {"rule": "exact"}}}}, "json")
    for got, cause in (("abcdefxxxx", "another value"), ("abcdexxxxx", "invented")):
        found = values.per_case({"l": ["z", got]}, {"l": ["abcdefghij"]}).findings
        assert ("/l/1", cause) in [(one.where, one.cause) for one in found]


@pytest.mark.parametrize(
    ("table", "of_nothing"),
    [({"type": "text"}, 1), ({"type": "text", "score": "words"}, 1), ({"type": "form", "words": {"least": 2, "most": 3}}, 0)],
)  # fmt: skip
def test_every_figure_of_the_best_answer_says_that_nothing_is_wrong(table: dict[str, Any], of_nothing: float) -> None:
    _, measure = made(table, "text")
    totals = measure.totals([measure.best("two caps")] * 3)
    rates = {name: value for name, value in measure.figures(totals).items() if "rate" in name}
    assert all(value == 0 for value in rates.values())
    assert all(value == 1 for name, value in measure.figures(totals).items() if name not in rates)
    assert len(measure.best("two caps").statistics) == len(measure.per_case("two caps", "two caps").statistics)
    assert measure.score_of(totals * 0) == of_nothing


@pytest.mark.parametrize(
    ("expected", "got", "value", "causes"),
    [
        ({"who": None}, {"who": []}, 1, []), ({"who": None}, {"who": {}}, 1, []), ({"who": {}}, {"who": None}, 1, []), ({}, {}, 1, []),
        ({"who": None}, {"who": {"n": "x"}}, 0.5, [("/who/n", "invented")]), ({"who": {"n": "x"}}, {"who": None}, 0.5, [("/who/n", "missing")]),
        ({"who": {"n": "x"}}, {"who": []}, 0.5, [("/who/n", "missing")]), ({"lines": None}, {"lines": []}, 1, []), ({"lines": []}, {"lines": []}, 1, []),
        ({"lines": None}, {"lines": [{"a": "x"}]}, 0.5, [("/lines/0/a", "invented")]), ({"lines": []}, {"lines": None}, 0.5, [("/lines", "missing")]),
        ({"lines": [{"a": "x"}]}, {"lines": [{"a": "x"}, {}]}, 2 / 3, [("/lines/1", "invented")]),
    ],
)  # fmt: skip
def test_what_is_not_there_on_either_side_is_no_miss(
    expected: Any, got: Any, value: float, causes: list[tuple[str, str]]
) -> None:
    who, line = {"n": {"rule": "exact"}}, {"a": {"rule": "exact"}}
    fields = {
        "lines": {"rule": "list", "item": {"rule": "record", "fields": line}},
        "who": {"rule": "record", "fields": who},
    }
    _, measure = made({"type": "fields", "fields": fields}, "json")
    found = measure.per_case(got, expected)
    assert (found.value, [(one.where, one.cause) for one in found.findings]) == (pytest.approx(value), causes)


@pytest.mark.parametrize(
    ("second", "cause"),
    [(THING, "found twice"), ({**THING, "box": [300, 300, 340, 340]}, "found where nothing is"), ({**THING, "label": "hat"}, "found where nothing is")],
)  # fmt: skip
def test_a_thing_is_found_twice_in_one_place_under_one_label(second: dict[str, Any], cause: str) -> None:
    _, measure = made({"type": "boxes", **PLACED}, "json")
    assert [one.cause for one in measure.per_case([THING, second], [THING]).findings] == [cause]


def test_no_answer_where_nothing_is_to_be_found_is_one_thing_too_many() -> None:
    _, items = made({"type": "items"}, "json")
    for expected in ({}, {"cap": 2}):
        (rate,) = [
            value
            for name, value in items.figures(items.totals([items.worst(expected, "x")])).items()
            if "exact" in name
        ]
        assert rate == 0
    _, measure = made({"type": "boxes", **PLACED}, "json")
    assert measure.per_case([], []).value == measure.best([]).value == 1
    assert measure.worst([], "no reply").value == 0
    assert measure.combine([measure.worst([], "no reply"), measure.best([THING])]) == pytest.approx(2 / 3)
    assert measure.combine([measure.worst([THING], "no reply"), measure.best([THING])]) == pytest.approx(2 / 3)


def test_finds_beyond_the_most_that_are_looked_at_count_as_wrong_by_how_sure_they_are() -> None:
    _, measure = made({"type": "boxes", **PLACED, "confidence": "/sure", "score": "ap50"}, "json")
    most = [{**THING, "sure": 0.5}, *[{**OTHER, "sure": 0.1}] * (MOST_FOUND - 1)]
    found = [measure.per_case([*most, *[{**OTHER, "sure": sure}] * 3], [THING]) for sure in (0.4, 0.9)]
    assert [measure.combine([one]) for one in found] == [pytest.approx(1), pytest.approx(1 / 4)]


def test_figures_lie_within_the_bounds_that_are_theirs() -> None:
    _, measure = made({"type": "label", "labels": ["a", "b"], "ordered": True, "confidence": "/sure"}, "json")
    wide = {"Matthews correlation", "Cohen's kappa", "kappa, linear weights", "kappa, quadratic weights"}
    for name in measure.figures(measure.totals([measure.best("a")])):
        low = -1 if name in {*wide, "expected calibration error"} else 0
        assert measure.bounds_of(name) == (low, 1), name


def png_mask(side: int) -> dict[str, str]:
    packed = io.BytesIO()
    Image.new("1", (side, side), 1).save(packed, "PNG")
    return {"png": base64.b64encode(packed.getvalue()).decode()}


@pytest.mark.parametrize(
    ("mask", "is_read"),
    [
        ({"width": 9, "height": 9, "runs": [0, 81]}, True), ({"width": 9, "height": 9, "runs": [0, 82]}, False),
        ({"width": 0, "height": 9, "runs": []}, False), ({"width": 9, "height": 0, "runs": []}, False),
        ({"width": 100_000, "height": 100_000, "runs": [0, 10**10]}, False), (png_mask(6_324), True), (png_mask(6_325), False),
    ],
)  # fmt: skip
def test_a_mask_of_more_cells_than_a_picture_has_is_not_read(mask: Any, is_read: bool) -> None:
    """An answer of thirty letters could take all memory."""
    _, measure = task({"type": "regions", "place": "/r"})
    missed = measure.per_case([{"r": mask}], [{"r": [0, 0, 9, 0, 9, 9, 0, 9]}])
    assert ("no place that can be read" not in [one.cause for one in missed.findings]) is is_read


@pytest.mark.parametrize(
    ("named", "picture"), [({"p": 2}, 2), ({"p": 0}, 1), ({"p": 3}, 1), ({"p": "2"}, 1), ({}, 1)]
)
def test_a_thing_that_names_no_picture_that_was_sent_is_in_the_first(named: dict[str, Any], picture: int) -> None:
    _, measure = made({"type": "boxes", **PLACED, "picture": "/p"}, "json")
    sent = {"size": [50, 50], "to_upright": [2, 0, 100, 0, 2, 0], "upright_size": [200, 100]}
    found = measure.things([{**THING, **named}], AnswerContext(pictures=(sent, sent)), False)
    assert [number for number, _ in found] == [picture]


@pytest.mark.parametrize(
    ("wanted", "got", "value"),
    [("1 m", "1 kg", 0), ("1 m^2", "1 m", 0), ("1 m/s", "1 m", 0), ("36 km/h", "10 m/s", 1)],
)
def test_units_of_a_formula_are_of_one_kind(wanted: str, got: str, value: int) -> None:
    _, measure = made({"type": "fields", "fields": {"f": {"rule": "formula"}}}, "json")
    assert measure.per_case({"f": got}, {"f": wanted}).value == value


def test_how_near_a_point_has_to_lie_may_be_a_fraction() -> None:
    assert measures_and_problems({"type": "points", "within": 0.01})[1] == []
    assert [one.place for one in measures_and_problems({"type": "points", "within": 0})[1]] == ["measures.m.within"]


def test_the_tables_of_ordered_labels_say_how_many_steps_answers_are_off_and_which_were_taken_for_which() -> None:
    _, measure = made({"type": "label", "labels": ["a", "b", "c", "d"], "ordered": True}, "json")
    pairs = [("a", "a"), ("a", "d"), ("b", "c"), ("b", "x"), ("d", "x"), ("d", "d"), ("d", "b")]
    totals = measure.totals([measure.per_case(got, expected) for expected, got in pairs])
    counts, each, steps = measure.tables(totals)
    # One that is no label is as far off as any label can be.
    assert steps.rows == (("all", (pytest.approx((0 + 3 + 1 + 2 + 3 + 0 + 2) / 7),)),)
    assert counts.columns == ("a", "b", "c", "d", "none")
    assert dict(counts.rows) == {"a": (1, 0, 0, 1, 0), "b": (0, 0, 1, 0, 1), "c": (0,) * 5, "d": (0, 1, 0, 1, 1)}
    assert dict(each.rows)["d"] == pytest.approx((1 / 2, 1 / 3, 2 / 5))
