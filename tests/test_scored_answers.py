"""What measures find in answers: each kind of miss with its cause, and figures of a whole corpus by counting."""

from __future__ import annotations

import json
import statistics
from collections import Counter
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_scoring import case, measures_and_problems, task

from drovik.comparing.verdict import estimate
from drovik.images.layout import Map
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.tasks import judged_id
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.causes.cause_table import (
    ANOTHER_UNIT,
    ANOTHER_VALUE,
    CUT_SHORT,
    DIGITS_SWAPPED,
    GLYPHS_MISREAD,
    OFF_BY_A_POWER_OF_TEN,
)
from drovik.scoring.drafted_measure import drafted_measure
from drovik.scoring.json_pointer import structure_of
from drovik.scoring.language.english import is_negation, is_plural_of
from drovik.scoring.measure import AnswerContext, CannotScore
from drovik.scoring.measures.judge import Judge
from drovik.scoring.measures.regions import inverse
from drovik.scoring.measures.transcript import without_quotes
from drovik.scoring.rules.nested import _in_order

CORPUS = [
    ("A red glove lies on the tray.", "A red glove lies on a wooden tray beside its tag."),
    ("Nothing.", "A blue umbrella, folded."),
    ("two mittens and one mitten more", "one mitten and two mittens"),
    ("", "A flask."),
    ("the tag the tag the tag", "the tag"),
]


def words(text: str) -> list[str]:
    return [one.strip(".,").lower() for one in text.split()]


def longest_common(one: list[str], other: list[str]) -> int:
    """By the recursion of the definition, over all pairs of prefixes."""
    table = {(n, m): 0 for n in range(len(one) + 1) for m in range(len(other) + 1)}
    for n, first in enumerate(one, 1):
        for m, second in enumerate(other, 1):
            table[n, m] = table[n - 1, m - 1] + 1 if first == second else max(table[n - 1, m], table[n, m - 1])
    return table[len(one), len(other)]


def f(hits: int, said: int, wanted: int) -> float:
    return 2 * hits / (said + wanted) if said and wanted else float(not said and not wanted)


def test_similarity_of_a_corpus_is_what_counting_by_hand_gives() -> None:
    """Token F1 and ROUGE-L are means of the cases, chrF that of all runs of up to six characters together."""
    _, measure = task({"type": "similarity"}, "text")
    scores = [measure.per_case(got, wanted) for got, wanted in CORPUS]
    figures = measure.figures(measure.rows(scores).sum(axis=0))
    pairs = [(words(got), words(wanted)) for got, wanted in CORPUS]
    tokens = [f((Counter(one) & Counter(other)).total(), len(one), len(other)) for one, other in pairs]
    longest = [f(longest_common(one, other), len(one), len(other)) for one, other in pairs]
    assert figures["token F1"] == pytest.approx(statistics.mean(tokens))
    assert figures["ROUGE-L"] == pytest.approx(statistics.mean(longest))
    precisions, recalls = [], []
    for size in range(1, 7):
        runs = [
            [Counter(text[n : n + size] for n in range(len(text) - size + 1)) for text in map("".join, pair)]
            for pair in pairs
        ]
        common = sum((one & other).total() for one, other in runs)
        precisions.append(common / sum(one.total() for one, _ in runs))
        recalls.append(common / sum(other.total() for _, other in runs))
    precision, recall = statistics.mean(precisions), statistics.mean(recalls)
    assert figures["chrF"] == pytest.approx(5 * precision * recall / (4 * precision + recall))


def test_of_several_references_the_likest_counts_and_is_the_one_that_is_shown() -> None:
    _, measure = task({"type": "similarity"}, "text")
    score = measure.per_case("one cap", ["a blue hat", "a grey cap with a tag"])
    assert score.value == pytest.approx(2 * 1 / (2 + 6))
    assert score.findings[0].expected == "a grey cap with a tag"
    assert measure.per_case("", ["a hat"]).findings[0].got == "nothing"
    assert measure.per_case("A grey cap!", ["a grey cap"]).findings == ()


@pytest.mark.parametrize(
    ("expected", "got", "cause"),
    [
        ("SK-1012", "SK-IO12", GLYPHS_MISREAD),
        ("modern", "modem", GLYPHS_MISREAD),
        ("clip", "dip", GLYPHS_MISREAD),
        ("dip", "clip", GLYPHS_MISREAD),
        ("corner 10", "comer lO", GLYPHS_MISREAD),
        ("SK-1012", "SK-1O1Z", GLYPHS_MISREAD),
        ("SK-1012", "SK-7777", ANOTHER_VALUE),
        ("SK-1012", "SK-1021", DIGITS_SWAPPED),
        ("47.9", "49.7", DIGITS_SWAPPED),
        ("4719", "9714", ANOTHER_VALUE),
        ("4719", "4728", ANOTHER_VALUE),
        ("SK-1012", "SK-101", CUT_SHORT),
        ("SK-1012", "SK-10122", ANOTHER_VALUE),
    ],
)
def test_what_was_misread_is_told_from_what_is_another_value(expected: str, got: str, cause: str) -> None:
    _, measure = task({"type": "fields", "fields": {"n": {"rule": "exact"}}})
    found = measure.per_case({"n": got}, {"n": expected}).findings
    assert [one.cause for one in found] == [cause]


