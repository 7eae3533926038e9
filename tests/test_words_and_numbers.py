"""What words, numbers, places and labels are taken for: the tables that measures and causes rest on, by hand."""

from __future__ import annotations

from typing import Any

import pytest
from test_scoring import case, measures_and_problems, task

from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.tasks import judged_id
from drovik.scoring.agreement import agreement_of_answers
from drovik.scoring.arm_scores import score_arm
from drovik.scoring.causes.text_causes import word_cause
from drovik.scoring.json_pointer import ABSENT, is_absent, shown, structure_of, value_at_pointer
from drovik.scoring.language import english
from drovik.scoring.measures.confidence import BINS, threshold
from drovik.scoring.measures.judge import Judge
from drovik.scoring.measures.outlines import shapes_of
from drovik.scoring.measures.regions import Region
from drovik.scoring.measures.similarity import rouge_l, run_counts, token_f1
from drovik.scoring.mentions import ParsedText, statement_of
from drovik.scoring.rules.quantities import (
    Amount,
    Number,
    close,
    currency_of,
    numerals,
    one_numeral,
    plain_number,
    readings,
    unit_of,
)
from drovik.scoring.rules.rule import same_json
from drovik.scoring.rules.text_rules import PostalAddress


@pytest.mark.parametrize(
    ("text", "decimal", "numbers"),
    [
        ("1234", None, [1234]), ("1,5", None, [1.5]), ("1.5", None, [1.5]), ("1.234", None, [1.234, 1234]),
        ("1,234", None, [1234, 1.234]), ("123,456", None, [123456, 123.456]), ("1,234", ",", [1.234]), ("1,234", ".", [1234]), ("0.234", None, [0.234]),
        ("1234.567", None, [1234.567]), ("1.234,56", None, [1234.56]), ("1,234.56", None, [1234.56]),
        ("1.234.567", None, [1234567]), ("1 234 567", None, [1234567]), ("1'234.5", None, [1234.5]), ("-5", None, [-5]),
        ("\u22125", None, [-5]), ("+ 5", None, [5]), ("1e3", None, [1000]), ("2.5e-1", None, [0.25]), ("5.", None, [5]),
        ("1.2,3.4", None, []), ("1e999", None, []), ("five", None, []), ("", None, []), ("1234 567", None, []),
        ("12 34 567", None, [1234567]), ("12 34 56", None, []), ("123 45 678", None, []), ("12 345", None, [12345]), ("1,2.3,4", None, []),
    ],
)  # fmt: skip
def test_a_numeral_is_every_number_that_it_may_stand_for(
    text: str, decimal: str | None, numbers: list[float]
) -> None:
    assert readings(text, decimal) == numbers


def test_numerals_are_found_with_the_words_around_them() -> None:
    assert numerals("Fee 20.50 EUR, or 3") == [(" 20.50", 3, 9), (" 3", 17, 19)]
    assert one_numeral("Fee: 20.50 EUR") == ([20.5], "fee: eur")
    assert one_numeral("1 or 2") == ([], "")
    assert one_numeral(7) == ([7.0], "")
    assert one_numeral(True) == ([], "")
    assert one_numeral("7" + " " * 198 + "x") == ([7.0], "x")
    assert one_numeral("7" + " " * 199 + "x") == ([], "")
    assert [plain_number(one) for one in (1, "1.5", True, "x", None, "inf", 10**400, [1])] == [
        1.0, 1.5, None, None, None, None, None, None,
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("words", "code", "unit"),
    [
        ("eur", "EUR", None), ("€", "EUR", None), ("(usd)", "USD", None), ("us$", "USD", None), ("fr.", "CHF", None),
        ("euros", "EUR", None), ("kg", None, "kg"), ("kg,", None, "kg"), ("fee: m", "FEE", "m"), ("fee eur", "EUR", None), ("fee: 3 usd", "USD", None), ("", None, None),
        ("m²", None, "m²"), ("some words", None, None), ("price, gbp", "GBP", None),
    ],
)  # fmt: skip
def test_words_beside_a_number_name_a_currency_or_a_unit(words: str, code: str | None, unit: str | None) -> None:
    assert currency_of(words) == code
    assert unit_of(words) == unit


