"""No answer, however it is built, ends the scoring or holds it up: it is a miss with a cause, in every measure."""

from __future__ import annotations

import json
import math
import random
import time
from collections.abc import Callable
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, demo_on_port, good
from hostile_answers import MEASURES, hostile
from test_scoring import task

from drovik.parsing.answer_text import Answer, Reader
from drovik.parsing.status import Status
from drovik.project.schemas import SchemaChecker, check_schema
from drovik.scoring.causes.label_causes import explained
from drovik.scoring.measure import AnswerContext

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]


def score_hostile_answers(chance: random.Random, count: int) -> None:
    """Hold hostile answers against every measure, each figure of which has to be a number."""
    made = [(table, task(dict(table))[1], expected) for table, expected in MEASURES]
    for number in range(count):
        table, measure, expected = made[number % len(made)]
        wanted = measure.expected_of(expected)
        like = {"k": "a red cap, two gloves"} if table["type"] == "facts" else expected
        value = hostile(chance, like)
        said = AnswerContext(value if isinstance(value, str) else "some text", "bare")
        score = measure.per_case(value, wanted, said)
        explained(measure, Answer(Status.OK, "bare", said.text, value), wanted, score)
        totals = measure.rows([score]).sum(axis=0)
        assert 0 <= score.value <= 1
        assert all(math.isfinite(one) for one in score.statistics)
        assert 0 <= measure.combine([score]) <= 1 or table.get("score") not in (None, "f1")
        for figure in measure.figures(totals).values():
            assert not math.isinf(float(figure))
        measure.tables(totals)
        measure.traces(value, wanted)
        measure.without(score, wanted, [one.cause for one in score.findings][:1])


@pytest.mark.filterwarnings("ignore")
def test_no_answer_breaks_a_measure_a_cause_or_a_table() -> None:
    score_hostile_answers(random.Random(11), 500)


@pytest.mark.parametrize("sure", [10**400, -(10**400), float("inf"), float("-inf"), float("nan"), True, "very"])
def test_no_confidence_spoils_what_is_found(sure: object) -> None:
    """A detection is found whatever the model says of how sure it is; one such figure must not lose the whole arm."""
    table, expected = next(one for one in MEASURES if one[0].get("confidence") and one[0]["type"] == "boxes")
    measure = task(dict(table))[1]
    wanted = measure.expected_of(expected)
    score = measure.per_case(
        {"k": [{"label": "cap", "box": [0, 0, 10, 10], "sure": sure}]}, wanted, AnswerContext("x", "bare")
    )
    assert all(math.isfinite(one) for one in score.statistics)
    assert 0 < measure.combine([score]) < 1


@pytest.mark.long
@pytest.mark.filterwarnings("ignore")
def test_no_answer_of_many_breaks_a_measure_a_cause_or_a_table() -> None:
    seed = random.SystemRandom().randrange(10**9)
    print(f"seed {seed}")
    score_hostile_answers(random.Random(seed), 60_000)


SCHEMA = {"type": "object", "properties": {"k": {"type": "string"}, "n": {"type": "number"}}, "required": ["k"]}


@pytest.mark.parametrize(
    ("text", "status", "what"),
    [
        ('{"k": "a", "n": ' + "9" * 5000 + "}", "off_schema", "there is a number of 5000 digits"),
        ('{"k": "a", "n": 1e400}', "off_schema", "the number 1e400 is too large"),
        ('{"k": "a", "n": -1e400}', "off_schema", "the number -1e400 is too large"),
        ('{"k": "a", "n": NaN}', "off_schema", "null is not a number"),
        ("{'k': 'a', 'n': " + "9" * 5000 + "}", "off_schema", "the number 1e999 is too large"),
        ('\ufeff{"k": "a"}', "ok", ""),
        ('{"k": ' + "[" * 350 + "]" * 350 + "}", "off_schema", "is nested too deeply to be checked"),
        ('{"k": ' + "[" * 900 + "]" * 900 + "}", "not_json", ""),
        ('{"k": "\\ud800"}', "ok", ""),
        ('{"\\ud800": 1}', "off_schema", "the member 'k' is missing"),
    ],
)
def test_numbers_and_nesting_beyond_all_bounds_are_errors_with_a_reason(text: str, status: str, what: str) -> None:
    reading = Reader("json", SCHEMA).read(text)
    assert reading.status == status
    assert not what or what in [one.what for one in reading.errors]
    assert "Infinity" not in json.dumps(reading.value)
    assert "NaN" not in json.dumps(reading.value)


LONG = {
    "nesting": "[" * 49_000_000,
    "objects in objects": '{"a":' * 4_000_000,
    "nearly JSON": "{'k': 'a', 'n': 1,} and " * 800_000,
    "broken off": '{"k": "a", ' * 1_800_000,
    "brackets": "} { ] [ " * 2_500_000,
    "quotes": '{"' * 10_000_000,
    "backslashes": '{"k": "' + "\\" * 20_000_000,
    "fences": "```json\n{\n" * 1_800_000,
    "numbers": "[" + "1," * 10_000_000 + "1]",
}