def test_demands_on_the_form_of_a_text_are_counted_each_by_itself() -> None:
    table = {
        "type": "form", "words": {"least": 2, "most": 4}, "counts": {"dates": {"pattern": r"\d\d\.\d\d", "least": 1, "most": 2}},
        "forbidden": {"hedging": "perhaps"},
    }  # fmt: skip
    _, measure = task(table, "text")

    def causes(text: str) -> dict[str, Any]:
        return {one.where: one.got for one in measure.per_case(text, None).findings}

    assert causes("Left on 12.08 aboard") == {}
    assert causes("Left 12.08 or 13.08") == {}
    assert causes("12.08 13.08 14.08") == {"dates": "3"}
    assert causes("Left aboard") == {"dates": "0"}
    assert causes("perhaps on 12.08") == {"hedging": "perhaps"}
    assert set(causes("It was perhaps left aboard in May")) == {"words", "dates", "hedging"}
    scores = [measure.per_case(text, None) for text in ("Left on 12.08 aboard", "Left aboard")]
    figures = measure.figures(measure.rows(scores).sum(axis=0))
    assert figures["answers that meet all"] == 0.5
    assert measure.combine(scores) == pytest.approx((3 + 2) / 6)


def test_json_with_words_around_it_is_no_json_alone() -> None:
    _, measure = task({"type": "form", "only_json": True})
    alone, around = AnswerContext(text='{"k": 1}', how="bare"), AnswerContext(text='Here: {"k": 1}', how="in_prose")
    assert measure.per_case({"k": 1}, None, alone).value == 1
    assert measure.per_case({"k": 1}, None, around).findings[0].got == "in_prose"


PLACES = {"type": "facts"}


@pytest.mark.parametrize(
    ("text", "met"),
    [
        ("The tag lies left of the tray.", True),
        ("A tag is to the left of the tray.", True),
        ("Left of the tray lies a tag.", True),
        ("The tray is right of the tag.", True),
        ("The tag lies right of the tray.", False),
        ("The tray is left of the tag.", False),
        ("The tag lies beside the tray.", False),
        ("The tag is not left of the tray.", False),
        ("The tag and the tray. Left of it a cap.", False),
    ],
)
def test_a_place_beside_another_thing_is_met_where_the_sentence_says_it_either_way_round(
    text: str, met: bool
) -> None:
    _, measure = task(PLACES, "text")
    assert measure.per_case(text, {"must": [["tag left of the tray"]]}).value == met


def test_a_field_of_half_the_weight_counts_half() -> None:
    table = {"type": "fields", "fields": {"number": {"rule": "exact", "weight": 0.5}, "day": {"rule": "exact"}}}
    _, measure = task(table)
    wanted = {"number": 1, "day": 2}
    score = measure.per_case({"number": 3, "day": 2}, wanted)
    assert measure.combine([score]) == pytest.approx(1 / 1.5)
    assert measure.combine([measure.per_case({"number": 1, "day": 3}, wanted)]) == pytest.approx(0.5 / 1.5)


def test_precision_of_facts_counts_all_that_was_said_of_them() -> None:
    """Said are the cap, the dish, the umbrella and the sailor; right are the first two. Of two required, one is met."""
    _, measure = task({"type": "facts"}, "text")
    expected = {"must": ["red cap", "tray"], "may": ["dish"], "must_not": ["umbrella", "phone"]}
    score = measure.per_case("A red cap in a dish, and an umbrella. It belongs to a sailor.", expected)
    figures = measure.figures(measure.rows([score]).sum(axis=0))
    assert figures["precision of statements"] == pytest.approx(2 / 4)
    assert figures["required and mentioned"] == pytest.approx(1 / 2)
    assert figures["F1 over statements"] == pytest.approx(1 / 2)
    assert figures["forbidden and not mentioned"] == pytest.approx(1 / 2)
    assert measure.combine([score]) == pytest.approx((1 + 1) / (2 + 2 + 1))


@pytest.mark.parametrize(
    "wrong", [{"must": "red cap"}, {"must": [5]}, {"must": ["cap"], "may": [None]}, {"must": []}]
)
def test_facts_that_are_no_list_of_statements_are_reported(wrong: Any) -> None:
    _, measure = task({"type": "facts"}, "text")
    assert measure.check_expected(wrong) is not None
    assert measure.check_expected({"must": ["cap"], "may": ["tray"]}) is None


@pytest.mark.parametrize(
    ("kinds", "words", "right"),
    [
        (["numbers", "negations"], [], 2 / 3),
        (["numbers"], [], 1 / 2),
        (["negations"], [], 1.0),
        (["numbers", "names"], [], 1 / 2),
        ([], ["open"], 0.0),
    ],
)
def test_only_the_kinds_of_words_that_must_be_right_are_looked_at(
    kinds: list[str], words: list[str], right: float
) -> None:
    _, measure = task({"type": "text", "must": kinds, "words": words, "score": "must"}, "text")
    score = measure.per_case("Do not close\ntag 58\ndeck 3", "Do not open\ntag 58\ndeck 2")
    assert measure.combine([score]) == pytest.approx(right)


