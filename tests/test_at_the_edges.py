"""Where a measure begins to count something and where it ends: answers just on either side, worked out by hand."""

from __future__ import annotations

import base64
import io
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
import shapely
from PIL import Image
from test_scoring import case, measures_and_problems, task

from drovik.comparing import contrast
from drovik.images.layout import Map
from drovik.parsing.answer_text import Answer
from drovik.parsing.schema_errors import SchemaError
from drovik.parsing.status import Status
from drovik.project.schema_inference import DATE_PATTERN
from drovik.scoring.agreement import comparable
from drovik.scoring.alignment import align_lines, rewrapped
from drovik.scoring.arm_scores import score_case
from drovik.scoring.causes.cause_table import ANOTHER_UNIT, ANOTHER_VALUE, DIGITS_SWAPPED
from drovik.scoring.causes.label_causes import other_case_answered
from drovik.scoring.causes.value_causes import plain_cause
from drovik.scoring.drafted_measure import drafted_measure
from drovik.scoring.measure import UNTOLD, CannotScore, CaseScore, mean_of
from drovik.scoring.measures import confusion
from drovik.scoring.measures.coordinates import Frame
from drovik.scoring.measures.outlines import shapes_of
from drovik.scoring.measures.regions import Region, Regions, overlap
from drovik.scoring.measures.required_words import has_digit
from drovik.scoring.measures.transcript import Normalization
from drovik.scoring.scores import costs_of


def worth(rule: dict[str, Any], expected: Any, got: Any) -> float:
    """What one field comes to."""
    _, measure = task({"type": "fields", "fields": {"f": rule}})
    return float(measure.per_case({"f": got}, {"f": expected}).value)


def test_a_list_with_a_solution_too_many_is_no_answer_however_long_it_is() -> None:
    eight = [str(number) for number in range(1, 9)]
    assert worth({"rule": "formula"}, eight, eight[::-1]) == 1
    assert worth({"rule": "formula"}, eight, [*eight, "9"]) == 0
    assert worth({"rule": "formula"}, eight[:7], eight) == 0


def test_a_formula_may_have_many_letters_of_one_sign() -> None:
    assert worth({"rule": "formula"}, "a+b+c+d+f+g+h+k+m+n", "n+m+k+h+g+f+d+c+b+a") == 1


@pytest.mark.parametrize(
    ("expected", "got", "value"),
    [
        ("10:15", "10:15:30", 1), ("10:15:00", "10:15", 1), ("10:15:00", "10:15:30", 0), ("10:15:30", "10:15:30", 1),
        ("10:15", "10:16", 0), ("12:05 am", "00:05", 1), ("12:05 pm", "12:05", 1), ("1 pm", "13:00", 1), ("13 pm", "13:00", 1), ("10", "10:00", 0),
    ],
)  # fmt: skip
def test_seconds_count_where_both_tell_them(expected: str, got: str, value: int) -> None:
    assert worth({"rule": "time"}, expected, got) == value


def test_a_word_too_many_before_all_others_stays_in_the_first_line() -> None:
    assert rewrapped(["Fee", "Do not open"], ["New Fee", "Do not", "open"]) == ("New Fee", "Do not open")
    assert rewrapped(["Fee", "Do not open"], ["Fee Do not open now"]) == ("Fee", "Do not open now")


def test_lines_that_are_alike_by_half_go_together_and_by_less_they_do_not() -> None:
    for came, pair in (("abef", (0, 0)), ("aefg", (0, None))):
        aligned = align_lines(["abcd", "keep this line"], [came, "new words here", "keep this line"], free=False)
        assert pair in aligned.pairs, came
    for came, pair in (("Don", (0, 0)), ("Do", (0, None))):  # a line cut short is itself, of two signs nobody knows
        assert pair in align_lines(["Don't open it", "b"], [came, "x", "b"], free=False).pairs, came


def test_an_element_goes_with_the_one_that_has_more_of_it_right() -> None:
    rule = {"rule": "list", "item": {"rule": "record", "fields": {"a": {"rule": "exact"}, "b": {"rule": "exact"}}}}
    _, measure = task({"type": "fields", "fields": {"f": rule}})
    nearly = {"a": "abcdefghiX", "b": "klmnopqrsX"}
    half = {"a": "abcdefghij", "b": "something else"}
    for every in ([nearly, half], [half, nearly]):
        score = measure.per_case({"f": every}, {"f": [{"a": "abcdefghij", "b": "klmnopqrst"}]})
        said = {(one.expected, one.got) for one in score.findings}
        assert ('"klmnopqrst"', '"something else"') in said or ("klmnopqrst", "something else") in said, said


