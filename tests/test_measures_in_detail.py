"""Each measure's best and worst, and what it takes an answer for: small tables, worked out by hand."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from test_scoring import case, measures_and_problems, task

from drovik.images.layout import Map
from drovik.parsing.answer_text import Answer
from drovik.parsing.schema_errors import SchemaError
from drovik.parsing.status import Status
from drovik.scoring.agreement import agreement, pairwise_agreement, word_overlap
from drovik.scoring.alignment import align_lines
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.catalogue import measures_with_expectations
from drovik.scoring.causes.cause_table import ANOTHER_LANGUAGE, ANOTHER_VALUE, GLYPHS_MISREAD, INVENTED_THING
from drovik.scoring.causes.label_causes import other_case_answered
from drovik.scoring.causes.value_causes import is_glyph_slip, plain_cause
from drovik.scoring.json_pointer import ABSENT, pointer_steps
from drovik.scoring.measure import AnswerContext
from drovik.scoring.measure_checks import check_looked_at, schema_lacks
from drovik.scoring.measures.coordinates import Frame, expected_points
from drovik.scoring.measures.outlines import shapes_of
from drovik.scoring.measures.regions import Region
from drovik.scoring.measures.required_words import numbers_in
from drovik.scoring.rules.text_rules import partial_date

BOX = [{"box": [0, 0, 50, 50], "label": "cap"}]
MEASURES: list[tuple[dict[str, Any], Any, Any, str]] = [
    ({"type": "label", "labels": ["cap", "hat"]}, "cap", "hat", "json"),
    ({"type": "label", "labels": ["cap", "hat"], "score": "macro_f1"}, "cap", "hat", "json"),
    ({"type": "label", "labels": ["a", "b", "c"], "ordered": True, "score": "closeness"}, "a", "c", "json"),
    ({"type": "label", "labels": ["a/b", "a/c", "d"], "parts": "/", "score": "path_f1"}, "a/b", "d", "json"),
    ({"type": "label", "labels": ["cap", "hat"], "many": True}, ["cap"], ["hat"], "json"),
    ({"type": "fields", "fields": {"a": {"rule": "exact"}, "b": {"rule": "number"}}}, {"a": "x", "b": 1}, {}, "json"),
    ({"type": "fields", "score": "record", "fields": {"a": {"rule": "exact"}}}, {"a": "x"}, {"a": "y"}, "json"),
    ({"type": "text"}, "Do not open", "", "text"),
    ({"type": "text", "score": "words"}, "Do not open", "", "text"),
    ({"type": "facts"}, {"must": ["cap"], "must_not": ["umbrella"]}, "An umbrella.", "text"),
    ({"type": "similarity"}, "a red cap", "zzz", "text"),
    ({"type": "similarity", "score": "chrf"}, "a red cap", "zzz", "text"),
    ({"type": "similarity", "score": "rouge_l"}, "a red cap", "zzz", "text"),
    ({"type": "items"}, {"cap": 2}, {"hat": 1}, "json"),
    ({"type": "items", "counts": False}, ["cap"], ["hat"], "json"),
    ({"type": "boxes", "place": "/box", "label": "/label"}, BOX, [], "json"),
    ({"type": "points", "place": "/p", "within": 5}, [{"p": [1, 1]}], [{"p": [90, 90]}], "json"),
    ({"type": "regions", "place": "/r"}, [{"r": [0, 0, 9, 0, 9, 9]}], [], "json"),
    ({"type": "form", "words": {"least": 2, "most": 3}}, None, "one", "text"),
]  # fmt: skip


def made(table: dict[str, Any], form: str) -> Any:
    """A measure, or a skip of a table that it does not have."""
    owner, problems, measures = measures_and_problems(table, form)
    assert not problems, problems
    return owner, measures[0]


@pytest.mark.parametrize("number", range(len(MEASURES)))
def test_the_best_of_a_case_is_all_of_it_and_the_worst_is_nothing(number: int) -> None:
    """A case that is to be declined, or has no reply, scores one of the two; bounds of a score come from both."""
    table, expected, wrong, form = MEASURES[number]
    owner, measure = made(table, form)
    best, worst = measure.best(expected), measure.worst(expected, "no reply")
    assert (best.value, worst.value) == (1.0, 0.0)
    assert (measure.combine([best]), measure.combine([worst])) == pytest.approx((1.0, 0.0))
    assert best.findings == ()
    assert {one.cause for one in worst.findings} == {"no reply"}
    missed = measure.per_case(wrong, expected)
    assert missed.findings
    assert 0 <= missed.value < 1
    causes = {one.cause for one in missed.findings}
    assert measure.without(missed, expected, causes) == best, "with nothing left to say it is the best"
    assert measure.without(missed, expected, {"another cause"}) == missed
    assert measure.combine([best, best, worst]) > measure.combine([best, worst, worst])
    declined, said = case("d", expected, refusal=True), Answer(Status.OK, "bare", "x", wrong)
    answers = {"d": (Answer(Status.REFUSED, "", "I would rather not."), said)}
    scored = score_arm(owner, "arm", [measure], [declined], answers).measures[0].cases[0]
    assert [one.score.value for one in scored.repeats if one.score] == [1.0, 0.0]


@pytest.mark.parametrize(
    ("wanted", "got", "is_slip"),
    [
        ("rnrnmmabcdef", "mmrnrnabcdef", False),  # four of them are one too many
        ("rnrnmabcdefg", "mmrnabcdefg", True),
        ("mmmabcdefgh", "rnrnrnabcdefgh", True),
        ("mmmmabcdefghij", "rnrnrnrnabcdefghij", False),
        ("m", "rn", True),
        ("mm", "rnrn", False),
        ("abc", "abc", False),
        ("abc", "", False),
        (" abc ", "abc", False),
        ("clog", "dog", True),
        ("8", "B", True),
    ],
)  # fmt: skip
def test_a_few_characters_that_look_alike_are_a_slip_and_many_are_another_text(
    wanted: str, got: str, is_slip: bool
) -> None:
    assert is_glyph_slip(wanted, got) == is_slip
    assert is_glyph_slip(got, wanted) == is_slip
    if wanted.strip() != got.strip() and is_slip:
        assert plain_cause(wanted, got) == GLYPHS_MISREAD


def test_things_of_other_cases_that_a_text_names_are_invented_and_cost_what_one_statement_costs() -> None:
    owner, measure = task({"type": "facts", "vocabulary": "cases"}, "text")
    cases = [case("a", {"must": ["red cap"]}), case("b", {"must": ["blue umbrella"], "may": ["old cap"]})]
    (informed,) = measures_with_expectations([measure], owner, cases)
    expected = {"must": ["red cap"]}
    score = informed.per_case("A red cap and an umbrella.", expected)
    assert [(one.cause, one.expected, one.got) for one in score.findings] == [
        (INVENTED_THING, "no umbrella", "umbrella")
    ]
    assert informed.per_case("A red cap.", expected).findings == ()
    missed = informed.per_case("An umbrella.", expected)
    left = informed.without(missed, expected, {INVENTED_THING})
    assert left.statistics == informed.per_case("Nothing.", expected).statistics
    assert informed.combine([score]) == pytest.approx(1 / 2)
    figures = informed.figures(informed.rows([score]).sum(axis=0))
    assert figures["precision of statements"] == pytest.approx(1 / 2)


@pytest.mark.parametrize("call", ["checks", "checks:", ":red", "checks:1st", "che cks:red", "che/cks:red"])
def test_a_call_that_names_no_function_is_reported(call: str) -> None:
    _, problems, _ = measures_and_problems({"type": "function", "call": call})
    assert "names no function" in problems[0].what
    _, problems, _ = measures_and_problems({"type": "function", "call": "my.checks:red"})
    assert not problems


@pytest.mark.parametrize(
    ("expected", "told"),
    [("Eine blaue Flasche liegt auf dem Tablett neben dem Zettel.", False), ("Cap", False),
     ("A blue bottle lies on the tray beside the tag of paper.", True)],
)  # fmt: skip
def test_another_language_is_told_only_where_that_of_what_is_expected_is_known(expected: str, told: bool) -> None:
    owner, measure = task({"type": "similarity"}, "text")
    said = "Ein ganz anderer Satz, in dem gar nichts davon vorkommt, und der lang genug ist."
    answers = {"c": (Answer(Status.OK, "", said, said),)}
    scored = score_arm(owner, "a", [measure], [case("c", expected)], answers).measures[0].cases[0]
    assert scored.score is not None
    assert (ANOTHER_LANGUAGE in {one.cause for one in scored.score.findings}) == told


def test_the_curve_of_confidence_says_what_was_stated_and_how_often_it_was_right() -> None:
    _, measure = task({"type": "label", "at": "/k", "labels": ["a", "b"], "confidence": "/sure"})
    answers = [("a", 0.82), ("a", 0.88), ("b", 0.85), ("b", 0.85), ("a", 0.1), ("b", 1.0)]
    scores = [measure.per_case({"k": got, "sure": sure}, "a") for got, sure in answers]
    tables = measure.tables(measure.rows(scores).sum(axis=0))
    curve = next(one for one in tables if "confidence" in one.title)
    assert {name: pytest.approx(row) for name, row in curve.rows} == {
        "0.1 to 0.2": (1, 0.1, 1), "0.8 to 0.9": (4, 0.85, 0.5), "0.9 to 1.0": (1, 1.0, 0),
    }  # fmt: skip


@pytest.mark.parametrize(
    "raw",
    [
        {"x": 10, "y": 20, "width": 30, "height": 40}, {"left": 10, "top": 20, "right": 40, "bottom": 60},
        {"x1": 10, "y1": 20, "x2": 40, "y2": 60}, {"xmin": 10, "ymin": 20, "xmax": 40, "ymax": 60},
        {"left": 10, "top": 20, "width": 30, "bottom": 60}, {"left": 10, "top": 20, "right": 40, "height": 40},
    ],
)  # fmt: skip
def test_a_box_is_read_by_the_usual_names_of_its_sides(raw: dict[str, int]) -> None:
    _, measure = task({"type": "boxes", "place": "/box", "score": "overlap"})
    found = measure.per_case([{"box": raw}], [{"box": [10, 20, 40, 60]}])
    assert measure.combine([found]) == pytest.approx(1)
    for name in raw:
        less = {key: value for key, value in raw.items() if key != name}
        assert measure.combine([measure.per_case([{"box": less}], [{"box": [10, 20, 40, 60]}])]) == 0


@pytest.mark.parametrize(
    ("where", "got", "cause"),
    [
        ("/k", "caps", "plural of the label"), ("/k", "CAP", "letter case"), ("/k", "hat", "another label"),
        ("/k", "beanie", "alias of the label"), ("/k", "zebra", None), ("/other", "caps", None), ("/k", 3, None),
    ],
)  # fmt: skip
def test_a_label_that_the_schema_refuses_is_told_by_what_is_wrong_with_it(
    where: str, got: Any, cause: str | None
) -> None:
    _, measure = task({"type": "label", "at": "/k", "labels": ["cap", "hat"], "same_as": {"beanie": "cap"}})
    found = measure.cause_as_read(where, "cap", got)
    assert (None if found is None else str(found)) == cause


def test_an_error_of_the_schema_is_told_once_and_by_its_own_cause() -> None:
    owner, measure = task({"type": "label", "at": "/k", "labels": ["cap", "hat"]})
    error = SchemaError("/k", "'caps' is none of cap, hat", "enum")
    answer = Answer(Status.OFF_SCHEMA, "bare", "{}", {"k": "caps"}, (error,))
    scored = score_arm(owner, "a", [measure], [case("c", {"k": "cap"})], {"c": (answer,)}).measures[0].cases[0]
    assert scored.score is not None
    assert [(one.where, str(one.cause)) for one in scored.score.findings] == [("/k", "plural of the label")]
    assert scored.score.value == 0


def test_texts_agree_by_their_words() -> None:
    assert [agreement(texts) for texts in ([], ["a"], ["a", "A!"], ["a", "b"])] == [1, 1, 1, 0]
    assert agreement(["a b", "a c", "a b"]) == pytest.approx((0.5 + 1 + 0.5) / 3)
    assert [word_overlap(*pair) for pair in (("", ""), ("a", ""), ("a a b", "a"))] == [1, 0, 0.5]
    assert pairwise_agreement({"a": ["x"], "b": []}) is None
    assert pairwise_agreement({"a": ["x", "x", "y"], "b": [None, None]}) == pytest.approx(1 / 4)


@pytest.mark.parametrize(
    ("raw", "is_read"),
    [
        ([0, 0, 9, 0, 9, 9], True), ([[0, 0], [9, 0], [9, 9]], True), ([0, 0, 9, 0], False), ([0, 0, 9, 0, 9], False),
        ([0, 0, 9, 0, 9, 9, 5], False), ([[0, 0], [9, 0], [9]], False), ("none", False), ([0, 0, 9, 0, 9, None], False),
    ],
)  # fmt: skip
def test_a_polygon_has_three_corners_or_more(raw: Any, is_read: bool) -> None:
    _, measure = task({"type": "regions", "place": "/r", "score": "overlap"})
    score = measure.per_case([{"r": raw}], [{"r": [0, 0, 9, 0, 9, 9]}])
    assert (measure.combine([score]) == pytest.approx(1)) == is_read


def test_items_are_counted_as_they_are_expected_and_as_they_came() -> None:
    """Of 2 caps, 1 hat and 1 key there came 3 caps, 1 hat and 2 tags: 3 met, 3 too many, 1 left out."""
    _, measure = task({"type": "items", "counts": True})
    score = measure.per_case({"cap": 3, "hat": 1, "tag": 2}, {"cap": 2, "hat": 1, "key": 1})
    figures = measure.figures(measure.rows([score]).sum(axis=0))
    assert {name: float(value) for name, value in figures.items()} == pytest.approx(
        {"precision": 3 / 6, "recall": 3 / 4, "F1 over items": 6 / 10, "exact matches": 0, "count error": 1 / 2}
    )
    assert measure.combine([score]) == pytest.approx(6 / 10)


def test_what_an_expected_output_is_known_by_is_every_value_that_is_more_than_a_digit() -> None:
    listed = {"rule": "list", "item": {"rule": "text"}}
    _, measure = task({"type": "fields", "fields": {"a": {"rule": "exact"}, "b": listed, "c": {"rule": "number"}}})
    assert measure.traits({"a": "SK-1", "b": ["coin", "key"], "c": 7}) == {"/a SK-1", "/b/0 coin", "/b/1 key"}
    assert measure.traits({"a": None, "c": 17}) == {"/c 17"}


def test_fractions_stay_fractions_where_no_picture_is_known() -> None:
    assert expected_points([(0.5, 0.25)], Frame(), "fraction") == [(0.5, 0.25)]
    assert expected_points([(0.5, 0.25)], Frame(upright=(200.0, 100.0)), "fraction") == [(100.0, 25.0)]
    assert expected_points([(500, 250)], Frame(upright=(200.0, 100.0)), "thousand") == [(100.0, 25.0)]
    assert expected_points([(7, 9)], Frame(upright=(200.0, 100.0)), "pixels") == [(7, 9)]


@pytest.mark.parametrize("size", [20, 200, 1000])
def test_the_outline_of_a_mask_lies_round_its_cells_however_large_it_is(size: int) -> None:
    mask = np.zeros((size, size), dtype=bool)
    mask[size // 4 : size // 2, size // 4 : size * 3 // 4] = True
    shapes = shapes_of(Region((), mask, Map(a=2.0, b=0.0, c=0.0, d=0.0, e=2.0, f=0.0)))
    (outline,) = shapes
    xs, ys = [x for x, _ in outline.corners], [y for _, y in outline.corners]
    near = pytest.approx((size / 8, size * 3 / 8, size / 8, size / 4), abs=size / 60)
    assert (min(xs), max(xs), min(ys), max(ys)) == near
    assert len(outline.corners) <= 12, "a rectangle is no staircase"


@pytest.mark.parametrize(
    ("expected", "got", "value"),
    [
        ("3", "log(8)/log(2)", 1), (r"x^2 + x", r"x(x+1)", 1), (r"x^2 + x", r"\frac{x(x+1)}{1}", 1),
        ("1, 2, 3, 4, 5, 6, 7, 8", "8, 7, 6, 5, 4, 3, 2, 1", 1), ("1, 2", "1", 0), ("1, 2", "1, 2, 3", 0),
        ("x = 3", "3 = x", 1), ("±2", "2, -2", 1), ("±2", "2", 0), ("2", r"\boxed{2}", 1), ("2", r"\boxed{3} \boxed{2}", 1),
        ("2", "x = 1\n\nAnswer: 2", 1), ("2", "First 3.\nThen it is 2", 1), ("1,234", "1234", 1), ("1.5", "1,5", 1),
        ("{1, 2}", "2 or 1", 1), (r"\frac{1}{2}", "0.5", 1), ("sqrt(2)/2", "1/sqrt(2)", 1), ("2", "two", 0), ("2", "", 0),
        ("(x+1)(x-1)", "x^2-1", 1), ("30 km", "30 km", 1), ("3 m", "300 cm", 1), ("3 m", "3 km", 0), ("90°", "90 degrees", 1),
    ],
)  # fmt: skip
def test_a_formula_is_what_it_comes_to(expected: str, got: str, value: int) -> None:
    _, measure = task({"type": "fields", "fields": {"f": {"rule": "formula"}}})
    assert measure.per_case({"f": got}, {"f": expected}).value == value


@pytest.mark.parametrize("expected", [{"note": 1}, ["cap"], "cap", None, 5, {}])
def test_what_holds_no_statements_is_not_looked_at(expected: Any) -> None:
    _, measure = task({"type": "facts"}, "text")
    assert measure.expected_of(expected) is ABSENT
    assert measure.expected_of({"may": []}) == {"may": []}


@pytest.mark.parametrize(
    ("table", "text", "got"),
    [
        ({"words": {"most": 2}}, " one two three ", "3"), ({"sentences": {"most": 1}}, "One. Two. Three.", "3"),
        ({"items": {"least": 3}}, "- one\n- two", "2"), ({"items": {"least": 2}}, "1. one\nno item", "1"),
        ({"characters": {"most": 3}}, "  abcd ", "4"), ({"lines": {"most": 1}}, "a\n\nb", "2"),
    ],
)  # fmt: skip
def test_the_length_of_a_text_is_counted_in_what_is_asked_for(table: dict[str, Any], text: str, got: str) -> None:
    _, measure = task({"type": "form", **table}, "text")
    (found,) = measure.per_case(text, None).findings
    assert found.got.startswith(got), found


def test_an_answer_is_held_against_what_it_says_and_how_it_was_found() -> None:
    _, measure = task({"type": "form", "only_json": True})
    fenced = '```\n{"k": 1}\n```'
    for how, text, causes in (
        ("bare", '{"k": 1}', []), ("repaired", '{"k": 1,}', []), ("fenced", f"{fenced}\n", ["fence around the JSON"]),
        ("fenced", f"Here: {fenced}", ["prose around the JSON"]), ("in_prose", "x", ["prose around the JSON"]),
    ):  # fmt: skip
        found = measure.per_case({"k": 1}, None, AnswerContext(text=text, how=how))
        assert [one.cause for one in found.findings] == causes, how
        assert found.value == (0 if causes else 1)


@pytest.mark.parametrize(("wanted", "got"), [(12.3456, 12.3465), ("12.34", "12.43"), (1.000002, 1.00002)])
def test_digits_that_changed_places_are_seen_behind_the_point(wanted: Any, got: Any) -> None:
    assert plain_cause(wanted, got) != ANOTHER_VALUE


@pytest.mark.parametrize(
    ("point", "found"), [([5, 5], 1), ([0, 10], 1), ([11, 5], 0), ([5, 11], 0), ([-1, 5], 0), ([5, -1], 0)]
)
def test_a_point_that_is_expected_in_a_box_is_right_anywhere_within_it(point: list[int], found: int) -> None:
    _, measure = task({"type": "points", "place": "/p"})
    assert measure.per_case([{"p": point}], [{"p": [0, 0, 10, 10]}]).value == found
    assert measure.per_case([{"p": [0, 0, 10, 10]}], [{"p": [0, 0, 10, 10]}]).value == 0, "a box is no point"


@pytest.mark.parametrize(("away", "found"), [(0, 1), (3, 1), (6, 1), (7, 0)])
def test_a_point_is_right_from_as_near_as_is_said(away: int, found: int) -> None:
    _, measure = task({"type": "points", "place": "/p", "within": 6})
    assert measure.per_case([{"p": [20 + away, 20]}], [{"p": [20, 20]}]).value == found


CAPS = {"labels": ["cap", "hat", "key"], "many": True}
PLACED = {"place": "/box", "label": "/label"}
THING, FAR, OTHER = ({"box": box, "label": "cap"} for box in ([0, 0, 40, 40], [30, 30, 70, 70], [0, 80, 9, 89]))


@pytest.mark.parametrize(
    ("table", "form", "expected", "wrong", "cause", "mended"),
    [
        ({"type": "label", **CAPS}, "json", ["cap"], ["hat"], "label too many", []),
        ({"type": "label", **CAPS}, "json", ["cap"], ["hat"], "label left out", ["cap", "hat"]),
        ({"type": "fields", "fields": {"a": {"rule": "exact"}, "b": {"rule": "number"}}}, "json", {"a": "x", "b": 1},
         {"a": "y"}, "missing", {"a": "y", "b": 1}),
        ({"type": "fields", "fields": {"a": {"rule": "exact"}, "b": {"rule": "number"}}}, "json", {"a": "x", "b": 1},
         {"a": "y"}, "another value", {"a": "x"}),
        ({"type": "facts"}, "text", {"must": ["cap"], "must_not": ["umbrella"]}, "An umbrella.", "missing", "A cap, an umbrella."),
        ({"type": "facts"}, "text", {"must": ["cap"], "must_not": ["umbrella"]}, "An umbrella.", "forbidden statement made", "-"),
        ({"type": "facts", "score": "precision"}, "text", {"must": ["red cap", "tag", "key"]}, "No red cap. A tag.", "contradicted", "A red cap. A tag."),
        ({"type": "facts", "score": "precision"}, "text", {"must": ["red cap", "tag", "key"]}, "A tag. Perhaps a red cap.", "hedged", "A red cap. A tag."),
        ({"type": "items"}, "json", {"cap": 2}, {"hat": 1}, "item invented", {}),
        ({"type": "items"}, "json", {"cap": 2}, {"hat": 1}, "item left out", {"cap": 2, "hat": 1}),
        ({"type": "boxes", **PLACED}, "json", [THING], [OTHER], "not found", [THING, OTHER]),
        ({"type": "boxes", **PLACED}, "json", [THING], [OTHER], "found where nothing is", []),
        ({"type": "boxes", **PLACED}, "json", [THING], [{**THING, "label": "hat"}, OTHER], "wrong label", [THING, OTHER]),
        ({"type": "boxes", **PLACED}, "json", [THING], [THING, THING], "found twice", [THING]),
        ({"type": "points", "place": "/p", "within": 5}, "json", [{"p": [1, 1]}], [{"p": [90, 90]}], "not found",
         [{"p": [1, 1]}, {"p": [90, 90]}]),
    ],
)  # fmt: skip
def test_what_fixing_a_cause_would_bring_is_what_the_mended_answer_scores(
    table: dict[str, Any], form: str, expected: Any, wrong: Any, cause: str, mended: Any
) -> None:
    """Without it, "what to fix first" would promise points that nobody gets."""
    _, measure = made(table, form)
    missed = measure.per_case(wrong, expected)
    assert cause in [one.cause for one in missed.findings]
    promised = measure.without(missed, expected, {cause})
    right = [measure.best(expected)] * 3
    assert measure.combine([promised, *right]) == pytest.approx(
        measure.combine([measure.per_case(mended, expected), *right])
    )
    assert measure.combine([promised]) >= measure.combine([missed])


def test_the_findings_of_no_answer_name_what_was_expected() -> None:
    _, facts = made({"type": "facts"}, "text")
    assert facts.worst({"must": ["red cap", "tag"]}, "no reply").findings[0].expected == "red cap, tag"
    assert facts.worst({"must_not": ["umbrella"]}, "no reply").findings[0].expected == "nothing of what it must not"


@pytest.mark.parametrize(
    ("text", "numbers"),
    [
        ("1.250,00", ("1250.0",)),
        ("12 500", ("12500.0",)),
        ("7 12", ("7.0", "12.0")),
        ("7 and 8,5", ("7.0", "8.5")),
        ("none", ()),
    ],
)
def test_numbers_in_a_text_are_written_plainly(text: str, numbers: tuple[str, ...]) -> None:
    assert numbers_in(text) == numbers


@pytest.mark.parametrize(
    ("pick", "text", "right"),
    [
        ("first", "A cap, or a hat.", 1), ("first", "A hat, or a cap.", 0), ("last", "A hat? No: a cap.", 1),
        ("last", "A cap and a hat", 0), ("only", "A cap and a hat", 0), ("only", "A cap. Yes, a cap.", 1), ("last", "A key", 0),
    ],
)  # fmt: skip
def test_the_label_that_is_meant_is_found_among_several(pick: str, text: str, right: int) -> None:
    _, measure = made({"type": "label", "labels": ["cap", "hat", "key"], "find": pick}, "text")
    assert measure.per_case(text, "cap").value == right


@pytest.mark.parametrize(
    ("expected", "got", "close"),
    [("a", "d", 0), ("b", "d", 0), ("b", "a", 1 / 2), ("c", "d", 1 / 2), ("d", "b", 1 / 3), ("c", "x", 0)],
)
def test_closeness_is_of_the_farthest_that_a_label_can_be_missed_by(expected: str, got: str, close: float) -> None:
    _, measure = made(
        {"type": "label", "labels": ["a", "b", "c", "d"], "ordered": True, "score": "closeness"}, "json"
    )
    score = measure.per_case(got, expected)
    assert measure.combine([score]) == score.value == pytest.approx(close)


@pytest.mark.parametrize(("at", "problems"), [("/kind", 0), ("/sort", 1)])
def test_a_measure_that_finds_nothing_in_any_expected_output_is_reported(at: str, problems: int) -> None:
    owner, measure = made({"type": "label", "at": at, "labels": ["cap"]}, "json")
    cases = [case("a", {"kind": "cap"}), case("b", {"kind": "cap"})]
    found = check_looked_at(owner, [measure], [*cases, case("c", None)._replace(expected={})])
    assert [one.what for one in found] == ["none of the 2 expected outputs has anything at /sort"] * problems
    assert check_looked_at(owner, [measure], [case("c", None)._replace(expected={})]) == []
    assert len(check_looked_at(owner, [measure], cases[:1])) == problems


NODE = {
    "type": "object",
    "properties": {"down": {"$ref": "#/$defs/node"}, "name": {"type": "string"}},
    "additionalProperties": False,
}
SCHEMAS: dict[str, Any] = {
    "open": {"type": "object", "properties": {"a": {}}},
    "closed": {"type": "object", "properties": {"a": {"type": "object", "properties": {"b": {}}, "additionalProperties": False}},
               "additionalProperties": False},
    "rows": {"type": "array", "items": {"type": "object", "properties": {"a": {}}, "additionalProperties": False}},
    "text": {"type": "string"},
    "either": {"anyOf": [{"type": "string"}, {"type": "object", "properties": {"a": {}}, "additionalProperties": False}]},
    "both": {"allOf": [{"type": "object"}, {"properties": {"a": {}}, "additionalProperties": False}]},
    "tree": {"$ref": "#/$defs/node", "$defs": {"node": NODE}},
    "patterns": {"type": "object", "patternProperties": {"^x": {}}, "additionalProperties": False},
    "untyped": {"properties": {"a": {}}, "additionalProperties": False, "items": False},
    "nowhere": {"$ref": "other.json#/a"},
    "itself": {"$ref": "#"}, "any of itself": {"anyOf": [{"$ref": "#"}]}, "all of itself": {"allOf": [{"$ref": "#"}]},
}  # fmt: skip


@pytest.mark.parametrize(
    ("schema", "pointer", "lacks"),
    [
        ("open", "/z", False), ("closed", "/a", False), ("closed", "/z", True), ("closed", "/a/b", False), ("closed", "/a/z", True),
        ("closed", "/a/b/z", False), ("closed", "", False), ("rows", "/0/a", False), ("rows", "/0/z", True), ("rows", "/a", True),
        ("text", "/a", True), ("text", "", False), ("either", "/a", False), ("either", "/z", True), ("both", "/a", False),
        ("both", "/z", True), ("tree", "/down/down/name", False), ("tree", "/down/down/z", True), ("patterns", "/x1", False),
        ("untyped", "/a", False), ("untyped", "/z", True), ("untyped", "/0", True), ("nowhere", "/a", False),
        ("itself", "/a", False), ("any of itself", "/a", False), ("all of itself", "/a", False),
    ],
)  # fmt: skip
def test_a_place_that_no_valid_answer_can_have_is_known_by_the_schema(schema: str, pointer: str, lacks: bool) -> None:
    assert schema_lacks(SCHEMAS[schema], SCHEMAS[schema], pointer_steps(pointer)) is lacks


@pytest.mark.parametrize(("at", "said"), [("/a", []), ("/z", ["measures.m.at"])])
def test_a_measure_whose_place_no_valid_answer_has_is_reported(at: str, said: list[str]) -> None:
    owner, measure = made({"type": "label", "at": at, "labels": ["cap"]}, "json")
    told = check_looked_at(replace(owner, schema=SCHEMAS["closed"]), [measure], [])
    assert [one.place for one in told] == said


LISTED = {"rule": "list", "item": {"rule": "exact"}, "fields": {"b": {"rule": "exact"}}}


@pytest.mark.parametrize(
    ("table", "what", "place"),
    [
        ({"type": "fields", "fields": {"a": {"rule": "nonsense"}}}, "there is no rule 'nonsense'", ".fields.a.rule"),
        ({"type": "fields", "fields": {"a": LISTED}}, "a list has 'item' or 'fields', not both", ".fields.a"),
        ({"type": "fields", "pattern": "(x)", "fields": {"a": {}}}, "the pattern names no part", ".pattern"),
        ({"type": "judge", "by": "j", "least": 1, "most": 1}, "'most' is not above 'least'", ""),
        ({"type": "judge", "by": "j", "worth": {"good": 1.5}}, "a verdict is worth from 0 to 1", ".worth"),
        ({"type": "nonsense"}, "there is no measure of type 'nonsense'", ".type"),
        ({"type": "facts", "vocabulary": ["cap", "?"]}, "'?' has no word in it", ".vocabulary"),
        ({"type": "facts", "beyond": ["."]}, "'.' has no word in it", ".beyond"),
        ({"type": "form"}, "it demands nothing", ""),
        ({"type": "form", "language": "xx"}, "'xx' is not a language that can be recognised", ".language"),
        ({"type": "label"}, "the labels are not listed", ".labels"),
    ],
)
def test_what_a_measures_table_says_wrong_is_reported(table: dict[str, Any], what: str, place: str) -> None:
    assert (what, f"measures.m{place}") in [(one.what, one.place) for one in measures_and_problems(table)[1]]


def of_rule(**rule: Any) -> dict[str, Any]:
    return {"type": "fields", "fields": {"a": rule}}


@pytest.mark.parametrize(
    ("taken", "refused"),
    [
        *[([of_rule(rule=rule, **{name: value}) for value in taken], [of_rule(rule=rule, **{name: value}) for value in refused])
          for rule, name, taken, refused in (
              ("exact", "weight", (0.1,), (0,)), ("near", "least", (0.01, 0.99), (0, 1)), ("address", "least", (0.01, 1), (0, 1.01)),
              ("number", "tolerance", (0,), (-0.1,)), ("number", "share", (0,), (-0.1,)), ("amount", "tolerance", (0,), (-0.1,)),
              ("one_of", "values", (["a"],), ([],)))],
        ([{"type": "boxes", "overlap": value} for value in (0.01, 1)], [{"type": "boxes", "overlap": value} for value in (0, 1.01)]),
        ([{"type": "label", "labels": ["a"], "top": 1, "parts": "/", "precision": value} for value in (0.01, 1)],
         [{"type": "label", "labels": ["a"], **wrong} for wrong in ({"top": 0}, {"parts": ""}, {"precision": 0}, {"precision": 1.01})]),
        ([{"type": "function", "call": "m:f", "seconds": value} for value in (0.01, 600)],
         [{"type": "function", "call": "m:f", "seconds": value} for value in (0, 600.1)]),
        ([{"type": "form", "words": {"least": 0, "most": 0}}, {"type": "form", "counts": {"n": {"pattern": "x", "least": 0, "most": 0}}}],
         [{"type": "form", "words": {"least": -1}}, {"type": "form", "words": {"most": -1}}, {"type": "form", "counts": {"n": {"pattern": ""}}},
          {"type": "form", "counts": {"n": {"pattern": "x", "least": -1}}}, {"type": "form", "counts": {"n": {"pattern": "x", "most": -1}}}]),
        ([of_rule()], [{"type": "fields", "fields": {}}, of_rule(rule="record", fields={})]),
    ],
)  # fmt: skip
def test_numbers_of_a_table_are_taken_to_their_bounds_and_not_beyond(
    taken: list[dict[str, Any]], refused: list[dict[str, Any]]
) -> None:
    for table in taken:
        assert measures_and_problems(table)[1] == [], table
    for table in refused:
        assert measures_and_problems(table)[1], table


@pytest.mark.parametrize(
    ("expected", "wrong"), [(["cap", "hat"], None), ([], None), (["cap", "boot"], "'boot'"), ("cap", ""), ([1], "")]
)
def test_the_labels_that_are_expected_are_labels_of_the_task(expected: Any, wrong: str | None) -> None:
    _, measure = made({"type": "label", "labels": ["cap", "hat"], "many": True}, "json")
    told = measure.check_expected(expected)
    assert (told is None) == (wrong is None)
    assert told is None or str(wrong) in told[0]


def test_lines_go_together_in_order_and_across_only_where_order_is_free() -> None:
    wanted = ["A red cap lies here", "SAME", "The blue flask stands"]
    got = ["The blue flask stand", "SAME", "A red cap lies her"]
    assert align_lines(wanted, got, False).pairs == ((0, None), (1, 1), (2, None), (None, 0), (None, 2))
    assert align_lines(wanted, got, True).pairs == ((0, 2), (1, 1), (2, 0))
    side_by_side = align_lines(wanted, ["A red cap lies her", "SAME", "The blue flask"], False)
    assert side_by_side.pairs == ((0, 0), (1, 1), (2, 2))
    assert (side_by_side.char_edits, side_by_side.word_edits, side_by_side.moved) == (8, 2, False)
    turned = align_lines(["one line", "two line"], ["two line", "one line"], False)
    assert (turned.pairs, turned.moved) == (((0, 1), (1, None), (None, 0)), True)
    few = [(["a", "b", "c"], ["a"]), (["a"], ["a", "b", "c"]), (["a", "b"], []), ([], ["a", "b"])]
    assert [align_lines(*one, free=True).char_edits for one in few] == [4, 4, 3, 3], "the ends of lines count"


@pytest.mark.parametrize(
    ("wanted", "got", "chars"),
    [("a red cap", "a cap", 4), ("a cap", "a red cap", 4), ("a red cap", "a rid cap", 1)],
)
def test_a_finding_says_how_many_characters_it_costs(wanted: str, got: str, chars: int) -> None:
    _, measure = made({"type": "text"}, "text")
    missed = measure.per_case(got, wanted)
    assert sum(amount for found in missed.findings for place, amount in found.effect if place == 0) == -chars
    assert missed.statistics[0] == chars


def test_line_breaks_do_not_count_however_they_fall() -> None:
    _, measure = made({"type": "text"}, "text")
    wanted = "The cap is red and new\nIt has a tag on it\nNobody asks for it"
    assert measure.per_case(wanted.replace("\n", " "), wanted).value == 1
    assert measure.per_case("The cap\nis red and new It has\na tag on it Nobody asks for it", wanted).value == 1
    assert (
        measure.per_case("The cap\nis rid and new It has\na tag on it Nobody asks for it", wanted).statistics[0] == 1
    )
    _, strict = made({"type": "text", "line_breaks": True}, "text")
    assert strict.per_case(wanted.replace("\n", " "), wanted).statistics[0] == 2


@pytest.mark.parametrize(
    ("lines", "own", "other"),
    [
        ("bbbb cccc dddd", "aaaa", "o"), ("bbbb cccc dddd eeee", "aaaa", "o"), ("bbbb cccc", "aaaa", None),
        ("bbbb cccc dddd eeee ffff", "bbbb cccc dddd", None),
    ],
)  # fmt: skip
def test_an_answer_is_about_another_case_where_most_of_that_one_and_little_of_its_own_is_in_it(
    lines: str, own: str, other: str | None
) -> None:
    """Four or five lines are expected there; two thirds of them, and three at least, tell."""
    _, measure = made({"type": "text"}, "text")
    texts = {
        "c": own.replace(" ", "\n"),
        "o": "bbbb\ncccc\ndddd\neeee" if "eeee" in lines else "bbbb\ncccc\ndddd\nzzzz",
    }
    traits = {name: measure.traits(text) for name, text in texts.items()}
    said = lines.replace(" ", "\n")
    answer = Answer(Status.OK, "bare", said, said)
    found = other_case_answered(
        measure, lambda: traits, {"c": (answer, measure.per_case(said, texts["c"])._replace(value=0.0))}
    )
    assert found == ({"c": other} if other else {})


def test_two_thirds_of_another_cases_lines_are_enough() -> None:
    _, measure = made({"type": "text"}, "text")
    traits = {"c": frozenset({"mine"}), "o": frozenset(f"line {n}" for n in range(6))}
    for count, found in ((4, {"c": "o"}), (3, {})):
        said = "\n".join(f"line {n}" for n in range(count))
        answered = {"c": (Answer(Status.OK, "bare", said, said), measure.worst("mine", "x"))}
        assert other_case_answered(measure, lambda: traits, answered) == found


@pytest.mark.parametrize(
    ("said", "cause"),
    [("b/c", True), ("a/b", True), ("c", True), ("a/c", False), ("a", True), ("d", False), ("/a/b/c/", False)],
)
def test_a_part_of_a_path_is_told_from_another_label(said: str, cause: bool) -> None:
    _, measure = made({"type": "label", "labels": ["a/b/c", "x/y/z"], "parts": "/"}, "json")
    found = measure.per_case(said, "a/b/c").findings[0].cause
    assert (found == measure.per_case("b/c", "a/b/c").findings[0].cause) is cause
    assert found != measure.per_case("x/y/z", "a/b/c").findings[0].cause


def test_every_other_error_of_the_schema_is_told_beside_what_the_measure_found() -> None:
    owner, measure = task({"type": "label", "at": "/k", "labels": ["cap", "hat"]})

    def told(value: Any, *errors: SchemaError) -> list[tuple[str, str]]:
        answer = Answer(Status.OFF_SCHEMA, "bare", "{}", value, errors)
        (one,) = score_arm(owner, "a", [measure], [case("c", {"k": "cap"})], {"c": (answer,)}).measures[0].cases
        assert one.score is not None
        return [(found.where, str(found.cause)) for found in one.score.findings]

    added, whole = (
        SchemaError("/note", "is not allowed", "additionalProperties"),
        SchemaError("", "has too little", "minProperties"),
    )
    assert told({"k": "hat", "note": 1}, added) == [("/k", "another label"), ("/note", "added property")]
    assert told({"k": "cap", "note": 1}, added) == [("/note", "added property")]
    assert told({"k": "hat"}, whole) == [("/k", "another label")], (
        "what says no more than that it is off the schema adds nothing"
    )
    assert len(told({"k": "cap"}, whole, whole)) == 1, "but it is said where nothing else is, once"


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("2026-12", (2026, 12, None)), ("2026-13", None), ("2026-00", None), ("2026", (2026, None, None)), ("12/2026", (2026, 12, None)),
        ("13/2026", None), ("August 2026", (2026, 8, None)), ("Somewhen 2026", None), ("2026-08-14", (2026, 8, 14)),
    ],
)  # fmt: skip
def test_a_date_may_leave_out_its_day_or_its_month(text: str, parts: tuple[int | None, ...] | None) -> None:
    assert partial_date(text) == parts