@pytest.mark.parametrize(
    ("word", "denies"),
    [("not", True), ("NOT,", True), ("isn't", True), ("no", True), ("No.", False), ("cap", False), ("note", False)],
)
def test_a_number_sign_denies_nothing(word: str, denies: bool) -> None:
    assert is_negation(word) == denies


def test_a_miss_in_a_list_is_at_its_place_in_the_answer_or_where_nothing_fits_in_what_is_expected() -> None:
    item = {"rule": "record", "fields": {"item": {"rule": "text"}, "count": {"rule": "number"}}}
    _, measure = task({"type": "fields", "fields": {"contents": {"rule": "list", "item": item}}})
    wanted = {"contents": [{"item": "coin", "count": 1}, {"item": "key", "count": 3}, {"item": "map", "count": 1}]}
    got = {"contents": [{"item": "key", "count": 4}, {"item": "coin", "count": 1}]}
    places = {one.where for one in measure.per_case(got, wanted).findings}
    assert places == {"/contents/0/count", "/contents/2/item", "/contents/2/count"}


@pytest.mark.parametrize(
    ("expected", "got", "cause"),
    [
        (2, "2000 g", ANOTHER_UNIT),
        (2, "0.002 t", ANOTHER_UNIT),
        (2, "1999 g", ANOTHER_VALUE),
        ("2 kg", "2 g", ANOTHER_UNIT),
        (2, "200", OFF_BY_A_POWER_OF_TEN),
    ],
)
def test_an_amount_in_another_unit_is_told_from_another_amount(expected: Any, got: str, cause: str) -> None:
    _, measure = task({"type": "fields", "fields": {"n": {"rule": "number"}}})
    found = measure.per_case({"n": got}, {"n": expected}).findings
    assert [one.cause for one in found] == [cause]


@pytest.mark.parametrize(("number", "found"), [(1, 0), (2, 1), (3, 0), (0, 0), ("2", 0)])
def test_a_place_is_in_the_picture_that_the_answer_names_and_in_the_first_where_it_names_none(
    number: Any, found: int
) -> None:
    """The second picture that was sent is the right half of the source, shrunk to 50 x 50; the first is the whole."""
    _, measure = task({"type": "boxes", "place": "/box", "picture": "/picture", "overlap": 0.99})
    whole = {"size": [200, 100], "to_upright": [1, 0, 0, 0, 1, 0], "upright_size": [200, 100]}
    half = {"size": [50, 50], "to_upright": [2, 0, 100, 0, 2, 0], "upright_size": [200, 100]}
    answer = [{"box": [0, 0, 25, 50], "picture": number}]
    expected = [{"box": [100, 0, 150, 100], "picture": 2}]
    assert measure.per_case(answer, expected, AnswerContext(pictures=(whole, half))).value == found


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("The umbrella is blue.", "umbrella is blue"),
        ("A blue umbrella.", "blue umbrella"),
        ("The umbrella is red.", None),
        ("A red umbrella.", None),
    ],
)
def test_another_attribute_of_the_right_thing_is_told_from_a_thing_left_out(text: str, said: str | None) -> None:
    _, measure = task({"type": "facts"}, "text")
    found = measure.per_case(text, {"must": [["red umbrella"]]}).findings
    assert [(str(one.cause), one.got) for one in found] == ([] if said is None else [("wrong attribute", said)])


@pytest.mark.parametrize(
    ("text", "causes"),
    [
        ("Hm.", []),  # too short to tell
        ("There is a bottle on the tray and a paper tag beside it.", []),
        ("Auf dem Tablett liegt eine Flasche, und daneben ein Zettel aus Papier.", ["another language"]),
    ],
)
def test_the_language_is_judged_where_it_can_be_told(text: str, causes: list[str]) -> None:
    _, measure = task({"type": "form", "language": "en"}, "text")
    assert [str(one.cause) for one in measure.per_case(text, None).findings] == causes


def test_a_field_that_must_not_be_there_is_wrong_however_well_it_is_copied() -> None:
    _, measure = task({"type": "fields", "fields": {"a": {"rule": "absent"}}})
    assert [str(one.cause) for one in measure.per_case({"a": "x"}, {"a": "x"}).findings] == ["invented"]
    assert measure.per_case({}, {"a": "x"}).value == 1


@pytest.mark.parametrize(
    ("score", "head", "value"), [("f1", "F1 over fields", 0.5), ("record", "whole records right", 0)]
)
def test_fields_are_scored_each_or_as_whole_records_and_say_which(score: str, head: str, value: float) -> None:
    _, measure = task({"type": "fields", "score": score, "fields": {"a": {"rule": "exact"}, "b": {"rule": "exact"}}})
    assert measure.what == head
    assert measure.combine([measure.per_case({"a": "1", "b": "2"}, {"a": "1", "b": "3"})]) == value