def test_a_unit_is_another_only_where_both_have_a_number() -> None:
    assert plain_cause("5 cm", "5 in") == ANOTHER_UNIT
    for wanted, got in (("5 cm", "in"), ("cm", "5 in")):
        assert plain_cause(wanted, got) != ANOTHER_UNIT, (wanted, got)
    for wanted, got in ((5, "cm"), ("cm", 5)):
        assert plain_cause(wanted, got) == ANOTHER_VALUE, (wanted, got)
    for wanted, got in ((2, "50.8 mm"), (2, "2000 g"), (50.8, "2 in")):
        assert plain_cause(wanted, got) == ANOTHER_UNIT, (wanted, got)
    assert plain_cause(2, "34 mm") == ANOTHER_VALUE
    assert plain_cause(12, 21) == DIGITS_SWAPPED


def test_the_shares_of_each_field_are_those_of_its_own_outcomes() -> None:
    """Right, wrong, missing and invented, each another number of times: F1 by its definition."""
    _, measure = task({"type": "fields", "fields": {"f": {"rule": "exact"}}})
    pairs = [("x", "x")] * 4 + [("x", "y")] * 3 + [("x", None)] * 2 + [(None, "x")]
    scores = [measure.per_case({"f": got}, {"f": expected}) for expected, got in pairs]
    counts, shares = measure.tables(measure.totals(scores))
    ((name, values),) = shares.rows
    assert (name, shares.columns) == ("f", ("precision", "recall", "F1"))
    assert values == pytest.approx((4 / 8, 4 / 9, 8 / (8 + 6 + 2 + 1)))
    assert sum(counts.rows[0][1]) == 10


def test_a_unit_may_stand_at_its_number() -> None:
    for one, other, value in (("30km", "30 km", 1), ("30km", "30000 m", 1), ("2 m", "200cm", 1), ("2m", "200 cm", 0)):
        assert worth({"rule": "formula"}, one, other) == value, (one, other)


def test_the_farther_of_two_labels_is_as_far_as_can_be() -> None:
    _, measure = task(
        {"type": "label", "at": "", "labels": ["small", "large"], "ordered": True, "score": "closeness"}
    )
    scores = [measure.per_case(got, "small") for got in ("small", "large")]
    assert [measure.combine([one]) for one in scores] == [1.0, 0.0]


def test_what_two_answers_have_in_common_is_the_value_or_the_words() -> None:
    """However a value was wrapped it is the same answer; of a text it is the words and not the spaces."""
    bare, fenced = '{"a": 1, "b": 2}', '```\n{"b": 2, "a": 1}\n```'
    one, other = (Answer(Status.OK, "bare", text, {"a": 1, "b": 2}) for text in (bare, fenced))
    assert comparable(one) == comparable(other)
    assert comparable(Answer(Status.OK, "", "a  cap\n", "a  cap")) == comparable(
        Answer(Status.OK, "", "a cap", "a cap")
    )
    assert comparable(Answer(Status.NOT_JSON, "", "a cap")) != comparable(Answer(Status.NOT_JSON, "", "A cap"))


def test_a_thing_named_beside_another_is_no_word_of_the_vocabulary() -> None:
    """A relation is a statement about two things, and what it names may be seen in any picture."""
    _, measure = task({"type": "facts"}, "text")
    informed = measure.informed([{"must": ["tag left of the tray"]}, {"must": ["cap"]}, {"must": ["bottle"]}])
    assert informed.per_case("A cap and a tag.", {"must": ["cap"]}).findings == ()
    assert [one.got for one in informed.per_case("A cap and a bottle.", {"must": ["cap"]}).findings] == ["bottle"]


def boxes(**more: Any) -> Any:
    return task({"type": "boxes", "at": "", "place": "/b", **more})[1]


