"""Requests written from dialect files, JSONPath, what replies and errors mean."""

from __future__ import annotations

import base64
import json
import random
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drovik.dialects.reply_path import compile_path
from drovik.dialects.response import parse_reply
from drovik.dialects.template import Raw, compile_body, compile_text
from drovik.errors import DrovikError
from drovik.project.dialects import ErrorWords, ReplyForm
from drovik.transport.outcomes import FIRST_WAIT, LONGEST_WAIT, outcome_of, seconds_to_wait, wait_before


def filled(template: Any, scope: dict[str, Any]) -> Any:
    out: list[bytes] = []
    if not compile_body(template).fill(scope, out):
        return "VANISHED"
    return json.loads(b"".join(out))


@pytest.mark.parametrize(
    ("template", "scope", "wanted"),
    [
        ({"a": "{x}"}, {"x": 3}, {"a": 3}),
        ({"a": "{x}"}, {"x": 0.5}, {"a": 0.5}),
        ({"a": "{x}"}, {"x": {"type": "object"}}, {"a": {"type": "object"}}),
        ({"a": "no {x} of {y?}!"}, {"x": 3}, {"a": "no 3 of !"}),
        ({"a": "{x?}", "b": 1}, {}, {"b": 1}),
        ({"a": "{x?}", "b": 1}, {"x": False}, {"a": False, "b": 1}),
        ({"a": "v={x?}", "b": 1}, {}, {"b": 1}),
        ({"a": {"b": {"c": "{x?}"}}, "d": 1}, {}, {"d": 1}),
        ({"a": [{"b": "{x?}"}], "d": 1}, {}, {"d": 1}),
        ({"a": {}, "b": []}, {}, {"a": {}, "b": []}),
        ({"a": "{{x}} {x}"}, {"x": "1"}, {"a": "{x} 1"}),
        ({"a": "{not a slot} { x } {}"}, {}, {"a": "{not a slot} { x } {}"}),
        ({"a": [{"when x": {"b": 1}}, 2]}, {}, {"a": [2]}),
        ({"a": {"when x": "{x}"}}, {}, "VANISHED"),
        ({"a": {"when x": "{x}"}}, {"x": "y"}, {"a": "y"}),
        (
            {"a": [0, {"each turn": "{turn.by}"}, 9]},
            {"turns": [{"turn.by": "u"}, {"turn.by": "v"}]},
            {"a": [0, "u", "v", 9]},
        ),
        ({"a": {"each turn": {"by": "{turn.by}"}}}, {"turns": [{"turn.by": "u"}]}, {"a": [{"by": "u"}]}),
        ({"a": [{"each turn": {"when no": 1}}], "b": 1}, {"turns": [{}]}, {"b": 1}),
    ],
)
def test_slots_follow_the_rules(template: Any, scope: dict[str, Any], wanted: Any) -> None:
    assert filled(template, scope) == wanted


def test_a_slot_that_must_have_a_value_and_has_none_is_an_error() -> None:
    with pytest.raises(DrovikError, match=r"\{x\} has no value"):
        filled({"a": "{x}"}, {})


@given(st.text(), st.binary(max_size=300))
@settings(max_examples=200, deadline=None)
def test_text_stays_text_and_pictures_come_back_byte_for_byte(text: str, picture: bytes) -> None:
    template = {
        "t": "{part.text}",
        "long": "<{part.text}>",
        "p": "{part.base64}",
        "url": "data:x;base64,{part.base64}",
    }
    scope = {
        "part.text": text + "{model}{key}",
        "part.base64": Raw(base64.b64encode(picture)),
        "key": "K",
        "model": "M",
    }
    found = filled(template, scope)
    clean = (text + "{model}{key}").encode("utf-8", "replace").decode()
    assert found["t"] == clean
    assert found["long"] == f"<{clean}>"
    assert base64.b64decode(found["p"]) == picture == base64.b64decode(found["url"].split(",")[1])


def test_text_in_headers_and_paths_is_filled_too() -> None:
    assert compile_text("Bearer {key}").as_text({"key": "{model}"}) == "Bearer {model}"
    assert compile_text("{key?}").as_text({}) is None