@pytest.mark.parametrize("raw", [[1, 2, 3], [1, 2, 3, 4, 5]])
def test_a_point_is_two_numbers(raw: list[int]) -> None:
    _, measure = task({"type": "points"})
    assert measure.per_case([1, 2], [[1, 2]]).value == 1
    assert str(measure.per_case(raw, [[1, 2]]).findings[-1].cause) == "no place that can be read"


def test_the_structure_of_answers_is_what_most_of_them_share() -> None:
    found = structure_of([{"a": 1}, {"a": None}, {"a": "x", "b": [{}]}])
    assert found is not None
    assert (found.answers, found.same) == (3, pytest.approx(2 / 3))
    assert {one.place: one.answers for one in found.members} == {"": 3, "/a": 3, "/b": 1, "/b/*": 1}
    assert {one.place for one in found.changing} == {"/a", "/b", "/b/*"}
    assert structure_of([]) is None


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("A glove lies in salty air.", ["salty air"]),
        ("Perhaps a glove in salty air.", ["salty air"]),
        ("A glove lies there.", []),
    ],
)
def test_what_a_task_says_no_picture_shows_is_told_where_an_answer_says_it(text: str, said: list[str]) -> None:
    _, measure = task({"type": "facts", "beyond": ["salty air"]}, "text")
    found = measure.per_case(text, {"must": [["glove"]]}).findings
    assert [one.got for one in found if str(one.cause) == "beyond the picture"] == said


def test_a_negation_that_was_misread_says_whether_it_was_lost_or_added() -> None:
    _, measure = task({"type": "text"}, "text")
    lost, added = (measure.per_case(got, wanted).findings for wanted, got in (("not", "note"), ("note", "not")))
    assert [[one.cause for one in found] for found in (lost, added)] == [["negation lost"], ["negation added"]]


def test_a_demand_on_a_part_of_an_answer_looks_at_that_part_alone() -> None:
    _, measure = task({"type": "form", "at": "/note", "words": {"most": 2}})
    found = [
        measure.per_case(one, None).value for one in ({"note": "a cap", "more": "one two three"}, {"note": "a b c"})
    ]
    assert found == [1, 0]


def test_a_judges_number_counts_between_its_bounds_and_not_beyond_them() -> None:
    _, measure = task({"type": "judge", "by": "grades", "least": 1, "most": 5})
    assert isinstance(measure, Judge)
    graded = measure.heard({judged_id("c", str(number)): number for number in (1, 4, 5, 6, 0)}, {})

    def worth(number: int) -> float:
        return graded.per_case("", None, AnswerContext(case="c", arm=str(number))).value

    assert [worth(1), worth(4), worth(5)] == [0, 0.75, 1]
    for beyond in (6, 0):
        with pytest.raises(CannotScore, match="which `worth` does not list"):
            worth(beyond)


@pytest.mark.parametrize(
    ("rule", "said", "wrong"),
    [
        ({"rule": "time"}, "14:05", None),
        ({"rule": "time"}, "noonish", "is not a time of day"),
        ({"rule": "date"}, "2026-03-04", None),
        ({"rule": "date"}, "spring", "is not a whole date"),
        ({"rule": "number"}, 12.5, None),
        ({"rule": "number"}, "twelve and a bit", "is not a number"),
    ],
)
def test_an_expected_value_that_its_rule_cannot_read_is_said_so(
    rule: dict[str, Any], said: Any, wrong: str | None
) -> None:
    _, measure = task({"type": "fields", "fields": {"v": rule}})
    found = measure.check_expected({"v": said})
    assert (found is None) if wrong is None else (found is not None and wrong in found[1] + found[0])


def test_a_measure_is_drafted_for_a_schema_without_members() -> None:
    for schema in (None, {}, {"properties": {}}, {"properties": ["no", "mapping"]}):
        made, _ = task({"type": "fields", "fields": {"v": {"rule": "text"}}})
        assert '[measures.fields.fields]\nNAME = { rule = "text" }' in drafted_measure(replace(made, schema=schema))


def test_kappa_is_a_coefficient_and_a_share_is_none() -> None:
    kinds = {"kappa": True, "accuracy": False, "macro_f1": False}
    table = {"type": "label", "labels": ["a", "b"]}
    assert {kind: task({**table, "score": kind})[1].is_coefficient for kind in kinds} == kinds


TAGS = {
    f"c{number}": {"number": f"SK-{1000 + number}", "vessel": vessel, "day": f"2026-03-{10 + number}"}
    for number, vessel in enumerate(["Tern", "Eider", "Puffin", "Tern"])
}


def causes_of_cases(answers: dict[str, Any]) -> dict[str, list[str]]:
    made, measure = task(
        {"type": "fields", "fields": {name: {"rule": "exact"} for name in ("number", "vessel", "day")}}
    )
    cases = [case(name, expected) for name, expected in TAGS.items()]
    given = {name: (Answer(Status.OK, "bare", json.dumps(one), one),) for name, one in answers.items()}
    score = score_arm(made, "arm", [measure], cases, given).measures[0]
    return {one.case.id: [found.cause for found in one.score.findings] for one in score.scored if one.score}