def test_a_bound_is_within_its_tolerance() -> None:
    assert [close(10.5, 10, 0.5), close(10.51, 10, 0.5), close(9.5, 10, 0.5), close(11, 10, 0, 0.1)] == [1, 0, 1, 1]
    assert not close(11.01, 10, 0, 0.1)
    assert close(-11, -10, 0, 0.1)
    assert close(0.1 + 0.2, 0.3)
    rule = Number(tolerance=0.5, unit="cm")
    assert [rule.same(12, said) for said in ("120 mm", "12 cm", "0.12 m", "12", "12 kg", "12.6 cm", 12.5)] == [
        True, True, True, True, False, False, True,
    ]  # fmt: skip
    assert rule.check_expected("a dozen") == "is not a number"
    assert (
        Number(unit="stone").check_expected("5 stone") == "cannot be compared in 'stone', which is not a known unit"
    )
    amount = Amount(currency="EUR")
    assert [amount.same("14.50", said) for said in ("14,50 EUR", "14.50 USD", "14.51", "14.504", "none")] == [
        True, False, False, True, False,
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("expected", "got", "outcome"),
    [
        ("Harbour Street 14, 2100 Skerry", "2100 Skerry, 14 Harbour St.", "correct"),
        ("Harbour Street 14", "Harbour Street 15", "wrong"), ("Harbour Street 14", "Harbour Street", "wrong"),
        ("Old Harbour Street 14", "Harbour Street 14", "near"), ("Old Harbour Street 14", "Harbour 14", "wrong"),
        ("Hafenstr. 3", "Hafen Street 3", "correct"), ("Harbour Street 14", 14, "wrong"),
    ],
)  # fmt: skip
def test_an_address_is_its_parts_in_any_order(expected: str, got: Any, outcome: str) -> None:
    rule = PostalAddress()
    assert rule.outcome(expected, got) == outcome
    assert rule.same(expected, got) == (outcome != "wrong")
    assert rule.check_expected(expected) is None
    assert rule.check_expected("") == rule.check_expected(5) == "is not an address"


@pytest.mark.parametrize(
    ("one", "other", "are"),
    [
        ("open", "closed", True), ("closed", "open", True), ("opened", "closed", True), ("safe", "unsafe", True),
        ("visible", "invisible", True), ("able", "unable", True), ("to", "into", False), ("red", "blue", False),
        ("open", "open", False), ("smoker", "non-smoker", True), ("lost", "found", True), ("age", "mileage", False),
    ],
)  # fmt: skip
def test_opposites_are_known_by_a_list_and_by_what_is_before_them(one: str, other: str, are: bool) -> None:
    assert english.is_opposite(one, other) == are
    assert english.is_opposite(other, one) == are


def spans(text: str, found: list[bool]) -> str:
    return " ".join(word for word, is_one in zip(text.split(), found, strict=True) if is_one)


@pytest.mark.parametrize(
    ("text", "denied", "hedged"),
    [
        ("there is no hat and umbrella", "no hat and umbrella", ""), ("no hat and an umbrella", "no hat", ""),
        ("no hat and 2 keys", "no hat", ""), ("not only a hat", "", ""), ("a hat rather than a cap", "than a cap", ""),
        ("a cap instead of a hat", "of a hat", ""), ("it isn't red but blue", "isn't red", ""), ("no hat or cap", "no hat or cap", ""),
        ("perhaps a red cap", "", "perhaps a red cap"), ("perhaps a cap and a hat", "", "perhaps a cap"),
        ("a key perhaps", "", "a key perhaps"), ("it looks like a cap", "", "looks like a cap"), ("it seems to be red", "", "seems to be red"),
        ("it looks as if on fire", "", "as if"), ("a cap", "", ""),
    ],
)  # fmt: skip
def test_how_far_a_denial_and_a_doubt_reach(text: str, denied: str, hedged: str) -> None:
    assert spans(text, english.denied(text.split())) == denied
    assert spans(text, english.hedged(text.split())) == hedged


def test_texts_are_cut_into_sentences_clauses_and_words() -> None:
    assert english.sentences("One. Two!  Three?\nFour 1.5 m") == ["One.", "Two!", "Three?", "Four 1.5 m"]
    assert english.clauses("A red cap, (old); it’s here – now\nEnd.") == [
        ["a", "red", "cap"],
        ["old"],
        ["it's", "here"],
        ["now"],
        ["end"],
    ]
    assert english.words_of("A CAP, it’s") == [("a", 0), ("cap", 2), ("it's", 7)]
    assert [english.singular(one) for one in ("red gloves", "boxes", "glass", "bus", "berries", "feet", "gas", "shoes", "dishes")] == [
        "red glove", "box", "glass", "bus", "berry", "foot", "gas", "shoe", "dish",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("wanted", "got", "cause"),
    [
        ("not", "now", "negation lost"), ("now", "not", "negation added"), ("open", "closed", "opposite word"),
        ("Open.", "closed", "opposite word"), ("Do", "do", "letter case, spaces or accents"), ("tag", "bag", "other words"),
        ("58", "S8", "glyphs misread"), ("12.5", "125", "off by a power of ten"), ("open,", "open", "cut short"), ("open", "open,", "letter case, spaces or accents"),
        ("No.", "no", "negation added"),
    ],
)  # fmt: skip
def test_a_word_that_was_read_as_another_has_its_cause(wanted: str, got: str, cause: str) -> None:
    assert str(word_cause(wanted, got)) == cause


