"""Finding the answer in a model's text, and the status it gets."""

from __future__ import annotations

import json
import sys
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drovik.parsing import find_json as find_json_module
from drovik.parsing.answer_text import Reader
from drovik.parsing.find_json import MAX_DEPTH, find_in_long, find_json

SCHEMA = {
    "type": "object",
    "properties": {"kind": {"enum": ["cap", "hat"]}, "note": {"type": "string"}},
    "required": ["kind"],
    "additionalProperties": False,
}
CAP = {"kind": "cap"}
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
    max_leaves=12,
)
CONTAINERS = st.dictionaries(st.text(), VALUES, min_size=1, max_size=4) | st.lists(VALUES, min_size=1, max_size=4)


@pytest.mark.parametrize(
    ("text", "status", "how", "value"),
    [
        ('{"kind": "cap"}', "ok", "bare", CAP),
        ('  \n{"kind": "cap"}\n', "ok", "bare", CAP),
        ('Sure!\n```json\n{"kind": "cap"}\n```\nAnything else?', "ok", "fenced", CAP),
        ('```\n{"kind": "cap"}\n```', "ok", "fenced", CAP),
        ('It is {"kind": "cap"}, I think.', "ok", "in_prose", CAP),
        ('Use {this} or {"kind": "cap"} or {that}.', "ok", "in_prose", CAP),
        ('Not {"kind": "sock"} but {"kind": "cap"}.', "ok", "in_prose", CAP),
        ('First {"kind": "hat"}, no: {"kind": "cap"}', "ok", "in_prose", CAP),
        ('{"a": 1} {"b": [1, 2, 3, 4]}', "off_schema", "in_prose", {"b": [1, 2, 3, 4]}),
        (
            '{"kind": "cap", "note": "a { in } a [string] \\" {"}',
            "ok",
            "bare",
            {"kind": "cap", "note": 'a { in } a [string] " {'},
        ),
        ('So: {"kind": "cap", "note": "}{"} done', "ok", "in_prose", {"kind": "cap", "note": "}{"}),
        ('{"oops} then {"kind": "cap"}', "ok", "in_prose", CAP),
        ('{"answer": {"kind": "cap"}', "ok", "in_prose", CAP),
        ("{'kind': 'cap'}", "ok", "repaired", CAP),
        ('{"kind": "cap",}', "ok", "repaired", CAP),
        ('{kind: "cap"}', "ok", "repaired", CAP),
        ('{"kind": "cap" // a peak\n}', "ok", "repaired", CAP),
        ("{\u201ckind\u201d: \u201ccap\u201d}", "ok", "repaired", CAP),
        ('{"kind": "cap"', "ok", "repaired", CAP),
        ('{"kind": "caps"}', "off_schema", "bare", {"kind": "caps"}),
        ("A red cap.", "not_json", "", None),
        ("{ nothing here ]", "not_json", "", None),
        ("", "empty", "", None),
        (" \n\t", "empty", "", None),
    ],
)
def test_answers_are_found_wherever_they_stand(text: str, status: str, how: str, value: object) -> None:
    found = Reader("json", SCHEMA).read(text)
    assert (found.status, found.how, found.value) == (status, how, value)


@pytest.mark.parametrize(
    "text",
    ['{"kind": "ca', '[{"kind": "cap"}, {"kind": "h', 'Well: {"kind": "cap", "note": "it', '{"note": "x", "kin'],
)
def test_what_the_limit_cut_off_is_not_taken_for_the_answer(text: str) -> None:
    found = Reader("json", SCHEMA).read(text, cut_off=True)
    assert found.status == "cut_off"
    assert found.value is None


def test_a_whole_answer_before_the_cut_counts() -> None:
    assert Reader("json", SCHEMA).read('{"kind": "cap"} And to expl', cut_off=True).status == "ok"


def test_text_answers_are_scored_as_read_where_they_were_cut_off() -> None:
    reader = Reader("text")
    assert reader.read(" A cap. ").value == "A cap."
    cut = reader.read("A cap and", cut_off=True)
    assert (cut.status, cut.value) == ("cut_off", "A cap and")
    assert reader.read("No.", refused=True).status == "refused"