def test_an_answer_about_another_case_says_which_and_one_that_only_shares_a_value_does_not() -> None:
    mixed_up = {**TAGS, "c0": TAGS["c2"]}
    made, measure = task(
        {"type": "fields", "fields": {name: {"rule": "exact"} for name in ("number", "vessel", "day")}}
    )
    cases = [case(name, expected) for name, expected in TAGS.items()]
    given = {name: (Answer(Status.OK, "bare", json.dumps(one), one),) for name, one in mixed_up.items()}
    scored = {one.case.id: one for one in score_arm(made, "arm", [measure], cases, given).measures[0].scored}
    (found,) = scored["c0"].score.findings  # type: ignore[union-attr]
    assert (found.cause, found.got) == ("another case's content", "what is in case c2")
    assert not scored["c2"].score.findings  # type: ignore[union-attr]
    shared = causes_of_cases({**TAGS, "c1": {"number": "SK-9", "vessel": "Tern", "day": "2026-09-09"}})
    assert set(shared["c1"]) == {"another value"}


@given(st.integers(0, 4), st.integers(0, 4), st.randoms(use_true_random=False))
@settings(max_examples=60, deadline=None)
def test_lists_in_order_are_paired_as_well_as_any_pairing_in_order_could(
    rows: int, columns: int, chance: Any
) -> None:
    alike = np.array([[chance.choice([0.0, 0.3, 0.7, 1.0]) for _ in range(columns)] for _ in range(rows)]).reshape(
        rows, columns
    )

    def best(row: int, column: int) -> float:
        if row == rows or column == columns:
            return 0.0
        return max(alike[row, column] + best(row + 1, column + 1), best(row + 1, column), best(row, column + 1))

    pairs = _in_order(alike)
    assert list(pairs) == sorted(pairs)
    assert list(pairs.values()) == sorted(set(pairs.values()))
    assert sum(alike[row, column] for row, column in pairs.items()) == pytest.approx(best(0, 0))
    assert all(alike[row, column] > 0 for row, column in pairs.items())


@pytest.mark.parametrize(
    ("text", "cause"),
    [
        ("It is a cap, or perhaps a hat.", "several labels"),
        ("It is a hat.", "another label"),
        ("It is something else.", "no label at its place"),
        ("It is a cap.", None),
    ],
)
def test_a_label_that_is_found_in_words_is_wrong_for_its_own_reason(text: str, cause: str | None) -> None:
    _, measure = task({"type": "label", "labels": ["cap", "hat"], "find": "only"}, "text")
    assert [one.cause for one in measure.per_case(text, "cap").findings] == ([] if cause is None else [cause])


def test_a_point_on_another_scale_is_told_and_one_far_off_on_any_is_not() -> None:
    _, measure = task({"type": "points", "at": "", "place": "/point", "within": 5})
    told = AnswerContext(
        pictures=({"size": [1000, 500], "to_upright": [1, 0, 0, 0, 1, 0], "upright_size": [1000, 500]},)
    )

    def cause(point: list[float]) -> list[str]:
        return [one.cause for one in measure.per_case([{"point": point}], [{"point": [200, 400]}], told).findings]

    assert cause([200, 400]) == []
    assert cause([0.2, 0.8]) == ["another scale"]
    assert cause([400, 200]) == ["axes swapped"]
    assert cause([900, 20])[0] not in ("another scale", "axes swapped")
    assert cause([200, 400, 300])[0] not in ("another scale", "axes swapped")


@pytest.mark.parametrize(
    ("form", "axes", "raw"),
    [
        ("corners", "xy", [20, 40, 60, 80]),
        ("size", "xy", [20, 40, 40, 40]),
        ("center", "xy", [40, 60, 40, 40]),
        ("corners", "yx", [40, 20, 80, 60]),
        ("size", "yx", [40, 20, 40, 40]),
        ("center", "yx", [60, 40, 40, 40]),
    ],
)
def test_a_box_is_the_same_however_its_four_numbers_are_told(form: str, axes: str, raw: list[int]) -> None:
    _, measure = task({"type": "boxes", "at": "", "place": "/b", "form": form, "axes": axes, "score": "overlap"})
    assert measure.combine([measure.per_case([{"b": raw}], [{"b": [20, 40, 60, 80]}])]) == pytest.approx(1)


def test_one_value_is_enough_to_be_one_of() -> None:
    _, measure = task({"type": "fields", "fields": {"v": {"rule": "one_of", "values": ["Tern"]}}})
    assert [measure.per_case({"v": said}, {"v": "Tern"}).value for said in ("Tern", "Eider")] == [1, 0]
    _, problems, _ = measures_and_problems({"type": "fields", "fields": {"v": {"rule": "one_of", "values": []}}})
    assert problems


def test_two_regions_of_nothing_do_not_agree() -> None:
    _, measure = task({"type": "regions", "at": "", "place": "/r", "score": "overlap"})
    nothing = {"width": 4, "height": 4, "runs": [16]}
    assert measure.combine([measure.per_case([{"r": nothing}], [{"r": nothing}])]) == 0
    all_of_it = {"width": 4, "height": 4, "runs": [0, 16]}
    assert measure.combine([measure.per_case([{"r": all_of_it}], [{"r": all_of_it}])]) == 1