def test_a_capital_that_a_dropped_word_brings_about_is_no_miss_of_its_own() -> None:
    _, measure = task({"type": "text"}, "text")
    found = measure.per_case("Open the lid", "Please open the lid").findings
    assert [str(one.cause) for one in found] == ["words dropped"]
    found = measure.per_case("please Open the lid", "please open the lid").findings
    assert [str(one.cause) for one in found] == ["letter case, spaces or accents"]


def answers(*texts: str, values: list[Any] | None = None) -> list[Answer]:
    return [Answer(Status.OK, "", text, None if values is None else values[n]) for n, text in enumerate(texts)]


@pytest.mark.parametrize(
    ("given", "share", "by", "first"),
    [
        (answers("Yes, it is.", "yes", "No."), 1 / 3, "yes or no", ("yes", 2)),
        (answers("cap", "Cap.", "hat"), 1 / 3, "label", ("cap", 2)), (answers("red cap", "Red cap"), 1, "label", ("red cap", 2)), (answers("a red cap", "a red cap"), 1, "words", ("a red cap", 2)),
        (answers("A cap lies here.", "A cap lies there."), 3 / 4, "words", ("A cap lies here.", 1)),
        (answers("{}", "{}", values=[{"a": 1, "b": 2}, {"a": 1, "b": 3}]), 1 / 2, "fields", ('{"a":1,"b":2}', 1)),
        (answers("[]", "[]", values=[[1], [1]]), 1, "fields", ("[1]", 2)), (answers("{}", "{}", values=[{}, {}]), 1, "fields", ("{}", 2)),
        (answers("Yes", "cap"), 0, "label", ("yes", 1)), (answers("Yes, it is.", "No"), 0, "yes or no", ("yes", 1)),
        (answers("[]", "[]", values=[[1], [2]]), 0, "fields", ("[1]", 1)),
        (answers("{}", "{}", values=[{"a": 1}, {"a": 2}]), 0, "fields", ('{"a":1}', 1)),
    ],
)  # fmt: skip
def test_answers_agree_as_what_they_are(given: list[Answer], share: float, by: str, first: tuple[str, int]) -> None:
    found = agreement_of_answers(given)
    assert (found.share, found.by, found.counts[0]) == (pytest.approx(share), by, first)


def test_agreement_is_that_of_repeats_and_there_is_none_without() -> None:
    owner, measure = task({"type": "label", "at": "/k", "labels": ["cap", "hat"]})
    cap, hat = (Answer(Status.OK, "bare", f'{{"k": "{one}"}}', {"k": one}) for one in ("cap", "hat"))
    cases = [case("a", {"k": "cap"}), case("b", {"k": "cap"})]
    one = score_arm(owner, "x", [measure], cases, {"a": (cap,), "b": (hat,)})
    assert (one.agreement, one.repeats) == (None, 1)
    two = score_arm(owner, "x", [measure], cases, {"a": (cap, cap), "b": (cap, hat)})
    assert (two.agreement, two.repeats) == (0.5, 2)
    assert two.measures[0].value == pytest.approx(3 / 4)
    lost = score_arm(owner, "x", [measure], cases, {"a": (cap, Answer(Status.FAILED)), "b": (cap, cap)})
    assert lost.agreement == 0.5, "what failed agrees with nothing"