def test_as_many_boxes_are_found_as_can_be_and_only_then_the_best() -> None:
    """One box is the second one's own, and lies on the first as well: it must not take the only one from the other."""
    wanted = [{"b": [0, 0, 100, 100]}, {"b": [60, 0, 160, 100]}]
    got = [{"b": [0, 0, 100, 100]}, {"b": [-60, 0, 40, 100]}]
    measure = boxes(overlap=0.2)
    score = measure.per_case(got, wanted)
    figures = measure.figures(measure.totals([score]))
    assert (figures["recall"], figures["precision"], figures["F1"]) == (1.0, 1.0, 1.0)
    score = measure.per_case(got[:1], [*wanted, {"b": [500, 500, 600, 600]}])
    figures = measure.figures(measure.totals([score]))
    assert (figures["recall"], figures["precision"], figures["F1"]) == pytest.approx((1 / 3, 1.0, 1 / 2))


def test_the_curve_of_precision_takes_the_surest_first_and_equals_together() -> None:
    """However the answer orders its boxes: two are right, of one is half the picture away, two are equally sure."""
    measure: Any = boxes(label="/l", confidence="/c")
    wanted = [{"b": [0, 0, 10, 10], "l": "cap"}, {"b": [50, 0, 60, 10], "l": "hat"}]
    right, wrong = {"b": [0, 0, 10, 10], "l": "cap", "c": 0.9}, {"b": [80, 80, 90, 90], "l": "cap", "c": 0.8}
    late, same = {"b": [50, 0, 60, 10], "l": "hat", "c": 0.7}, {"b": [80, 0, 90, 10], "l": "hat", "c": 0.7}
    for got in ([right, wrong, late, same], [same, late, wrong, right], [late, right, same, wrong]):
        curve = measure.precision_recall([measure.per_case(got, wanted)])
        assert curve == [(0.5, 1.0), (0.5, 0.5), (1.0, 0.5)], got


def test_rows_made_once_are_the_rows_of_all_cases(monkeypatch: pytest.MonkeyPatch) -> None:
    """Scores and intervals come from different rows and how often each is there: a case that took another one's row, or a
    group that lost one at the end of a batch, would move them without a word."""
    monkeypatch.setattr(contrast, "_AT_ONCE", 3)
    _, measure = task({"type": "label", "at": "/k", "labels": ["a", "b", "c"], "confidence": "/c"})
    said = [("a", 0.9), ("b", 0.5), ("a", 0.9), ("none", 0.1), ("c", 0.5), ("a", 0.2), ("a", 0.9), ("c", 0.5)]
    single = [measure.per_case({"k": k, "c": c}, "a") for k, c in said]
    for scores in (single, [*single[:5], mean_of(single[:2]), mean_of(single[2:5]), single[0]]):
        rows = measure.rows(scores)
        kinds, places = measure.kinds(scores)
        assert kinds[places].tolist() == rows.tolist()
        assert measure.totals(scores) == pytest.approx(rows.sum(axis=0))
        for groups in ([3, 1, 0, 2, 7, 5, 4, 6], [1, 0, 1, 2, 2, 0, 1, 1]):
            kinds, places = contrast.unit_kinds(measure, scores, np.array(groups))
            wanted = [
                rows[[n for n, one in enumerate(groups) if one == unit]].sum(axis=0) for unit in sorted(set(groups))
            ]
            assert kinds[places] == pytest.approx(np.array(wanted))
    assert len(measure.kinds(single)[0]) < len(single), "or nothing is made once"


def test_what_tells_no_place_is_no_thing() -> None:
    measure: Any = boxes()
    found = measure.things([{"b": [0, 0, 5, 5]}, {"b": "there"}, "b", None], UNTOLD, expected=False)
    assert [(number, thing.raw) for number, thing in found] == [(1, {"b": [0, 0, 5, 5]})]


def masked(left: float, top: float, size: float) -> Region:
    """A square of four cells of which the upper two are on."""
    cell = 2 / size
    return Region(
        (), np.array([[True, True], [False, False]]), Map(a=cell, b=0, c=-left * cell, d=0, e=cell, f=-top * cell)
    )


