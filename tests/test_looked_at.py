"""Measures that look at nothing are told before money is spent, and a task without a measure gets one to paste."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, demo_on_port, good
from test_safety import SORT, Serve

from drovik.scoring.json_pointer import pointer_steps
from drovik.scoring.measure_checks import schema_lacks

SCHEMA: dict[str, Any] = {
    "type": "object",
    "properties": {
        "kind": {"enum": ["cap", "key"]}, "day": {"type": "string", "format": "date"}, "other name": {"$ref": "#/$defs/word"},
        "rows": {"type": "array", "items": {"type": "object", "properties": {"n": {"type": "integer"}}, "additionalProperties": False}},
        "owner": {"anyOf": [{"type": "null"}, {"type": "object", "properties": {"name": {}}, "additionalProperties": False}]},
    },
    "additionalProperties": False,
    "$defs": {"word": {"type": "string"}},
}  # fmt: skip


@pytest.mark.parametrize(("place", "lacks"), [
    ("/kind", False), ("/kynd", True), ("/kind/x", False), ("/day/year", True), ("/rows/0/n", False), ("/rows/0/m", True), ("/rows/n", True),
    ("/owner/name", False), ("/owner/age", True), ("/other name", False), ("/other name/x", True), ("", False),
])  # fmt: skip
def test_a_place_is_missed_only_where_no_valid_answer_can_have_it(place: str, lacks: bool) -> None:
    assert schema_lacks(SCHEMA, SCHEMA, pointer_steps(place)) == lacks


def test_an_open_schema_and_one_that_refers_to_itself_leave_places_open() -> None:
    assert not schema_lacks({"type": "object"}, {}, ("x",))
    assert not schema_lacks({"properties": {"a": {}}}, {}, ("x",))
    assert schema_lacks({"properties": {"a": {}}, "additionalProperties": False, "type": "object"}, {}, ("x",))
    endless = {"$ref": "#"}
    assert not schema_lacks(endless, endless, ("x",))


def question(folder: Path, text: str, name: str = "sort") -> None:
    (folder / "tasks" / name / "question.toml").write_text(text)


def test_check_tells_of_measures_that_look_at_nothing_with_the_place_and_a_remedy(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=6)
    answer = '[answer]\nform = "json"\nschema = "answer.schema.json"\n'
    question(folder, f'{answer}[measures.kind]\ntype = "label"\nat = "/kynd"\nlabels = ["cap", "key"]\n')
    checked = drovik("check")
    assert checked.code == 1
    assert "tasks/sort/question.toml: measures.kind.at: the schema of the answer has nothing at /kynd" in checked.out
    assert "/kind" in checked.out
    assert "none of the 6 expected outputs has anything at /kynd" in checked.out
    question(folder, '[answer]\nform = "text"\n[measures.words]\ntype = "text"\nat = "/kind"\n')
    assert "the answer is text, so there is nothing at /kind; take at out" in drovik("check").out
    question(
        folder, '[answer]\nform = "text"\n[measures.f]\ntype = "fields"\nfields = { kind = { rule = "text" } }\n'
    )
    assert "the answer is text, so it has no fields; say where they are by pattern" in drovik("check").out
    assert drovik("send", *SORT).code == 2


def test_a_task_without_a_measure_is_told_with_one_that_works_when_it_is_pasted(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda number, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=6)
    bare = '[answer]\nform = "json"\nschema = "answer.schema.json"\n'
    (folder / "tasks/sort/prompts/v2.toml").unlink()
    question(folder, bare)
    checked = drovik("check")
    assert checked.code == 0, checked.out
    assert "sort has no measure, so nothing scores its answers. Add to tasks/sort/question.toml:" in checked.out
    draft = drovik("check", "--json").json["without_measure"]["sort"]
    assert tomllib.loads(draft)["measures"]["fields"]["type"] == "fields"
    drovik("send", *SORT)
    assert "sort has no measure" in drovik("score", *SORT).out
    question(folder, f"{bare}{draft}\n")
    assert drovik("check").code == 0
    (arm,) = drovik("score", *SORT, "--json").json["tasks"]["sort"]
    assert arm["measures"][0]["cases"] == 6
    (folder / "tasks/sort/answer.schema.json").write_text(json.dumps(SCHEMA))
    question(folder, bare)
    fields = tomllib.loads(drovik("check", "--json").json["without_measure"]["sort"])["measures"]["fields"]["fields"]
    assert fields["kind"] == {"rule": "one_of", "values": ["cap", "key"]}
    assert fields["day"] == {"rule": "date"}
    assert fields["rows"] == {"rule": "list", "item": {"rule": "record", "fields": {"n": {"rule": "number"}}}}
    (folder / "tasks/sort/answer.schema.json").write_text(
        json.dumps({"type": "object", "properties": {"kind": {"enum": ["cap", "key"]}}})
    )
    draft = tomllib.loads(drovik("check", "--json").json["without_measure"]["sort"])
    assert draft["measures"]["kind"] == {"type": "label", "at": "/kind", "labels": ["cap", "key"]}


def test_a_score_that_is_the_same_for_every_answer_is_told_to_be_looked_at(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda number, body: good('{"kind": "nothing of the kind"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=6)
    drovik("send", *SORT)
    told = "kind: every answer scored 0 (6 answers): see whether `at` and the expected outputs mean the same thing."
    assert told in drovik("score", *SORT).out
    assert told in drovik("compare", "--task", "sort").out
    drovik("report")
    assert "every answer scored 0 (6 answers)" in (folder / "report.html").read_text()