def test_schema_errors_name_their_place_as_json_pointer() -> None:
    schema = {
        "type": "object",
        "properties": {
            "a/b": {"type": "array", "items": {"type": "object", "properties": {"n~": {"type": "integer"}}}}
        },
        "required": ["x"],
        "additionalProperties": False,
    }
    found = Reader("json", schema).read('{"a/b": [{"n~": 1}, {"n~": "2"}], "extra": 0}')
    assert found.status == "off_schema"
    assert {(one.at, one.what) for one in found.errors} == {
        ("", "the member 'x' is missing"),
        ("", "has members that the schema does not know: 'extra'"),
        ("/a~1b/1/n~0", '"2" is not a whole number'),
    }


def test_a_member_given_twice_with_different_values_is_off_schema_and_told() -> None:
    found = Reader("json", SCHEMA).read('{"kind": "hat", "kind": "cap"}')
    assert found.status == "off_schema"
    assert "twice" in found.errors[0].what
    assert Reader("json", SCHEMA).read('{"kind": "cap", "kind": "cap"}').status == "ok"


@given(
    CONTAINERS,
    st.sampled_from(["", "Here: ", "He said {so} [1: ", "a ] b } c "]),
    st.sampled_from(["", " done.", "\n]} {"]),
)
@settings(max_examples=150, deadline=None)
def test_any_json_in_prose_is_found_as_it_was_written(value: object, before: str, after: str) -> None:
    text = json.dumps(value, ensure_ascii=len(before) % 2 == 0)
    spans = find_json(before + text + after).spans
    assert json.dumps(value) in [json.dumps(json.loads(one.json)) for one in spans]


@given(st.text(alphabet="{}[]\",:\\ \n'tfn1-aé\u201c/*", max_size=60), st.booleans())
@settings(max_examples=200, deadline=None)
def test_no_text_crashes_the_reader(text: str, cut_off: bool) -> None:
    found = Reader("json", SCHEMA).read(text, cut_off=cut_off)
    assert found.status in ("ok", "off_schema", "not_json", "cut_off", "empty")
    json.dumps(found.value)