def test_no_interval_of_a_coefficient_goes_where_the_coefficient_cannot() -> None:
    _, measure = task({"type": "label", "labels": ["a", "b"], "score": "kappa", "ordered": True})
    for name in ("Matthews correlation", "Cohen's kappa", "kappa, linear weights", "kappa, quadratic weights"):
        assert measure.bounds_of(name) == (-1.0, 1.0)
    assert measure.bounds_of("accuracy") == (0.0, 1.0)
    answers = [("a", "b"), ("b", "a")] * 4
    cases = [case(f"c{n}", wanted) for n, (wanted, _) in enumerate(answers)]
    given_ = {f"c{n}": (Answer(Status.OK, "bare", f'"{got}"', got),) for n, (_, got) in enumerate(answers)}
    made, _ = task({"type": "label", "labels": ["a", "b"], "score": "kappa"})
    score = score_arm(made, "arm", [measure], cases, given_).measures[0]
    one = estimate(score)
    assert one.value == -1
    assert -1 <= one.low <= one.high <= 1


@pytest.mark.parametrize(
    ("said", "right"),
    [
        ("14:05", "14:05"), ("2:05 pm", "14:05"), ("2.05 p.m.", "14:05"), ("14h05", "14:05"), ("2:05 am", "02:05"),
        ("12:30 am", "00:30"), ("12:30 pm", "12:30"), ("12 pm", "12:00"), ("14:05:09", "14:05"), ("24:00", None), ("14", None),
    ],
)  # fmt: skip
def test_a_time_of_day_is_the_same_in_every_way_of_writing(said: str, right: str | None) -> None:
    _, measure = task({"type": "fields", "fields": {"t": {"rule": "time"}}})
    hours = [f"{hour:02}:{minute:02}" for hour in range(24) for minute in (0, 5, 30)]
    assert [one for one in hours if measure.per_case({"t": said}, {"t": one}).value] == [
        one for one in (right,) if one
    ]


@pytest.mark.parametrize(
    ("one", "many"),
    [
        ("glove", "gloves"), ("box", "boxes"), ("dish", "dishes"), ("watch", "watches"), ("glass", "glasses"),
        ("photo", "photos"), ("tomato", "tomatoes"), ("berry", "berries"), ("loaf", "loaves"), ("wolf", "wolves"),
        ("knife", "knives"), ("life", "lives"), ("scarf", "scarfs"), ("foot", "feet"), ("child", "children"),
        ("red glove", "red gloves"),
    ],
)  # fmt: skip
def test_a_label_in_the_plural_is_told_as_such_and_not_as_another(one: str, many: str) -> None:
    """Half of all misses of a label are this, and it is the measure that has to be changed, not the prompt."""
    _, measure = task({"type": "label", "at": "/kind", "labels": [one, "umbrella"]})
    assert [str(found.cause) for found in measure.per_case({"kind": many}, one).findings] == ["plural of the label"]
    assert is_plural_of(many, one)
    assert not is_plural_of(one, many)
    assert not is_plural_of(one, one)
    assert not is_plural_of(f"blue {many}", f"old {one}")


def test_an_object_whose_picture_nobody_names_is_in_the_first() -> None:
    _, measure = task({"type": "boxes", "place": "/box", "overlap": 0.99})
    whole = {"size": [200, 100], "to_upright": [1, 0, 0, 0, 1, 0], "upright_size": [200, 100]}
    half = {"size": [50, 50], "to_upright": [2, 0, 100, 0, 2, 0], "upright_size": [200, 100]}
    box = [{"box": [100, 0, 150, 100]}]
    assert measure.per_case(box, box, AnswerContext(pictures=(whole, half))).value == 1


def test_the_table_of_statements_counts_each_kind_as_it_should_be_and_not_so() -> None:
    """One of two required is said, one of two forbidden, one of three allowed; a sailor is beyond the picture."""
    _, measure = task({"type": "facts"}, "text")
    expected = {"must": ["red cap", "tray"], "may": ["dish", "coin", "key"], "must_not": ["umbrella", "phone"]}
    score = measure.per_case("A red cap in a dish, and an umbrella. It belongs to a sailor.", expected)
    (table,) = measure.tables(measure.rows([score]).sum(axis=0))
    assert dict(table.rows) == {
        "required": (1, 1, 0), "forbidden": (1, 1, 0), "allowed": (1, 2, 0), "invented": (0, 0, 0),
        "beyond the picture": (0, 1, 0),
    }  # fmt: skip


def test_what_is_found_where_nothing_is_expected_is_worth_nothing_and_nothing_found_there_all() -> None:
    table = {"type": "boxes", "label": "/label", "confidence": "/sure", "place": "/box", "score": "ap"}
    _, measure = task(table)
    box = {"box": [0, 0, 50, 50], "label": "glove", "sure": 0.9}
    size = AnswerContext(
        pictures=({"size": [100, 100], "to_upright": [1, 0, 0, 0, 1, 0], "upright_size": [100, 100]},)
    )
    assert measure.combine([measure.per_case([box], [], size)]) == 0
    assert measure.combine([measure.per_case([], [], size)]) == 1
    assert measure.combine([measure.per_case([box], [box], size), measure.per_case([box], [], size)]) == 1 / 2