@pytest.mark.parametrize(("x", "y"), [(0, 0), (1e6, 0), (0, 1e6), (-1e6, -1e6)])
def test_regions_overlap_as_far_wherever_in_the_picture_they_are(x: float, y: float) -> None:
    square = Region(((x, y), (x + 64, y), (x + 64, y + 64), (x, y + 64)))
    assert overlap(masked(x, y, 64), square) == pytest.approx(1 / 2, abs=0.02)
    assert overlap(masked(x, y, 64), masked(x + 32, y, 64)) == pytest.approx(1 / 3, abs=0.02)
    assert overlap(masked(x, y, 64), masked(x + 64, y, 64)) == 0
    assert overlap(masked(x, y, 64), masked(x, y + 64, 64)) == 0


def test_a_mask_is_read_from_a_picture_with_or_without_its_address() -> None:
    image = Image.fromarray(np.array([[255, 255, 0, 0]] * 4, dtype=np.uint8))
    image.save(data := io.BytesIO(), "PNG")
    text = base64.b64encode(data.getvalue()).decode()
    _, measure = task({"type": "regions", "at": "", "place": "/r", "score": "overlap"})
    runs = {"width": 4, "height": 4, "runs": [0, 2, 2, 2, 2, 2, 2, 2, 2]}
    for png in (text, f"data:image/png;base64,{text}"):
        assert measure.per_case([{"r": {"png": png}}], [{"r": runs}]).value == pytest.approx(1.0)
    for broken in (text[:40], "data:image/png;base64,", "§"):
        assert measure.per_case([{"r": {"png": broken}}], [{"r": runs}]).value == 0
    assert measure.per_case([{"r": {**runs, "runs": [0, 17]}}], [{"r": runs}]).value == 0, "more cells than there are"
    assert measure.per_case([{"r": {**runs, "height": 0}}], [{"r": runs}]).value == 0
    for wrong in ([0, 2, -1, 3, 2, 2, 2], [0, 2.5, 2, 2, 2, 2, 2, 2]):
        assert measure.per_case([{"r": {**runs, "runs": wrong}}], [{"r": runs}]).value == 0, wrong


def test_a_mask_lies_where_the_picture_that_was_sent_shows_it() -> None:
    """A picture of 8 x 4 pixels, shrunk to 4 x 2; the mask has four cells, of which the left two are on."""
    _, measure = task({"type": "regions", "at": "", "place": "/r"})
    assert isinstance(measure, Regions)
    frame = Frame((4.0, 2.0), Map(a=2.0, b=0.0, c=0.0, d=0.0, e=2.0, f=0.0), (8.0, 4.0))
    place = measure.place_of({"width": 2, "height": 2, "runs": [0, 1, 1, 1, 1]}, frame, expected=False)
    assert overlap(place, Region(((0, 0), (4, 0), (4, 4), (0, 4)))) == pytest.approx(1.0)
    for x, y in ((4, 0), (-4, 0), (0, 4)):
        assert overlap(place, Region(((x, y), (x + 4, y), (x + 4, y + 4), (x, y + 4)))) == pytest.approx(0.0)


def test_how_many_words_of_an_address_have_to_be_there_is_a_share() -> None:
    for least, problems in ((0.5, 0), (1, 0), (1.5, 1), (0, 1)):
        fields = {"type": "fields", "fields": {"f": {"rule": "address", "least": least}}}
        assert len(measures_and_problems(fields)[1]) == problems, least


def test_a_text_is_another_one_below_half_of_the_reference() -> None:
    _, measure = task({"type": "similarity"}, "text")
    assert measure.per_case("red cap", "red hat").value == 0.5
    assert measure.per_case("red cap", "red hat").findings == ()
    assert measure.per_case("red cap now", "red hat").findings


