"""Finding the answer in a model's text, and the status it gets."""

from __future__ import annotations

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drovik.parsing import find_json as find_json_module
from drovik.parsing.answer_text import Reader
from drovik.parsing.find_json import find_json

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
@settings(max_examples=400, deadline=None)
def test_no_text_crashes_the_reader(text: str, cut_off: bool) -> None:
    found = Reader("json", SCHEMA).read(text, cut_off=cut_off)
    assert found.status in ("ok", "off_schema", "not_json", "cut_off", "empty")
    json.dumps(found.value)


@pytest.mark.parametrize(
    "piece", ["{", "[", '{"', "[[]", '["x",', '[" ', "{'", '[{"a":', "{} ", '{"a\\', "[/*", "[//", "[,", "{ "]
)
def test_a_hundred_thousand_braces_take_steps_that_grow_with_their_length(
    piece: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = 0
    step = find_json_module._Walk._step

    def counted(walk: find_json_module._Walk, char: str) -> None:
        nonlocal steps
        steps += 1
        step(walk, char)

    monkeypatch.setattr(find_json_module._Walk, "_step", counted)
    text = piece * (100_000 // len(piece))
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