@pytest.mark.parametrize("wrong", [5, [5], ["a text", 5], "", " ", ["a text", " "], [], None])
def test_a_reference_that_is_no_text_is_reported(wrong: Any) -> None:
    _, measure = task({"type": "similarity"}, "text")
    assert measure.check_expected(wrong) is not None
    assert measure.check_expected(["a text", "another"]) is None


def test_whole_records_are_right_or_wrong_and_fields_are_a_share() -> None:
    """It decides which interval is theirs."""
    fields = {"a": {"rule": "exact"}}
    _, records = task({"type": "fields", "score": "record", "fields": fields})
    _, each = task({"type": "fields", "score": "f1", "fields": fields})
    assert (records.binary, each.binary) == (True, False)


def test_words_that_were_dropped_or_added_are_shown_beside_nothing() -> None:
    _, measure = task({"type": "text"}, "text")
    dropped, added = "tag on the left side", "tag on the far left side"
    (found,) = measure.per_case("tag on the side", dropped).findings
    assert (found.expected, found.got) == ("left", "nothing")
    (found,) = measure.per_case(added, dropped).findings
    assert (found.expected, found.got) == ("nothing", "far")


def test_an_answer_in_another_language_is_told_as_that_and_by_no_word_of_it() -> None:
    wanted = "A blue umbrella with a wooden handle lies on the tray beside a paper tag."
    said = "Auf dem Tablett liegt ein blauer Regenschirm mit hölzernem Griff neben einem Zettel."
    owner, measure = task({"type": "similarity"}, "text")
    answer = Answer(Status.OK, "", said, said)
    scored = score_arm(owner, "a", [measure], [case("c", wanted)], {"c": (answer,)}).measures[0].cases[0]
    assert scored.score is not None
    assert {str(one.cause) for one in scored.score.findings} == {"another language"}


def test_a_word_in_capitals_is_counted_at_its_own_place_in_the_line() -> None:
    """Of the words that must be right the third and the fifth are; the fourth is written otherwise."""
    _, measure = task({"type": "text", "must": [], "words": ["keep", "it", "shut"], "score": "must"}, "text")
    score = measure.per_case("please do KEEP it shut", "please do keep it shut")
    assert measure.combine([score]) == pytest.approx(2 / 3)
    score = measure.per_case("please DO keep it shut", "please do keep it shut")
    assert measure.combine([score]) == 1
    score = measure.per_case("please DO KEEP it shut", "please do keep it shut")
    assert measure.combine([score]) == pytest.approx(2 / 3)


def test_answers_without_a_reply_are_counted_repeat_by_repeat() -> None:
    owner, measure = task({"type": "label", "at": "/kind", "labels": ["cap", "hat"]})
    good, failed = Answer(Status.OK, "bare", "{}", {"kind": "cap"}), Answer(Status.FAILED)
    answers = {"a": (good, failed, failed), "b": (failed,), "c": (good,), "d": (None,)}
    scored = score_arm(owner, "x", [measure], [case(name, {"kind": "cap"}) for name in "abcd"], answers).measures[0]
    assert {one.case.id: one.failed_answers for one in scored.cases} == {"a": 2, "b": 1, "c": 0, "d": 0}
    assert scored.failed == 1
    both = (good, Answer(Status.OK, "bare", "another", {"kind": "hat"}))
    (first,) = score_arm(owner, "x", [measure], [case("a", {"kind": "cap"})], {"a": both}).measures[0].cases
    assert (first.answer, first.score and first.score.value) == (good, 0.5), "what is shown is the first of them"


def test_average_precision_is_at_one_half_or_over_all_ten_overlaps() -> None:
    """A find that overlaps by 0.6 is right at the overlaps 0.5, 0.55 and 0.6, and at no other of the ten."""
    size = AnswerContext(
        pictures=({"size": [100, 100], "to_upright": [1, 0, 0, 0, 1, 0], "upright_size": [100, 100]},)
    )
    for score, overlap, value in (
        ("ap50", 60, 1.0), ("ap", 60, 0.3), ("ap50", 52, 1.0), ("ap", 52, 0.1), ("ap50", 48, 0.0), ("ap", 100, 1.0),
    ):  # fmt: skip
        _, measure = task({"type": "boxes", "place": "/box", "score": score})
        found, wanted = [{"box": [0, 0, 100, overlap]}], [{"box": [0, 0, 100, 100]}]
        assert measure.combine([measure.per_case(found, wanted, size)]) == pytest.approx(value), (score, overlap)


@pytest.mark.parametrize(
    ("box", "label", "cause"),
    [
        ([0, 0, 50, 50], "hat", "wrong label"),
        ([40, 40, 90, 90], "cap", "place too far off"),
        ([40, 40, 90, 90], "hat", "not found"),
        ([60, 60, 90, 90], "cap", "not found"),
    ],
)
def test_a_thing_that_was_not_found_is_told_by_what_was_found_in_its_stead(
    box: list[int], label: str, cause: str
) -> None:
    _, measure = task({"type": "boxes", "place": "/box", "label": "/label"})
    size = AnswerContext(
        pictures=({"size": [100, 100], "to_upright": [1, 0, 0, 0, 1, 0], "upright_size": [100, 100]},)
    )
    wanted = [{"box": [0, 0, 50, 50], "label": "cap"}]
    assert str(measure.per_case([{"box": box, "label": label}], wanted, size).findings[0].cause) == cause


