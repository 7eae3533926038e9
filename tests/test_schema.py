"""Schemas: inferred from examples, told in words, by an example, with every member required; those of Drovik's files."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik
from hypothesis import given, settings
from hypothesis import strategies as st

from drovik.demo.copying import copy_demo
from drovik.project.file_schemas import FILES, file_schema, schema_of_record
from drovik.project.schema_inference import infer_schema, values_of_table
from drovik.project.schema_words import all_required, example_of, in_words
from drovik.project.schemas import SchemaChecker, check_schema

LEAVES = (
    st.none() | st.booleans() | st.integers(-1000, 1000) | st.floats(-1000, 1000)
    | st.sampled_from(["Tern", "Eider", "2026-03-04", "14:05", ""]) | st.text(max_size=8)
)  # fmt: skip
VALUES = st.recursive(
    LEAVES,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from("abcd"), inner, max_size=3),
    max_leaves=8,
)


def fits(schema: dict[str, Any], value: Any) -> bool:
    return not SchemaChecker(schema).mismatches(value, 1)


@given(st.lists(VALUES, min_size=1, max_size=6))
@settings(max_examples=100, deadline=None)
def test_every_example_fits_the_schema_that_was_inferred_from_it(examples: list[Any]) -> None:
    schema = infer_schema(examples)
    assert check_schema(schema, "s.json") == []
    assert all(fits(schema, one) for one in examples)
    assert fits(schema, example_of(schema))
    assert in_words(schema)
    strict = all_required(schema)
    assert check_schema(strict, "s.json") == []
    assert all(fits(strict, filled(one, strict)) for one in examples)


def filled(value: Any, schema: dict[str, Any]) -> Any:
    """A value with null for each member that its schema demands and it lacks."""
    those = [schema, *schema.get("anyOf", [])]
    if isinstance(value, list):
        items = next((one["items"] for one in those if "items" in one), {})
        return [filled(one, items) for one in value]
    if not isinstance(value, dict):
        return value
    objects = [one for one in those if "properties" in one]
    if not objects:
        return value
    members = objects[0]["properties"]
    return {name: filled(value[name], members[name]) if name in value else None for name in members}


def test_a_schema_is_as_narrow_as_the_examples_give_reason_for() -> None:
    rows = [{"kind": kind, "day": "2026-03-04", "price": 3, "tags": ["a"]} for kind in ["cap", "hat"] * 3]
    rows[0] |= {"note": "left on deck", "price": 2.5}
    rows[1] |= {"price": None}
    schema = infer_schema(rows)
    assert schema["properties"]["kind"] == {"type": "string", "enum": ["cap", "hat"]}
    assert schema["properties"]["day"]["pattern"] == r"^\d{4}-\d{2}-\d{2}$"
    assert schema["properties"]["price"] == {"type": ["number", "null"]}
    assert schema["properties"]["note"] == {"type": "string", "maxLength": 50}
    assert schema["properties"]["tags"]["maxItems"] == 5
    assert schema["required"] == ["kind", "day", "price", "tags"]
    for wrong in ({"kind": "bag"}, {"day": "4 March"}, {"price": "3"}, {"note": "x" * 51}, {"more": 1}):
        assert not fits(schema, {**rows[2], **wrong})


def test_texts_are_an_enumeration_only_where_each_comes_twice_on_average() -> None:
    def kind(values: list[str]) -> bool:
        return "enum" in infer_schema(values)

    assert kind(["a", "b"] * 2)
    assert kind(["a", "b", "c"] * 2)
    assert not kind(["a", "b", "c", "d", "a"])
    assert not kind(["a"] * 3), "three are too few"
    assert not kind([f"v{n}" for n in range(31)] * 3), "more than thirty are no list"
    assert not kind(["x" * 101] * 8)


def test_an_example_is_found_where_a_schema_says_little_of_its_type() -> None:
    for schema, wanted in (
        ({"properties": {"a": {"const": 1}}, "required": ["a"]}, {"a": 1}),
        ({"items": {"enum": ["x"]}, "minItems": 2}, ["x", "x"]),
        ({"type": "integer", "minimum": 3, "multipleOf": 5}, 5),
        ({"type": "number", "exclusiveMinimum": 3}, 4),
        ({"type": "string", "minLength": 6, "maxLength": 7}, "textxx"),
        ({"default": "d"}, "d"),
        ({"allOf": [{"type": "boolean"}]}, True),
    ):
        assert example_of(schema) == wanted


def test_a_tables_columns_are_numbers_where_all_of_them_are_and_postcodes_stay_texts() -> None:
    rows = [
        {"n": "2", "p": "3.5", "code": "01234", "ok": "true", "mixed": "2"},
        {"n": "-4", "p": "12", "code": "9", "ok": "FALSE", "mixed": "x"},
        {"n": "", "p": "1", "code": "7", "ok": "", "mixed": ""},
    ]
    first, second, third = values_of_table(rows)
    assert first == {"n": 2, "p": 3.5, "code": "01234", "ok": True, "mixed": "2"}
    assert second["ok"] is False
    assert third == {"p": 1.0, "code": "7"}


def test_a_schema_is_told_in_words_references_and_all() -> None:
    schema = {
        "type": "object",
        "required": ["items"],
        "properties": {
            "items": {"type": "array", "maxItems": 3, "items": {"$ref": "#/$defs/item"}},
            "colour": {"enum": ["red", "blue"]},
            "weight": {"type": ["number", "null"], "minimum": 0},
            "box": {"type": "array", "minItems": 4, "maxItems": 4, "items": {"type": "number"}},
            "id": {"anyOf": [{"type": "integer"}, {"const": "none"}]},
        },
        "$defs": {
            "item": {"type": "object", "properties": {"name": {"type": "string", "description": "as on the tag"}}}
        },
    }
    assert in_words(schema) == [
        "the answer: an object",
        "  items: a list, of at most 3",
        "    each: an object",
        "      name: a text, may be left out; as on the tag",
        "  colour: one of red, blue, may be left out",
        "  weight: a number or null, at least 0, may be left out",
        "  box: a list of 4, each a number, may be left out",
        "  id: a whole number or always none, may be left out",
    ]
    strict = all_required(schema)
    assert strict["required"] == ["items", "colour", "weight", "box", "id"]
    assert strict["properties"]["colour"] == {"anyOf": [{"enum": ["red", "blue"]}, {"type": "null"}]}
    assert strict["properties"]["id"]["anyOf"][-1] == {"type": "null"}
    assert strict["$defs"]["item"]["required"] == ["name"]
    assert strict["properties"]["items"] == schema["properties"]["items"]
    looped = {"$ref": "#/$defs/a", "$defs": {"a": {"$ref": "#/$defs/a"}}}
    assert in_words(looped) == ["the answer: anything"]


def test_the_demos_files_fit_the_schemas_that_editors_get(tmp_path: Path) -> None:
    copy_demo(tmp_path / "demo")
    demo = tmp_path / "demo"
    wanted = {
        "drovik.toml": demo / "drovik.toml", "question.toml": demo / "tasks/sort/question.toml",
        "prompt.toml": demo / "tasks/sort/prompts/v2.toml", "dialect.toml": demo / "dialects/plain.toml",
    }  # fmt: skip
    for name, place in wanted.items():
        path = place if place.exists() else next(place.parent.glob("*.toml"))
        schema = file_schema(name)
        assert check_schema(schema, name) == []
        assert SchemaChecker(schema).mismatches(tomllib.loads(path.read_text()), 3) == []
        assert not fits(schema, {"colour_of_it": 1})
    for line in (demo / "cases.jsonl").read_text().splitlines()[:20]:
        assert fits(file_schema("cases.jsonl"), json.loads(line))


def test_the_command_infers_explains_and_writes(drovik: Drovik) -> None:
    (drovik.folder / "rows.csv").write_text("kind,deck\ncap,2\ncap,3\nhat,2\nhat,4\n")
    assert drovik("schema", "--from", "rows.csv", "--out", "s.json").out == "It is in s.json.\n"
    assert drovik("schema", "s.json").out.splitlines() == [
        "the answer: an object", "  kind: one of cap, hat", "  deck: a whole number",
    ]  # fmt: skip
    assert json.loads(drovik("schema", "s.json", "--example").out) == {"kind": "cap", "deck": 0}
    assert json.loads(drovik("schema", "s.json", "--all-required").out)["required"] == ["kind", "deck"]
    assert drovik("schema", "--from", "rows.csv", "--out", "rows.csv").code == 2, "a file of somebody's stays"
    rows = [{"id": str(n), "expected": {"sort": {"kind": "cap"}}} for n in range(4)]
    (drovik.folder / "cases.jsonl").write_text("".join(json.dumps(one) + "\n" for one in rows))
    found = json.loads(drovik("schema", "--from", "cases.jsonl", "--member", "expected.sort").out)
    assert found["properties"] == {"kind": {"type": "string", "enum": ["cap"]}}
    for name in FILES:
        assert json.loads(drovik("schema", "--of", name).out)["title"] == name


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("schema",), "give a schema, --from FILE, or --of NAME"),
        (("schema", "no.json"), "no.json"),
        (("schema", "broken.json"), "broken.json: line 1, column 2: is not JSON"),
        (("schema", "value.json"), "value.json: is not a schema; infer one from it: drovik schema --from value.json"),
        (("schema", "wrong.json"), "wrong.json"),
        (("schema", "--from", "empty.jsonl"), "there are no examples"),
        (("schema", "--from", "value.json", "--member", "a.b"), "'a.b' is in none of its 1 example"),
        (("schema", "pattern.json", "--example"), "no example is found for this schema"),
        (("schema", "value.json", "--member", "a"), "--member goes with --from"),
    ],
)
def test_what_is_no_schema_or_no_example_is_said_in_a_line(drovik: Drovik, words: tuple[str, ...], said: str) -> None:
    for name, text in {
        "broken.json": "{", "value.json": '{"kind": "cap"}', "wrong.json": '{"type": "colour"}', "empty.jsonl": "\n",
        "pattern.json": '{"type": "string", "pattern": "^[A-Z]{3}-[0-9]{4}$"}',
    }.items():  # fmt: skip
        (drovik.folder / name).write_text(text)
    found = drovik(*words)
    assert found.code == 2
    assert said in found.err
    assert len(found.err.splitlines()) == 1


@pytest.mark.parametrize("name", FILES)
def test_the_schemas_that_are_shipped_are_those_of_the_records(name: str) -> None:
    """Or an editor would refuse what Drovik reads; after a change: python tools/write_schemas.py."""
    assert file_schema(name) == schema_of_record(name)