@pytest.mark.parametrize(
    "piece", ["{", "[", '{"', "[[]", '["x",', '[" ', "{'", '[{"a":', "{} ", '{"a\\', "[/*", "[//", "[,", "{ "]
)
def test_fifty_thousand_braces_take_steps_that_grow_with_their_length(
    piece: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = 0
    step = find_json_module._Walk._step

    def counted(walk: find_json_module._Walk, char: str) -> None:
        nonlocal steps
        steps += 1
        step(walk, char)

    monkeypatch.setattr(find_json_module._Walk, "_step", counted)
    text = piece * (50_000 // len(piece))
    find_json(text)
    find_json(text, lenient=True)
    assert steps <= 4 * len(text)


def test_a_megabyte_of_small_objects_is_read() -> None:
    found = Reader("json", SCHEMA).read('{"kind": "cap"} ' * 60_000)
    assert found.status == "ok"


def test_numbers_are_read_as_they_were_written_and_what_no_double_holds_is_told() -> None:
    reader = Reader("json", None)
    assert reader.read("{kind: 'cap', n: 12, price: 0.5, m: -3}").value == {
        "kind": "cap",
        "n": 12,
        "price": 0.5,
        "m": -3,
    }
    whole = reader.read("{n: 12}").value
    assert isinstance(whole, dict)
    assert isinstance(whole["n"], int)
    for text, what in (
        ("{n: " + "9" * 400 + "}", "1e999 is too large"),
        ("{n: -1e400}", "-1e999 is too large"),
        ('{"n": 1e999}', "1e999 is too large"),
        ('{"n": ' + "9" * 400 + "}", "there is a number of 400 digits"),
    ):
        found = reader.read(text)
        assert (found.status, found.errors[0].what.endswith(what)) == ("off_schema", True), text


@pytest.mark.parametrize(
    ("schema", "value", "at", "what"),
    [
        ({"type": ["integer", "null"]}, "one", "", '"one" is not a whole number or null'),
        ({"type": "array"}, {}, "", "{} is not a list"),
        ({"type": "object"}, [], "", "[] is not an object"),
        ({"type": "number"}, None, "", "null is not a number"),
        ({"enum": ["cap" * 80]}, "bonnet", "", f'"bonnet" is none of ["{"cap" * 52}c…'),
        ({"pattern": "c" * 200}, "hat", "", f'"hat" does not match {"c" * 160}'),
        ({"additionalProperties": False}, dict.fromkeys("abcdefghijklmnopqrstuvwxyz", 1), "",
         "has members that the schema does not know: " + ", ".join(f"'{one}'" for one in "abcdefghijklmnopqrst")),
        ({"additionalProperties": False}, {"m" * 200: 1}, "",
         f"has members that the schema does not know: '{'m' * 159}"),
        ({"properties": {"x": {"additionalProperties": False}}}, {"x": {"q": 1}}, "/x",
         "has members that the schema does not know: 'q'"),
        ({"properties": {"x": False}}, {"x": 1}, "/x", "is not allowed here"),
        ({"enum": ["cap", "hat"]}, "bonnet", "", '"bonnet" is none of ["cap", "hat"]'),
        ({"const": 3}, 4, "", "4 is not 3"),
        ({"pattern": "^[a-z]+$"}, "A1", "", '"A1" does not match ^[a-z]+$'),
        ({"minimum": 3}, 2, "", "2 is below 3"),
        ({"maximum": 3}, 3.5, "", "3.5 is above 3"),
        ({"minLength": 3}, "ab", "", '"ab" is shorter than 3'),
        ({"maxLength": 1}, "ab", "", '"ab" is longer than 1'),
        ({"minItems": 2}, [1], "", "has fewer than 2 elements"),
        ({"maxItems": 1}, [1, 2], "", "has more than 1 elements"),
        ({"required": ["kind"]}, {}, "", "the member 'kind' is missing"),
        ({"required": ["k" * 150]}, {}, "", f"the member '{'k' * 100}' is missing"),
        ({"properties": {"a": {}}, "additionalProperties": False}, {"a": 1, "b": 2, "c": 3}, "",
         "has members that the schema does not know: 'b', 'c'"),
        ({"properties": {"a": {}}, "unevaluatedProperties": False}, {"a": 1, "b": 2}, "",
         "has members that the schema does not know: 'b'"),
        ({"items": {"properties": {"x": {"const": 1}}}}, [{"x": 1}, {"x": 2}], "/1/x", "2 is not 1"),
        ({"items": {"maxLength": 100}}, ["é" * 120], "/0", "é"),
        ({"type": "string"}, {str(n): n for n in range(200)}, "", "an object is not a string"),
        ({"type": "string"}, list(range(200)), "", "a list is not a string"),
    ],
)  # fmt: skip
def test_each_rule_of_a_schema_that_is_broken_is_told_in_words(
    schema: dict[str, Any], value: object, at: str, what: str
) -> None:
    """What a repair turn tells the model, and a person reads beside the miss."""
    (error,) = Reader("json", schema).read(json.dumps(value)).errors
    assert error.at == at
    assert error.what == what or (what == "é" and len(error.what) < 110 and "longer than 100" in error.what)


def test_errors_are_in_the_order_of_their_places_and_no_longer_than_a_person_reads() -> None:
    schema = {"properties": {name: {"type": "string"} for name in "cab"}}
    errors = Reader("json", schema).read('{"c": 1, "a": 2, "b": 3}').errors
    assert [one.at for one in errors] == ["/a", "/b", "/c"]
    many = Reader("json", {"items": {"type": "string"}}).read(json.dumps(list(range(500)))).errors
    assert 1 < len(many) <= 100


@pytest.mark.parametrize(("depth", "status"), [(400, "ok"), (401, "not_json"), (990, "not_json"), (5000, "not_json")])
@pytest.mark.parametrize("before", ["", "So: ", "So {it} is: "])
def test_containers_within_containers_are_read_up_to_four_hundred(depth: int, status: str, before: str) -> None:
    """Deeper ones would exhaust the stack of whoever reads the answer next, and a piece of them is not the answer."""
    for opener, closer in ("[]", ("[ {'a':", "}]")):
        text = before + opener * depth + "1" + closer * depth
        assert Reader("json").read(text).status == (status if opener == "[" or depth > 400 else "not_json")
    assert (find_in_long(before + "[" * 5000 + '{"a": 1}'), len(find_in_long("[" * 400 + "]" * 400))) == ([], 1)


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ('{} {"kind": "cap"} {}', CAP),
        ('So {"kind":"cap","note":"x"} it is', {"kind": "cap", "note": "x"}),
        ("Nothing: {}", {}),
        ('{"kind": "hat"}, no: {"kind": "cap"}', CAP),
        ('{"kind": "cap"} as {"other": 1, "long": "a long object that does not fit"}', CAP),
        ('```json\n{"kind": "cap"}\n``` and ```\n{"kind": "hat"} or so\n```', {"kind": "hat"}),
    ],
)
def test_of_several_the_last_that_fits_is_the_answer(text: str, value: object) -> None:
    found = Reader("json", SCHEMA).read(text)
    assert found.value == value
    assert found.candidates == len([one for one in find_json(text).spans if len(one.json) > 2] or [0])