@pytest.mark.parametrize(
    ("text", "bare"),
    [
        ('"a"', "a"), ("“a b”", "a b"), ("« a »", "a"), ("'\"a\"'", "a"), ('""', ""), ('"', '"'), ('"a', '"a'),
        ('"a" and "b"', '"a" and "b"'), ("„a“", "a"), ("‹a›", "a"),
    ],
)  # fmt: skip
def test_quotes_around_the_whole_are_no_part_of_a_text(text: str, bare: str) -> None:
    assert without_quotes(text) == bare


def test_answers_off_the_schema_are_read_beside_those_that_fit_repeat_by_repeat() -> None:
    owner, measure = task({"type": "label", "at": "/kind", "labels": ["cap", "hat"]})
    right, wrong = {"kind": "cap"}, {"kind": "hat"}
    off, good = Answer(Status.OFF_SCHEMA, "bare", "{}", right), Answer(Status.OK, "bare", "{ }", right)
    bad = Answer(Status.OK, "bare", "{  }", wrong)
    answers = {"a": (off, good), "b": (off, bad), "c": (good, good)}
    scored = score_arm(owner, "x", [measure], [case(name, right) for name in "abc"], answers).measures[0]
    assert [one.score.value for one in scored.cases if one.score] == [0.5, 0, 1]
    assert [one.score.value for one in scored.as_read if one.score] == [1, 0.5, 1]


def test_a_wrong_expected_output_within_a_list_names_its_place() -> None:
    day = {"rule": "list", "item": {"rule": "date"}}
    record = {"rule": "record", "fields": {"day": {"rule": "date"}}}
    _, measure = task({"type": "fields", "fields": {"days": day, "trip": record}})
    told = measure.check_expected({"days": ["2026-03-01", "2026-13-45"], "trip": {"day": "2026-03-01"}})
    assert told is not None
    assert "/days/1" in " ".join(told)
    assert "'days'" in " ".join(told)
    told = measure.check_expected({"days": [], "trip": {"day": "soon"}})
    assert told is not None
    assert "/trip/day" in " ".join(told)


@pytest.mark.parametrize(
    ("expected", "got"),
    [
        ("2.5 km", "2500 m"), ("30 cm", "300 mm"), ("4 dm", "0.4 m"), ("12 in", "30.48 cm"), ("3 ft", "36 inches"),
        ("2 kg", "2000 g"), ("5 g", "5000 mg"), ("1.5 t", "1500 kg"), ("2 lb", "32 oz"), ("1 lb", "453.59237 g"),
        ("75 cl", "750 ml"), ("2 l", "20 dl"), ("90 s", "1.5 min"), ("2 h", "120 min"), ("1 d", "24 h"),
        ("1 s", "1000 ms"), ("3 kw", "3000 w"), ("2 kwh", "2000 wh"), ("3 mb", "3000 kb"), ("2 gb", "2000 mb"),
        ("1 kb", "1000 b"), ("3 m²", "30000 cm²"), ("1 km²", "1000000 m²"),
    ],
)  # fmt: skip
def test_an_amount_is_the_same_in_another_unit_of_its_kind_and_in_none_of_another(expected: str, got: str) -> None:
    """By the definitions of the SI, the international foot and pound, and bytes by thousands."""
    size, unit = expected.split()
    _, measure = task({"type": "fields", "fields": {"n": {"rule": "number", "unit": unit, "share": 1e-6}}})
    wanted = {"n": float(size)}
    assert measure.per_case({"n": got}, wanted).value == 1
    number, other = got.split()
    assert measure.per_case({"n": f"{float(number) * 1.1:.6f} {other}"}, wanted).value == 0
    assert measure.per_case({"n": f"{number} {'kg' if unit in ('s', 'h', 'd') else 'min'}"}, wanted).value == 0


@given(st.lists(st.floats(-50, 50, allow_nan=False), min_size=6, max_size=6), st.floats(-99, 99), st.floats(-99, 99))
@settings(max_examples=50, deadline=None, derandomize=True)
def test_a_map_and_its_inverse_lead_back(numbers: list[float], x: float, y: float) -> None:
    one = Map(*numbers)
    if abs(one.a * one.e - one.b * one.d) < 1e-2:
        return
    assert inverse(one).point(*one.point(x, y)) == pytest.approx((x, y), abs=1e-4)


@pytest.mark.parametrize(
    ("text", "got"),
    [
        ("There are three gloves.", "three gloves"),
        ("A pair of gloves.", "of gloves"),
        ("I see a big glove.", "big glove"),
    ],
)
def test_another_count_is_shown_with_the_word_before_the_thing(text: str, got: str) -> None:
    _, measure = task({"type": "facts"}, "text")
    (found,) = measure.per_case(text, {"must": [["four gloves"]]}).findings
    assert (str(found.cause), found.got) == ("wrong count", got)