def test_a_place_in_an_answer_is_what_the_pointer_says_and_nothing_else() -> None:
    tree = {"a": [{"b": 1}, None], "a/b": 2, "": 3, "m~n": 4}
    found = {
        one: value_at_pointer(tree, one)
        for one in ("/a/0/b", "/a/1", "/a~1b", "/", "/m~0n", "", "/a/00", "/a/-", "/a/2", "/a/0/b/c", "/x")
    }
    assert found == {
        "/a/0/b": 1, "/a/1": None, "/a~1b": 2, "/": 3, "/m~0n": 4, "": tree, "/a/00": ABSENT, "/a/-": ABSENT, "/a/2": ABSENT,
        "/a/0/b/c": ABSENT, "/x": ABSENT,
    }  # fmt: skip
    assert [is_absent(one) for one in (ABSENT, None, 0, "", [])] == [True, True, False, False, False]
    assert [shown(one) for one in (None, ABSENT, "é", {"a": 1})] == ["nothing", "nothing", '"é"', '{"a": 1}']
    deep = structure_of([{"a": {"b": {"c": {"d": {"e": {"f": {"g": 1}}}}}}}])
    assert deep is not None
    assert max(one.place.count("/") for one in deep.members) == 6
    assert structure_of([]) is None


def test_what_texts_have_in_common_is_counted() -> None:
    assert [token_f1([], []), token_f1(["a"], []), token_f1(["a", "a"], ["a", "b"])] == [1, 0, 0.5]
    assert [rouge_l([], []), rouge_l(["a"], []), rouge_l(["a", "b", "c"], ["c", "a", "b"])] == [
        1,
        0,
        pytest.approx(2 / 3),
    ]
    assert run_counts("ab c", "abc")[:9] == (3, 3, 3, 2, 2, 2, 1, 1, 1)
    assert run_counts("", "a")[:6] == (0, 0, 1, 0, 0, 0)
    _, measure = task({"type": "similarity", "score": "chrf"}, "text")
    assert [measure.combine([measure.per_case(got, "ab")]) for got in ("ab", "a", "", "ba")] == pytest.approx(
        [1, 5 * 1 * 0.5 / (4 * 1 + 0.5), 0, 5 * 0.5 * 0.5 / (4 * 0.5 + 0.5)]
    )


@pytest.mark.parametrize(
    ("expected", "is_right"),
    [(["key", "2 gloves"], True), ({"glove": 2}, True), ([{"item": "glove", "count": 2}], True), ([], True), ({}, True),
     ("key", False), (5, False), (None, False), ([5], False), ({"glove": "two"}, False)],
)  # fmt: skip
def test_items_are_written_in_three_ways_and_in_no_other(expected: Any, is_right: bool) -> None:
    _, measure = task({"type": "items", "counts": True, "name": "item", "count": "count"})
    assert (measure.check_expected(expected) is None) == is_right


def test_a_place_is_drawn_as_the_box_point_or_outline_that_it_is() -> None:
    assert [(one.kind, one.corners) for one in shapes_of((1.0, 2.0, 3.0, 4.0))] == [("box", ((1.0, 2.0), (3.0, 4.0)))]
    assert [(one.kind, one.corners) for one in shapes_of(((1.0, 2.0),))] == [("point", ((1.0, 2.0),))]
    assert [one.kind for one in shapes_of(((1.0, 2.0), (3.0, 4.0)))] == ["box"]
    corners = ((0.0, 0.0), (4.0, 0.0), (4.0, 4.0))
    assert [(one.kind, one.corners) for one in shapes_of(Region(corners))] == [("outline", corners)]


@pytest.mark.parametrize(
    ("got", "counts", "causes"),
    [
        (["cap", "hat"], (2, 0, 0), []), (["cap"], (1, 0, 1), ["label left out"]), ("cap", (1, 0, 1), ["label left out"]),
        (["cap", "hat", "key"], (2, 1, 0), ["label too many"]), (["caps", "hat"], (1, 0, 1), ["plural of the label"]),
        (["zebra", "cap", "hat"], (2, 0, 0), ["outside the list"]), ([], (0, 0, 2), ["label left out"] * 2), (None, (0, 0, 2), ["label left out"] * 2),
        (["cap", "cap", "hat"], (2, 0, 0), []),
    ],
)  # fmt: skip
def test_a_set_of_labels_is_met_label_by_label(got: Any, counts: tuple[int, ...], causes: list[str]) -> None:
    table = {"type": "label", "at": "/k", "labels": ["cap", "hat", "key"], "many": True, "fold_plural": False}
    _, measure = task(table)
    score = measure.per_case({"k": got}, ["cap", "hat"])
    totals = measure.rows([score]).sum(axis=0)
    (each,) = measure.tables(totals)
    assert tuple(sum(row[n] for _, row in each.rows) for n in range(3)) == counts
    assert [str(one.cause) for one in score.findings] == causes
    right, extra, left = counts
    outside = causes.count("outside the list") + causes.count("plural of the label")
    figures = measure.figures(totals)
    assert figures["precision"] == pytest.approx(right / (right + extra + outside) if right + extra + outside else 1)
    assert figures["recall"] == pytest.approx(right / 2)
    assert figures["exact matches"] == (causes == [])
    assert figures["overlap of sets"] == pytest.approx(right / (right + extra + left + outside))
    whole = measure.without(score, ["cap", "hat"], set(causes))
    assert whole == measure.best(["cap", "hat"])