@pytest.mark.parametrize(
    ("properties", "drafted"),
    [
        ({"kind": {"enum": ["cap", "hat"]}}, 'type = "label"\nat = "/kind"\nlabels = ["cap", "hat"]'),
        ({"kind": {"enum": ["cap", "hat"]}, "n": {"type": "integer"}}, 'kind = { rule = "one_of", values = ["cap", "hat"] }\nn = { rule = "number" }'),
        ({"day": {"type": "string", "format": "date"}}, 'day = { rule = "date" }'),
        ({"Tag der Reise": {"type": ["string", "null"], "pattern": DATE_PATTERN}}, '"Tag der Reise" = { rule = "date" }'),
        ({"kind": {"enum": ["cap", None]}}, 'kind = { rule = "one_of", values = ["cap"] }'),
        ({"of what": {"enum": ["cap"]}}, '[measures.label]\ntype = "label"\nat = "/of what"'),
        ({"box": {"type": "string"}}, 'box = { rule = "text" }'),
        ({"n": {"type": ["null", "number"]}}, 'n = { rule = "number" }'),
        ({"boxes": {"type": "array"}, "note": {"type": "string"}}, 'type = "boxes"\nat = "/boxes"'),
        ({"boxes": {"type": "array"}, "note": {}, "more": {}}, "[measures.fields.fields]"),
        ({"a b": {"type": "array", "items": {"type": ["integer"]}}}, '"a b" = { rule = "list", item = { rule = "number" } }'),
    ],
)  # fmt: skip
def test_a_measure_is_drafted_by_the_schema(properties: dict[str, Any], drafted: str) -> None:
    made, _ = task({"type": "fields", "fields": {"f": {"rule": "exact"}}})
    assert drafted in drafted_measure(replace(made, schema={"type": "object", "properties": properties}))


@pytest.mark.parametrize(
    ("text", "cause", "got"),
    [
        ("There is umbrella here.", "missing", "nothing"), ("It is umbrella blue.", "missing", "nothing"),
        ("The umbrella is blue.", "wrong attribute", "umbrella is blue"), ("A blue umbrella.", "wrong attribute", "blue umbrella"),
        ("The umbrella on top is blue.", "missing", "nothing"), ("The umbrella was very old.", "wrong attribute", "umbrella was very"),
    ],
)  # fmt: skip
def test_another_attribute_is_one_that_is_said_of_the_thing(text: str, cause: str, got: str) -> None:
    _, measure = task({"type": "facts"}, "text")
    (found,) = measure.per_case(text, {"must": ["red umbrella"]}).findings
    assert (found.cause, found.got) == (cause, got)


def test_a_record_within_a_record_counts_by_its_leaves() -> None:
    """Two leaves that are expected, one of them left empty on purpose: only the other one can be missed."""
    rule = {"rule": "record", "fields": {"a": {"rule": "exact"}, "b": {"rule": "exact"}, "c": {"rule": "number"}}}
    _, measure = task({"type": "fields", "fields": {"f": rule, "g": {"rule": "exact"}}})
    expected = {"f": {"a": "x", "b": None, "c": 2}, "g": "y"}
    best = measure.best(expected)
    assert measure.totals([best]).tolist() == measure.totals([measure.per_case(expected, expected)]).tolist()
    figures = measure.figures(measure.totals([best, measure.worst(expected, "no reply")]))
    assert (figures["recall"], figures["precision"]) == pytest.approx((3 / 6, 1.0))


def test_an_answer_that_never_came_counts_as_one_case() -> None:
    """Beside one that is right it is half, and not a third."""
    _, measure = task({"type": "form", "words": {"least": 1}}, "text")
    assert measure.combine([measure.best(None), measure.worst(None, "no reply")]) == 0.5


@pytest.mark.parametrize(
    "score", ["accuracy", "balanced_accuracy", "macro_f1", "micro_f1", "weighted_f1", "matthews"]
)
def test_no_answers_are_no_score_to_be_proud_of(score: str) -> None:
    """A group or a fold may be empty."""
    assert getattr(confusion, score)(np.zeros((3, 4))) == 0.0


def test_tokens_that_a_service_does_not_tell_are_none() -> None:
    costs = costs_of([Answer(Status.OK, "", "a"), Answer(Status.OK, "", "a", input_tokens=5, output_tokens=7)])
    assert (costs.answers, costs.input_tokens, costs.output_tokens) == (2, 5, 7)


def test_the_outline_of_a_mask_that_slopes_is_no_staircase() -> None:
    """Or of a large one most corners would be cut off."""
    y, x = np.mgrid[:40, :40]
    for mask, most in ((x >= y, 5), ((x - 20) ** 2 + (y - 20) ** 2 < 200, 24)):
        (outline,) = shapes_of(Region((), mask, Map(a=1.0, b=0.0, c=0.0, d=0.0, e=1.0, f=0.0)))
        assert len(outline.corners) <= most
        drawn = shapely.Polygon(outline.corners)
        assert drawn.area == pytest.approx(mask.sum(), rel=0.06)