@pytest.mark.parametrize(
    "name", ["nesting", "nearly JSON", *(pytest.param(one, marks=pytest.mark.long) for one in LONG)]
)
def test_an_answer_of_twenty_megabytes_is_read_in_moments(name: str) -> None:
    before = time.process_time()
    assert Reader("json", SCHEMA).read(LONG[name]).status in ("not_json", "off_schema")
    assert time.process_time() - before < 8, "up to 1.5 s on the machine this was written on"


def test_json_in_a_long_text_is_still_found() -> None:
    text = "word " * 100_000 + '{"k": "a"} and {"k": ' + "more " * 100_000
    reading = Reader("json", SCHEMA).read(text)
    assert (reading.status, reading.how, reading.value) == ("ok", "in_prose", {"k": "a"})


@pytest.mark.parametrize(
    ("pattern", "fits", "does_not"),
    [
        (r"^\d{4}\/x$", "2026/x", "20/x"),
        (r"^\p{L}+$", "Ähre", "A1"),
        (r"^[^]$", "\n", "ab"),
        (r"^(?!a)[\w\-]+$", "b-c", "a-c"),
        (r"^(?<=^)(?<name>x)\k<name>$", "xx", "x"),
        (r"^\u0041\x42\0$", "AB\0", "AB"),
        (r"^[\b]$", "\b", "b"),
        (r"[]", None, "x"),
    ],
)
def test_patterns_of_the_standard_are_taken_as_they_are(pattern: str, fits: str | None, does_not: str) -> None:
    schema = {"type": "string", "pattern": pattern}
    assert check_schema(schema, "s.json") == []
    checker = SchemaChecker(schema)
    assert fits is None or checker.mismatches(fits, 5) == []
    assert [one.rule for one in checker.mismatches(does_not, 5)] == ["pattern"]


def test_no_pattern_and_no_schema_takes_for_ever() -> None:
    before = time.process_time()
    for pattern in ("^(a+)+$", "^(?=(a+)+b)(a+)+$", r"^(a|aa)+\1$", "(x+x+)+y", r"^(([a-z])+.)+[A-Z]([a-z])+$"):
        assert SchemaChecker({"pattern": pattern}).mismatches("a" * 5_000 + "!", 5)
    loops = {"$ref": "#/$defs/a", "$defs": {"a": {"$ref": "#/$defs/b"}, "b": {"$ref": "#/$defs/a"}}}
    assert check_schema(loops, "s.json") == []
    SchemaChecker(loops).mismatches({"x": 1}, 5)
    branching = {"anyOf": [{"properties": {"a": {"$ref": "#/$defs/n"}}, "required": [one]} for one in "abcd"]}
    nested: Any = 1
    for _ in range(24):
        nested = {"a": nested}
    SchemaChecker({"$defs": {"n": branching}, "$ref": "#/$defs/n"}).mismatches(nested, 5)
    many = [{"a": number} for number in range(20_000)]
    assert SchemaChecker({"uniqueItems": True}).mismatches(many, 5) == []
    assert SchemaChecker({"uniqueItems": True}).mismatches([*many, {"a": 7}], 5)
    assert time.process_time() - before < 8


def test_a_pattern_of_a_measure_that_takes_for_ever_is_named_and_scores_nothing(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good("a" * 4_000 + "!"))
    folder = demo_on_port(drovik.folder, service.port, cases=2)
    question = folder / "tasks/describe/question.toml"
    question.write_text(
        '[answer]\nform = "text"\n[measures.form]\ntype = "form"\ncounts = { a = { pattern = "^(a|a?)+$" } }\n'
    )
    assert drovik("send", "--task", "describe", "--arm", "fulmar/v1").code == 0
    scored = drovik("score", "--task", "describe", timeout=30)
    assert scored.code in (0, 1)
    assert "took longer than 1 s on an answer" in scored.out + scored.err


def test_many_cases_of_one_picture_are_told_once_for_each_other_value() -> None:
    from drovik.evaluation.suspects import near_duplicates_of
    from drovik.images.inspection import PerceptualHash

    chance = random.Random(3)
    prints = {
        f"{number}.jpg": PerceptualHash(chance.getrandbits(256), chance.randbytes(1728)) for number in range(200)
    }
    cases = {path: [f"{path} {number}" for number in range(100)] for path in prints}
    expected = {"sort": {case: "cap" for ids in cases.values() for case in ids}}
    expected["sort"]["7.jpg 3"] = expected["sort"]["7.jpg 4"] = "hat"
    expected["sort"]["9.jpg 0"] = "key"
    found = near_duplicates_of(prints, cases, expected)
    assert {(one.first, one.second) for one in found} == {("7.jpg 0", "7.jpg 3"), ("9.jpg 0", "9.jpg 1")}
    alike = {"a.jpg": PerceptualHash(7, b"\0" * 1728), "b.jpg": PerceptualHash(7, b"\1" * 1728)}
    pairs = near_duplicates_of(alike, {"a.jpg": ["one"], "b.jpg": ["two"]}, {"sort": {"one": "cap", "two": "hat"}})
    assert [(one.first, one.second, one.tasks) for one in pairs] == [("one", "two", ("sort",))]