@pytest.mark.parametrize(
    ("path", "wanted"),
    [
        # The examples of RFC 9535, section 1.5, as far as they have no filter.
        ("$.store.book[*].author", ["NR", "EW", "HM", "JT"]),
        ("$..author", ["NR", "EW", "HM", "JT"]),
        ("$.store..price", [399, 8, 12, 9, 22]),
        ("$..book[2].author", ["HM"]),
        ("$..book[-1].author", ["JT"]),
        ("$..book[0,1].author", ["NR", "EW"]),
        ("$..book[:2].author", ["NR", "EW"]),
        ("$['store']['bicycle']['colour']", ["red"]),
        ('$["store"].bicycle.*', ["red", 399]),
        ("$.nothing[0]", []),
    ],
)
def test_jsonpath_finds_what_the_standard_says(path: str, wanted: list[Any]) -> None:
    books = [{"author": name, "price": price} for name, price in (("NR", 8), ("EW", 12), ("HM", 9), ("JT", 22))]
    tree = {"store": {"book": books, "bicycle": {"colour": "red", "price": 399}}}
    found = compile_path(path)(tree)
    assert sorted(map(str, found)) == sorted(map(str, wanted))


def test_a_reply_of_another_shape_is_explained_by_its_actual_shape() -> None:
    form = ReplyForm(text="$.answer", input_tokens="$.count.in")
    found = parse_reply(json.dumps({"result": {"lines": ["A red cap."]}, "id": "x"}).encode(), form)
    assert found.note == "nothing at $.answer; the longest text is at $.result.lines[0]"
    assert not parse_reply(b"<html>busy</html>", form).readable
    assert parse_reply(json.dumps({"answer": ["a", "b"]}).encode(), ReplyForm(text="$.answer[*]")).text == "ab"


@pytest.mark.parametrize(
    ("status", "words", "worked", "kind", "again", "stops"),
    [
        (200, "", False, "answered", False, "none"),
        (401, "no key", True, "key_rejected", False, "endpoint"),
        (403, "no", False, "forbidden", False, "endpoint"),
        (403, "no", True, "forbidden", False, "none"),
        (404, "no such model", True, "not_found", False, "endpoint"),
        (400, "the model 'x' does not exist", False, "not_found", False, "endpoint"),
        (400, "this model does not support images", False, "no_pictures", False, "model"),
        (400, "words only, please", False, "no_pictures", False, "model"),
        (422, "field 'talk' is missing", False, "bad_request", False, "none"),
        (413, "the picture is too large", True, "bad_request", False, "none"),
        (429, "slow down", True, "limited", True, "none"),
        (500, "oops", True, "service_error", True, "none"),
        (503, "busy", False, "service_error", True, "none"),
    ],
)
def test_what_a_reply_means(status: int, words: str, worked: bool, kind: str, again: bool, stops: str) -> None:
    found = outcome_of(status, words, None, ErrorWords(no_pictures=("words only",)), worked)
    assert (found.kind, found.again, found.stops) == (kind, again, stops)


def test_retry_after_is_read_in_both_its_forms() -> None:
    now = datetime(2026, 11, 6, 8, 49, 7, tzinfo=UTC)
    assert seconds_to_wait("120") == 120
    assert seconds_to_wait("Fri, 06 Nov 2026 08:49:37 GMT", now) == 30
    assert seconds_to_wait("Fri, 06 Nov 2026 08:00:00 GMT", now) == 0
    assert seconds_to_wait("soon") is None
    assert seconds_to_wait("nan") is None


def test_waits_grow_are_jittered_and_never_shorter_than_was_asked_for() -> None:
    chance = random.Random(2)
    for try_ in range(1, 12):
        full = min(LONGEST_WAIT, FIRST_WAIT * 2 ** (try_ - 1))
        waits = [wait_before(try_, None, chance) for _ in range(50)]
        assert all(full / 2 <= one <= full for one in waits)
        assert len(set(waits)) > 40
    assert 7 <= wait_before(1, 7, chance) <= 7.7


TREES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.sampled_from(["answer", "ended", "count", "in", "x"]) | st.text(), inner, max_size=4)
    ),
    max_leaves=15,
)


@given(TREES | st.binary(max_size=80))
@settings(max_examples=150, deadline=None)
def test_no_reply_breaks_unpacking(tree: Any) -> None:
    form = ReplyForm(
        text="$..answer", ended="$.ended", model="$..x", input_tokens="$.count.in", output_tokens="$..in", error="$.x"
    )
    body = tree if isinstance(tree, bytes) else json.dumps(tree).encode()
    found = parse_reply(body, form)
    found.text.encode("utf-8")
    assert found.input_tokens is None or found.input_tokens >= 0
    assert (found.ended or "").isprintable() or found.ended is not None


@pytest.mark.long
@given(
    st.text(max_size=40)
    | st.from_regex(r"[A-Z][a-z]{2}, \d{1,3} [A-Z][a-z]{2} \d{1,12} \d{1,4}:\d{1,4}:\d{1,4} (GMT|[+-]\d{1,9})?")
)
@settings(max_examples=150, deadline=None)
def test_no_retry_after_breaks_the_waiting(text: str) -> None:
    found = seconds_to_wait(text)
    assert found is None or 0 <= found < float("inf")