def test_a_mask_may_be_a_single_cell() -> None:
    _, measure = task({"type": "regions", "at": "", "place": "/m", "overlap": 0.5})
    dot, nothing = ({"m": {"runs": runs, "height": 1, "width": 1}} for runs in ([0, 1], [1]))
    assert measure.per_case([dot], [dot]).value == 1.0
    assert measure.per_case([nothing], [dot]).value == 0.0


def test_the_curve_of_precision_is_at_the_overlap_that_is_asked_for() -> None:
    """Half of a box is enough at 0.5, and not at 0.75."""
    wanted, half = [{"b": [0, 0, 10, 10]}], [{"b": [0, 0, 10, 6], "c": 0.9}]
    for enough, curve in ((0.5, [(1.0, 1.0)]), (0.75, [(0.0, 0.0)])):
        measure: Any = boxes(confidence="/c", overlap=enough)
        assert measure.precision_recall([measure.per_case(half, wanted)]) == curve


def test_a_point_in_its_box_overlaps_it_wholly_and_no_more() -> None:
    _, measure = task({"type": "points", "at": "", "place": "/b"})
    score = measure.per_case([{"b": [5, 5]}], [{"b": [0, 0, 10, 10]}])
    assert measure.figures(measure.totals([score]))["mean overlap of what was found"] == 1.0


def test_how_sure_is_sure_enough_goes_by_95_of_100_unless_it_is_said() -> None:
    """Nineteen of the twenty that are at least 0.9 sure are right."""
    _, measure = task({"type": "label", "at": "/k", "labels": ["cap", "hat"], "confidence": "/c"})
    said = [("cap", 0.9)] * 19 + [("hat", 0.9)] + [("hat", 0.5)] * 5
    scores = [measure.per_case({"k": label, "c": sure}, "cap") for label, sure in said]
    (kept,) = [one for one in measure.tables(measure.totals(scores)) if one.title.startswith("keep")]
    assert "for 95% right" in kept.title
    assert kept.rows[0][1][1:] == pytest.approx((20 / 25, 0.95))


@pytest.mark.parametrize(("got", "cause"), [
    ("mittn", "near spelling of the label"), ("Mittin", "near spelling of the label"), ("itten", "outside the list"), ("mit", "outside the list"),
])  # fmt: skip
def test_a_label_is_spelled_nearly_right_where_it_begins_right(got: str, cause: str) -> None:
    _, measure = task({"type": "label", "at": "/k", "labels": ["mitten", "cap"]})
    assert [one.cause for one in measure.per_case({"k": got}, "mitten").findings] == [cause]


def test_names_are_words_with_a_capital_that_begin_no_sentence() -> None:
    _, measure = task({"type": "text", "must": ["names"]}, "text")
    wanted = "The ship Eider lies at Port Skerry. No cap."
    right = {}
    for got in (wanted, wanted.replace("Eider", "Aider"), wanted.replace("No", "Na").replace("ship", "chip")):
        figures = measure.figures(measure.totals([measure.per_case(got, wanted)]))
        right[got] = float(figures["required words correct"])
    assert [*right.values()] == pytest.approx([1, 2 / 3, 1])


@pytest.mark.parametrize(("fact", "text", "value"), [
    ("the cap left of the bottle", "Cap left of bottle.", 1), ("cap left of bottle", "The cap is left of the bottle.", 1),
    ("cap left of bottle", "To the left of the big old red bottle lies a cap.", 1), ("cap left of bottle", "Left of the big old red bottle lies a cap.", 1),
    ("cap left of bottle", "Left of all the big old red wool bottle lies a cap.", 0),
])  # fmt: skip
def test_a_place_is_said_within_a_few_words_and_articles_do_not_count(fact: str, text: str, value: int) -> None:
    _, measure = task({"type": "facts"}, "text")
    assert measure.per_case(text, {"must": [fact]}).value == value


def test_a_thing_that_nobody_counted_has_no_attribute_that_is_wrong() -> None:
    _, measure = task({"type": "facts"}, "text")
    (found,) = measure.per_case("Red gloves lie there.", {"must": ["two gloves"]}).findings
    assert (found.cause, found.got) == ("missing", "nothing")