@pytest.mark.parametrize(("text", "how"), [
    ('```json\n{"kind": "cap"}\n```', "fenced"), ('Here:\n```\n {"kind": "cap"} \n```', "fenced"),
    ('```\nsee {"kind": "cap"}\n```', "in_prose"), ('```\n{"kind": "cap"} it is\n```', "in_prose"),
    ('```\nx\n```\n{"kind": "cap"}', "in_prose"), ('```json\n{"kind": "cap"}', "fenced"),
])  # fmt: skip
def test_json_in_a_fence_is_that_which_fills_it(text: str, how: str) -> None:
    assert Reader("json", SCHEMA).read(text).how == how


def test_an_answer_that_stops_by_itself_is_closed_up_and_one_that_was_cut_off_is_not() -> None:
    text = 'It is {"kind": "cap", "note": ["a", "b'
    assert Reader("json").read(text).value == {"kind": "cap", "note": ["a"]}
    assert Reader("json").read(text, cut_off=True).status == "cut_off"
    assert Reader("json").read("{ ").status == "not_json"
    assert Reader("json", SCHEMA).read("{'kind': 'cap'} And to expl", cut_off=True).value == CAP
    inner = 'It is [{"kind": "cap"}, {"kind'
    assert (Reader("json", SCHEMA).read(inner).value, Reader("json", SCHEMA).read(inner).how) == (CAP, "in_prose")


def test_in_a_text_too_long_to_walk_through_whole_values_are_found_wherever_they_are() -> None:
    """A model that has lost its way still said something before it did."""
    filler = "and so on, " * 300_000
    found = find_in_long('{"a": 1} ' + filler + '{not} [{"b": 2}] ' + filler[:100] + '{"c": ')
    assert [one.json for one in found] == ['{"a": 1}', '[{"b": 2}]']
    assert [one.end - one.start for one in found] == [8, 10]
    assert Reader("json", SCHEMA).read(filler + '{"kind": "cap"} and').value == CAP
    wide = json.dumps({"kind": "cap", "note": "x" * 400_000})
    assert Reader("json", SCHEMA).read(filler + wide + " end").status == "ok"
    assert len(find_in_long('{"a": 1} ' * 5000)) == 200
    assert find_in_long('{"no ' * 5000 + '{"a": 1}') == []


def test_a_number_is_as_large_as_a_double_holds_on_either_side() -> None:
    read = Reader("json").read
    assert read('{"n": -' + "9" * 400 + "}").value == {"n": -(10**300)}
    assert read('{"n": ' + "9" * 400 + "}").value == {"n": 10**300}
    assert read('{"n": -1e999}').value == {"n": -sys.float_info.max}
    assert read('{"n": ' + "9" * 300 + "}").value == {"n": int("9" * 300)}
    assert read('{"n": 1e308}').value == {"n": 1e308}
    assert read('{"n": NaN}').how == "repaired"


def test_json_is_read_as_deep_as_is_promised_and_no_deeper() -> None:
    as_deep, deeper = ("[" * n + "]" * n for n in (MAX_DEPTH, MAX_DEPTH + 1))
    assert [one.json for one in find_json(f"So: {as_deep}.").spans] == [as_deep]
    assert find_json(f"So: {deeper}.").spans == []
    assert find_json(f"{{}} {deeper}").spans[0].json == "{}"


@pytest.mark.parametrize(("text", "value"), [("{} or [1]", [1]), ("{} or []", {}), ("[], [] and {}", [])])
def test_what_says_nothing_is_the_answer_only_where_nothing_else_is_said(text: str, value: object) -> None:
    assert Reader("json", None).read(text).value == value