def test_the_least_confidence_that_is_right_often_enough() -> None:
    import numpy as np

    totals = np.zeros(2 + 2 * BINS + 10)
    for confidence, right in ((0.9, 1), (0.9, 1), (0.7, 1), (0.7, 0), (0.3, 0)):
        totals[0] += 1
        totals[2 + round(confidence * BINS)] += 1
        totals[2 + BINS + round(confidence * BINS)] += right
    assert threshold(totals, 1.0) == (0.71, pytest.approx(2 / 5), 1.0)
    assert threshold(totals, 0.75) == (0.31, pytest.approx(4 / 5), 0.75)
    assert threshold(totals, 0.6) == (0.0, 1.0, 0.6)
    assert threshold(totals * 0, 0.6) is None


@pytest.mark.parametrize(
    ("amount", "same", "other"),
    [
        ("60 sec", "1 min", "1 s"), ("2 inch", "5.08 cm", "2 m"), ("2 inches", "2 in", "2 ft"), ("50 %", "50 %", "50 cm"),
        ("1 w", "0.001 kw", "1 wh"), ("1 m2", "10000 cm²", "1 m"), ("1 oz", "28.349523125 g", "1 g"), ("3 ms", "0.003 s", "3 m"),
        ("5 dl", "500 ml", "5 l"), ("1 b", "0.001 kb", "1 mb"),
    ],
)  # fmt: skip
def test_amounts_are_the_same_by_the_definitions_of_their_units(amount: str, same: str, other: str) -> None:
    size, unit = amount.split()
    rule = Number(unit=unit, share=1e-9)
    assert rule.same(float(size), same)
    assert not rule.same(float(size), other)


@pytest.mark.parametrize(
    ("verdict", "worth"),
    [("yes", 1), ("TRUE", 1), ("right", 1), ("partly", 0.5), ("same", 0.5), ("no", 0), ("false", 0), ("wrong", 0), (True, 1), (False, 0),
     (0.25, 0.25), (2, None), ("hm", None), (None, None)],
)  # fmt: skip
def test_a_judges_verdict_is_worth_what_its_word_says(verdict: Any, worth: float | None) -> None:
    owner, measure = task({"type": "judge", "by": "judging"}, "text")
    assert isinstance(measure, Judge)
    one = case("c", None)
    heard = measure.heard({judged_id("c", "arm"): verdict}, {})
    scored = score_arm(owner, "arm", [heard], [one], {"c": (Answer(Status.OK, "", "x", "x"),)})
    values = [one.score.value for measured in scored.measures for one in measured.cases if one.score]
    assert values == ([] if worth is None else [worth])
    assert [measured.value for measured in scored.measures] == values, "of one case it is what that case is"


def test_what_is_written_wrong_in_a_measure_or_beside_it_is_reported() -> None:
    _, problems, _ = measures_and_problems({"type": "lable"})
    assert "there is no measure of type 'lable'" in problems[0].what
    _, label = task({"type": "label", "labels": ["cap", "hat"]})
    assert label.check_expected("cap") is None
    assert "'zebra' is not a label of the task" in str(label.check_expected("zebra"))
    _, facts = task({"type": "facts"}, "text")
    for wrong in ({"must": ["..."]}, {"must": ["cap", 5]}, {"must": [[]]}, {"must": "cap"}, {"order": ["a", "b"]}):
        assert facts.check_expected(wrong) is not None, wrong
    assert facts.check_expected({"must": [["cap", "hat"], {"order": ["open", "shut"]}]}) is None


def test_nothing_of_an_item_is_no_item_and_less_than_that_no_list() -> None:
    _, measure = task({"type": "items", "counts": True, "name": "item", "count": "count"})
    nothing = measure.per_case([{"item": "glove", "count": 0}, {"item": "key"}], {"key": 1})
    assert (nothing.value, nothing.findings) == (1, ())
    assert measure.per_case([{"item": "glove", "count": -1}, {"item": "key"}], {"key": 1}).value == 0
    assert measure.per_case(["3x key", "two gloves", "- map"], {"key": 3, "glove": 2, "map": 1}).value == 1