@pytest.mark.parametrize(
    ("got", "cause"), [("12", "number as text"), ("12 kg", "number as text"), ("many", "off the schema")]
)
def test_a_number_as_text_is_named_where_nothing_but_the_schema_minds(got: str, cause: str) -> None:
    owner, measure = task({"type": "label", "at": "/k", "labels": ["cap"]})
    value = {"k": "cap", "n": got}
    off = Answer(Status.OFF_SCHEMA, "bare", "{}", value, (SchemaError("/n", "is not a number", "type"),))
    scored = score_case(owner, measure, case("c", {"k": "cap"}), off, "cap")
    assert scored.score is not None
    assert [(one.where, one.cause) for one in scored.score.findings] == [("/n", cause)]


def test_an_answer_is_about_the_case_that_it_tells_most_of_and_not_about_a_longer_one() -> None:
    _, measure = task({"type": "text"}, "text")
    short, long = ["tern one", "tern two", "tern three"], [f"eider {number}" for number in range(9)]
    traits = {"own": frozenset(["puffin"]), "long": frozenset(long), "short": frozenset(short)}
    said = "\n".join([*short, *long[:3]])
    wrong = Answer(Status.OK, "", said, said), CaseScore((), 0.1)
    assert other_case_answered(measure, lambda: traits, {"own": wrong}) == {"own": "short"}


@pytest.mark.parametrize("text", [
    "a b", "a\nb", "a  b", " a", "a ", "a\n\nb", "a \nb", "a\n b", "\na", "a\n", "", " ", "\n", "a\tb", "a\r\nb", "a\x0bb", "a\x1fb",
    "a\u00a0b", "ä b", "ä  b", "a\u2028b", "a\x85b",
])  # fmt: skip
def test_the_lines_of_a_text_have_single_spaces_and_none_is_empty(text: str) -> None:
    lines = Normalization().lines(text)
    assert lines == [one for line in text.replace("\u00a0", " ").splitlines() if (one := " ".join(line.split()))]


@pytest.mark.parametrize(
    ("text", "there"), [("a 7", True), ("a b", False), ("", False), ("٣", True), ("ä", False), ("0", True)]
)
def test_a_digit_is_one_in_whichever_script(text: str, there: bool) -> None:
    assert has_digit(text) is there


@pytest.mark.parametrize(("table", "binary"), [
    ({"type": "items", "at": "", "score": "exact"}, True), ({"type": "items", "at": "", "score": "f1"}, False), ({"type": "text", "score": "exact"}, True),
    ({"type": "text"}, False), ({"type": "label", "labels": ["a"]}, True), ({"type": "label", "labels": ["a"], "score": "macro_f1"}, False),
])  # fmt: skip
def test_a_case_is_right_or_wrong_where_the_score_is_a_share_of_right_ones(
    table: dict[str, Any], binary: bool
) -> None:
    """Its interval and its test are those of proportions then, and of no other score."""
    assert task(table)[1].binary is binary


@pytest.mark.parametrize(("rule", "expected", "is_fit"), [
    ("amount", "12,50 EUR", True), ("amount", "twelve", False), ("amount", 12.5, True), ("number", "12", True), ("number", "many", False),
    ("date", "2026-03-01", True), ("date", "soon", False), ("time", "10:15", True), ("time", "later", False),
])  # fmt: skip
def test_an_expected_value_has_to_be_what_its_rule_compares(rule: str, expected: Any, is_fit: bool) -> None:
    _, measure = task({"type": "fields", "fields": {"f": {"rule": rule}}})
    assert (measure.check_expected({"f": expected}) is None) is is_fit


@pytest.mark.parametrize(
    ("score", "is_one"), [(0, True), (1, True), (0.5, True), (True, True), (1.5, False), (-0.1, False), ("1", False)]
)
def test_what_an_own_measure_says_is_a_score_from_0_to_1(score: Any, is_one: bool) -> None:
    _, measure = task({"type": "function", "call": "checks:mine"})
    vars(measure)["_process"] = SimpleNamespace(ask=lambda pair: {"score": score})
    if is_one:
        assert measure.per_case("a", "a").value == float(score)
    else:
        with pytest.raises(CannotScore, match="not a number from 0 to 1"):
            measure.per_case("a", "a")