def test_a_mask_that_is_a_line_of_cells_overlaps_as_far_as_they_do() -> None:
    _, measure = task({"type": "regions", "at": "", "place": "/r", "score": "overlap"})
    line = {"width": 8, "height": 1, "runs": [0, 4, 4]}
    longer = {"width": 8, "height": 1, "runs": [0, 6, 2]}
    assert measure.combine([measure.per_case([{"r": line}], [{"r": longer}])]) == pytest.approx(4 / 6, abs=0.02)


def test_a_number_alone_is_a_word_and_before_a_thing_its_count() -> None:
    assert statement_of("two").phrases[0].count is None
    assert statement_of("two of them").phrases[0].count == 2
    assert statement_of("a pair of gloves").phrases[0].count == 2
    assert statement_of("a pair").phrases[0].count is None


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("the umbrella is really bright red", "met"), ("the umbrella is really bright deep red", "other attribute"),
        ("a red big folding umbrella", "met"), ("a red big wet folding umbrella", "other attribute"), ("the umbrella there is red", "met"),
        ("the umbrella over there is red", None), ("the umbrella is new and red", "other attribute"), ("red", None),
    ],
)  # fmt: skip
def test_a_thing_has_its_attribute_where_at_most_two_words_are_between(text: str, kind: str | None) -> None:
    found = ParsedText(text).best(statement_of("red umbrella"))
    assert (found.kind if found is not None else None) == kind


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("The door opens, then it closes, then the door opens again.", "met"), ("The door opens. A man closes it. The door opens.", "met"),
        ("The door opens.", None), ("The door opens and a man closes it.", "other order"),
        ("A man closes it, and the door opens.", "other order"), ("A man sits.", None),
    ],
)  # fmt: skip
def test_an_event_that_comes_twice_has_to_be_said_twice(text: str, kind: str | None) -> None:
    order = statement_of({"order": ["door opens", "closes", "door opens"]})
    found = ParsedText(text).best(order)
    assert (found.kind if found is not None else None) == kind
    twice = ParsedText("The door opens.").best(statement_of({"order": ["door opens", "door opens"]}))
    assert twice is not None
    assert twice.kind == "other order"
    once = ParsedText("It closes, the door opens, and it closes.").best(
        statement_of({"order": ["door opens", "closes"]})
    )
    assert once is not None
    assert once.kind == "met"


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        ([1, 2], [1, 2], True), ([1, 2], [1], False), ([], [1], False), ([1, 2], [2, 1], False), ([True], [1], False),
        ({"a": [0]}, {"a": [False]}, False), ({"a": 1}, {"a": 1, "b": 2}, False), ({"a": 1, "b": 2}, {"b": 2, "a": 1.0}, True),
        (None, None, True), (None, 0, False), (False, False, True), ("1", 1, False),
    ],
)  # fmt: skip
def test_json_is_the_same_where_all_of_it_is(one: Any, other: Any, same: bool) -> None:
    assert same_json(one, other) is same


@pytest.mark.parametrize(("depth", "value"), [(12, 1.0), (13, 0.0)])
def test_a_formula_of_brackets_within_brackets_is_read_as_far_as_an_end_is_sure(depth: int, value: float) -> None:
    _, measure = task({"type": "fields", "fields": {"f": {"rule": "formula"}}})
    side_by_side = "+".join(["(1)"] * 20)
    assert measure.per_case({"f": side_by_side}, {"f": "20"}).value == 1, (
        "brackets that are closed again are not deep"
    )
    assert measure.per_case({"f": "(" * depth + "7" + ")" * depth}, {"f": "7"}).value == value


@pytest.mark.parametrize("answer", [["x"], "x", None, 3])
def test_an_answer_that_is_no_object_has_none_of_the_fields(answer: Any) -> None:
    _, measure = task({"type": "fields", "fields": {"a": {"rule": "exact"}}})
    missed = measure.per_case(answer, {"a": "x"})
    assert (missed.value, [(one.where, one.cause) for one in missed.findings]) == (0, [("/a", "missing")])


@pytest.mark.parametrize(("worth", "said"), [(0.5, []), (0, []), (1, []), (1.01, ["worth"]), (-0.1, ["worth"])])
def test_a_judges_word_is_worth_from_nothing_to_all(worth: float, said: list[str]) -> None:
    _, problems, _ = measures_and_problems({"type": "judge", "by": "j", "worth": {"so so": worth}})
    assert [one.place.rpartition(".")[2] for one in problems] == said
