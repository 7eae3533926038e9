"""Dialects: replies of every form however they are cut, steps, bodies of every kind; and all of it fuzzed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, demo_on_port
from hypothesis import example, given, settings
from hypothesis import strategies as st
from test_endpoint import learned, service  # noqa: F401

from drovik.dialects.learn.curl import SampleRequest, json_of, read_curl
from drovik.dialects.learn.sample_dialect import learn
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.dialects.learn.samples import Exchange, SampleReply, read_sample
from drovik.dialects.learn.shell import read_command
from drovik.dialects.reply_path import compile_path
from drovik.dialects.request_template import RequestTemplate, multipart
from drovik.dialects.response import ReplyParser, parse_reply
from drovik.dialects.template import compile_text, escaped
from drovik.errors import DrovikError
from drovik.planning.requests import request_of
from drovik.planning.sources import AdhocQuestion, adhoc_project, url_digest
from drovik.project.cases import Picture
from drovik.project.dialects import Dialect, ReplyForm
from drovik.project.models import Price
from drovik.project.settings import ProjectFile
from drovik.project.spending import CountedTokens, Spending
from drovik.transport.preparer import write_request
from drovik.transport.session import EndpointSession

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]

# Replies.

EVENTS = ReplyForm.model_validate(
    {"form": "events", "text": "$.d", "text_events": ["word"], "end_mark": "END", "ended": "$.why", "cut_off": ["room"],
     "input_tokens": "$.n.in", "output_tokens": "$.n.out", "error": "$.bad", "error_events": ["oops"]}
)  # fmt: skip


@pytest.mark.parametrize(
    ("body", "wanted"),
    [
        (
            'event: word\ndata: {"d": "a"}\n\nevent: word\ndata: {"d": "b"}\n\ndata: END\n\n',
            {"text": "ab", "incomplete": False},
        ),
        (
            '\ufeff: hi\r\nevent:word\r\ndata:{"d":\r\ndata: "a"}\r\n\r\ndata: END\r\n\r\n',
            {"text": "a", "incomplete": False},
        ),
        ('event: word\rdata: {"d": "a"}\r\rdata: END\r\r', {"text": "a"}),
        ('event: word\ndata: {"d": "a"}\n\nevent: whole\ndata: {"d": "a"}\n\ndata: END\n\n', {"text": "a"}),
        ('event: word\ndata: {"d": "a"}\n\n', {"text": "a", "incomplete": True}),
        (
            'event: word\ndata: {"d": "a", "why": "room", "n": {"in": 3, "out": 4}}\n\n',
            {"text": "a", "cut_off": True, "incomplete": False, "input_tokens": 3, "output_tokens": 4},
        ),
        (
            'event: word\ndata: {"d": "a", "n": {"out": 1}}\n\nevent: word\ndata: {"d": "b", "n": {"out": 5}}\n\ndata: END',
            {"output_tokens": 5},
        ),
        (
            'event: word\ndata: {"d": "a"}\n\nevent: oops\ndata: {"m": "it burns"}\n\n',
            {"error": "it burns", "incomplete": False},
        ),
        ('event: word\ndata: {"bad": {"code": 5, "message": "it burns"}}\n\n', {"error": "it burns"}),
        ('{"bad": "no stream today"}', {"error": "no stream today"}),
        ("<html>hello</html>", {"readable": False}),
        ("", {"readable": False}),
        (
            'event: word\ndata: {"text": {"x": "a long text"}}\n\ndata: END\n\n',
            {"note": "nothing at $.d; the longest text is at $.text.x"},
        ),
    ],
)
def test_streams_are_joined_counted_and_known_to_be_whole(body: str, wanted: dict[str, Any]) -> None:
    found = parse_reply(body.encode(), EVENTS)
    assert {name: getattr(found, name) for name in wanted} == wanted


def test_usage_is_replaced_or_added_and_text_may_be_sent_whole_each_time() -> None:
    rows = b'{"d": "a", "n": 2}\n{"d": "ab", "n": 3}\n\n{"d": "ab", "n": 1, "end": "x"}\n'
    base = {"form": "lines", "text": "$.d", "output_tokens": "$.n", "ended": "$.end"}
    assert parse_reply(rows, ReplyForm.model_validate(base)).output_tokens == 1
    whole = parse_reply(rows, ReplyForm.model_validate({**base, "usage": "sum", "joined": "last"}))
    assert (whole.text, whole.output_tokens, whole.incomplete) == ("ab", 6, False)


def test_plain_text_and_headers() -> None:
    form = ReplyForm.model_validate({"form": "text", "input_tokens": "header X-In", "model": "header X-Model"})
    found = parse_reply("Ein Fäustling.".encode(), form, {"x-in": "12", "X-Model": "auk"})
    assert (found.text, found.input_tokens, found.model) == ("Ein Fäustling.", 12, "auk")
    assert not parse_reply(b"<!DOCTYPE html><p>log in", form).readable


@given(st.binary(max_size=300) | st.text("data:{}[]\"ade\n\r \ufeffENDventwor\\u123", max_size=200).map(lambda text: text.encode()),
       st.sampled_from(["json", "text", "events", "lines"]), st.lists(st.integers(1, 40), max_size=12))  # fmt: skip
@settings(max_examples=150, deadline=None)
def test_no_reply_breaks_the_reader_and_cuts_make_no_difference(body: bytes, kind: str, cuts: list[int]) -> None:
    text = {} if kind == "text" else {"text": "$..d"}
    form = ReplyForm.model_validate(
        {"form": kind, **text, "error": "$.bad", "ended": "$.why", "counters": {"c": "$.n"}}
    )
    reply_parser, at = ReplyParser(form), 0
    for cut in [*cuts, len(body)]:
        reply_parser.feed(body[at : at + cut])
        at += cut
    reply_parser.feed(body[at:])
    assert reply_parser.result({}) == parse_reply(body, form)


@pytest.mark.parametrize(
    ("path", "wanted"),
    [
        ("$.p[?@.k == 'a'].t", ["one", "three"]),
        ('$.p[?(@.k != "a" && @.n > 1)].t', ["two"]),
        ("$.p[?@.k == 'a' || @.n >= 2].t", ["one", "two", "three"]),
        ("$.p[?!@.n].t", ["three"]),
        ("$.p[?@['n'] < 2].t", ["one"]),
        ("$.p[?@.t == 'it]s'].t", []),
        ("$.p[?@.x == null].t", []),
        ("$.p[?@.k == @.k].n", [1, 2]),
    ],
)
def test_jsonpath_filters(path: str, wanted: list[Any]) -> None:
    tree = {"p": [{"k": "a", "t": "one", "n": 1}, {"k": "b", "t": "two", "n": 2}, {"k": "a", "t": "three"}]}
    assert compile_path(path)(tree) == wanted


@pytest.mark.parametrize(
    "path", ["$.p[?", "$.p[?@.k ==]", "$.p[?(@.k]", "$.p[?'a']", "$.p[?@.k = 'a']", "$.p[?@.k == 'a' x]"]
)
def test_a_broken_filter_is_told(path: str) -> None:
    with pytest.raises(DrovikError):
        compile_path(path)


# Requests.


def filled(
    dialect: dict[str, Any], question: AdhocQuestion, pictures: int = 1, settings: dict[str, Any] | None = None
) -> Any:
    """The request of a dialect for pictures known by their address."""
    made_of = {"request": dialect, "reply": {"text": "$.a"}}
    file = ProjectFile.model_validate(
        {"endpoints": {"e": {"url": "http://127.0.0.1:1", "dialect": "d"}},
         "models": {"m": {"endpoint": "e", "id": "m-1", "settings": settings or {}}}}
    )  # fmt: skip
    shown = [Picture(f"https://a.example/{n}.png", None, f"https://a.example/{n}.png") for n in range(pictures)]
    made = adhoc_project(Path(), file, {"d": Dialect.model_validate(made_of)}, {}, question, [("c", shown)])
    ask = request_of(made.task, made.arms[0], made.project.cases[0], {one.path: url_digest(one) for one in shown})
    return write_request(made.project, EndpointSession(made.project, "e").writer, ask, "one").request


FLAT = (
    '{"q": "{last.text}", "links": [{"each image": "{image.address}"}], "one": {"when pictures": {"kind": "links"}}}'
)


def test_flat_services_take_one_prompt_and_a_list() -> None:
    question = AdhocQuestion("What {is} it? {key}", "Be short.")
    body = json.loads(filled({"body": FLAT}, question, 2).body)
    assert body == {"q": "Be short.\nWhat {is} it? {key}", "links": ["https://a.example/0.png", "https://a.example/1.png"],
                    "one": {"kind": "links"}}  # fmt: skip
    assert json.loads(filled({"body": FLAT}, question, 0).body) == {"q": "Be short.\nWhat {is} it? {key}"}


def test_what_a_dialect_has_no_place_for_is_told_and_not_left_out() -> None:
    one = '{"q": "{last.text}", "link": "{image.address?}"}'
    assert json.loads(filled({"body": one}, AdhocQuestion("x"), 0).body) == {"q": "x"}
    with pytest.raises(DrovikError, match="a place for one picture, and 2 are asked about"):
        filled({"body": one}, AdhocQuestion("x"), 2)
    with pytest.raises(DrovikError, match="no place for a picture"):
        filled({"body": '{"q": "{last.text}"}'}, AdhocQuestion("x"), 1)


def test_free_settings_schema_and_bodies_of_every_kind() -> None:
    schema = {"type": "object"}
    question = AdhocQuestion("Was ist das?", schema=schema, send_schema=True)
    body = '{"q": "{last.text}", "f": {"when schema": {"kind": "json", "of": "{schema}"}}, "d": "{extra.detail?}", "l": "{image.address?}"}'
    made = json.loads(filled({"body": body}, question, 0, {"extra": {"detail": {"level": 0.5}}}).body)
    assert made == {"q": "Was ist das?", "f": {"kind": "json", "of": schema}, "d": {"level": 0.5}}
    form = filled(
        {"form": '{"q": "{last.text}", "n": "{max_output_tokens?}"}'},
        AdhocQuestion("a&b=ä"),
        0,
        {"max_output_tokens": 9},
    )
    assert (form.body, form.headers["Content-Type"]) == (b"q=a%26b%3D%C3%A4&n=9", "application/x-www-form-urlencoded")
    raw = filled(
        {"raw": "{last.text}", "headers": {"content-type": "text/x"}, "query": {"m": "{model}"}},
        AdhocQuestion("Hi"),
        0,
    )
    assert (raw.body, raw.headers, raw.url) == (b"Hi", {"content-type": "text/x"}, "http://127.0.0.1:1/?m=m-1")


def test_multipart_is_built_by_the_book() -> None:
    """Read back by the standard library's own parser of MIME (RFC 7578 builds on RFC 2046)."""
    from email.parser import BytesParser

    body, kind = multipart([{"name": 'a"b', "value": "ü"}, {"name": "f", "file": "p.png", "type": "image/png", "bytes": "AAEC"},
                            {"name": "j", "value": {"x": [1]}, "type": "application/json"}])  # fmt: skip
    parsed = BytesParser().parsebytes(f"Content-Type: {kind}\r\n\r\n".encode() + body)
    parts = [(one.get_param("name", header="content-disposition"), one.get_filename(), one.get_payload(decode=True))
             for one in parsed.get_payload()]  # fmt: skip
    assert parts == [("a%22b", None, "ü".encode()), ("f", "p.png", b"\x00\x01\x02"), ("j", None, b'{"x": [1]}')]


def test_an_address_out_of_a_reply_gets_no_key_and_no_picture_elsewhere() -> None:
    form = Dialect.model_validate(
        {
            "request": {"path": "{taken.where}", "headers": {"K": "{key}"}, "raw": "{last.text}"},
            "reply": {"text": "$.a"},
        }
    ).request
    template = RequestTemplate(form)
    scope = {"key": "k", "last.text": "x"}
    assert (
        template.fill("https://a.example", {**scope, "taken.where": "/jobs/7?x=1"}).url
        == "https://a.example/jobs/7?x=1"
    )
    for elsewhere in ("https://b.example/up", "http://a.example/up", "http://127.0.0.1:9/up"):
        with pytest.raises(DrovikError, match="another host"):
            template.fill("https://a.example", {**scope, "taken.where": elsewhere})


def test_counters_have_their_own_price() -> None:
    price = Price(
        currency="EUR",
        input=Decimal(2),
        output=Decimal(7),
        counters={"cached": Decimal("0.6"), "thinking": Decimal(4)},
    )
    spent = Spending.of(
        price,
        1000,
        100,
        {"cached": CountedTokens(400, "input"), "thinking": CountedTokens(50), "audio": CountedTokens(9, "input")},
    )
    # 600 at 2, 400 at 0.6, 100 at 7, and 50 at 4 beside them; audio has no price and stays input
    assert spent == Spending("EUR", Decimal("0.00234"))


# Steps, over a socket.


def test_a_picture_is_handed_over_once_and_again_when_it_is_gone(drovik: Drovik, service: str) -> None:  # noqa: F811
    import shutil

    learned(drovik, service, "upload", "--no-try")
    demo_on_port(drovik.folder / "p", 1, cases=3)
    home = Path(drovik.environment["XDG_CONFIG_HOME"]) / "drovik"
    shutil.copy(home / "dialects/upload.toml", drovik.folder / "p/dialects/plain.toml")
    settings = drovik.folder / "p/drovik.toml"
    settings.write_text(
        settings.read_text().replace("http://127.0.0.1:1", service).replace("temperature = 0.0, ", "")
    )
    problems = drovik("check", "--project", "p").out
    assert "Nothing is wrong" in problems, problems
    sent = drovik("send", "--project", "p", "--arm", "gull", "--task", "sort", "--task", "describe", "--json").json
    assert (sent["answered"], sent["failed"]) == (12, 0), sent
    with sqlite3.connect(drovik.folder / "p/.drovik/answers.sqlite") as store:
        assert store.execute("SELECT COUNT(*) FROM handles").fetchone() == (
            3,
        )  # one for each picture, for all four arms
        store.execute('UPDATE handles SET taken = \'{"handle": "pic_gone"}\'')
    rest = drovik("send", "--project", "p", "--arm", "fulmar/v1", "--task", "sort", "--json").json
    assert (rest["answered"], rest["failed"]) == (3, 0)


# Fuzz.


@given(st.text("curl -HdXFuG@'\"\\$()\n{}[]:=,abc/https.?&#<EOF", max_size=120).map(lambda text: "curl " + text))
@settings(max_examples=200, deadline=None)
def test_no_command_breaks_the_reader_of_curl(text: str) -> None:
    command = read_command(text, 0)
    assert command.end <= len(text)
    try:
        read_curl(command.words, command.stdin, SampleFiles(Path("/nonexistent")))
    except DrovikError as error:
        assert error.problems[0].line()


@pytest.mark.parametrize("text", [
    "it's \"a\" b", "a 'b c' \"d $x \\\" e\" f\\ g", "$'a\\nb\\'c\\x41' d", "one \\\n  two \\\n three", "a\"b\"'c'd", "'a'\\''b'", "x # y"])  # fmt: skip
def test_words_are_those_of_a_shell(text: str) -> None:
    """Against bash itself, which is asked to print the words that it makes of a line."""
    import subprocess

    text = text.replace("it's", "its")
    done = subprocess.run(
        ["bash", "-c", f"x='$x'; printf '%s\\0' {text}"], capture_output=True, text=True, check=True
    )
    assert list(read_command(text, 0).words) == done.stdout.split("\0")[:-1]


def test_here_documents_forms_and_glued_options() -> None:
    text = "curl -sSLXPUT -H'A: b' https://h.example/p -d @- <<'E'\n{\"a\": 'x'}\nE\nrest"
    command = read_command(text, 0)
    request = read_curl(command.words, command.stdin, SampleFiles(Path()))
    assert (request.method, request.headers[0], text[command.end :]) == ("PUT", ("A", "b"), "\nrest")
    assert json_of('{"a": 1, /* here */ "b": [1, 2,],}') == {"a": 1, "b": [1, 2]}
    form = read_curl(["curl", "https://h.example", "-d", "a=1&b=x y", "-G"], None, SampleFiles(Path()))
    assert form.url == "https://h.example?a=1&b=x y"


TREES = st.recursive(
    st.none() | st.booleans() | st.integers(-5, 9) | st.text("abc {}?.prompt\"\\'\n", max_size=12)
    | st.sampled_from(["What is it?", "{key}", "{{key}}", "{part.text?}", "data:image/png;base64,AAAA", "gull-1", "You are {model}."]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(
        ["role", "text", "prompt", "image", "model", "each turn", "when system", "system", "parts", "{key}", "temperature"]), inner, max_size=4),
    max_leaves=14,
)  # fmt: skip


@given(TREES.filter(lambda tree: isinstance(tree, dict)), st.text('a{}?.keymodl"\\ \n', max_size=30))
@example({"role": ["What is it?", "{key}", "data:image/png;base64,AAAA"]}, "")
@settings(max_examples=200, deadline=None)
def test_what_is_learned_makes_json_and_no_slot_is_filled_from_text(tree: dict[str, Any], prompt: str) -> None:
    sample = SampleRequest("POST", "http://127.0.0.1:1/x", (("Authorization", "Bearer $K"),), "json", tree)
    try:
        found = learn("it", [Exchange(sample, (SampleReply('{"a": "It is a cap."}'),))])
    except DrovikError:
        return
    secret = "SECRET-KEY-1"
    file = ProjectFile.model_validate(
        {
            "endpoints": {"e": {"url": found.url, "dialect": "d", "key_env": "K"}},
            "models": {"m": {"endpoint": "e", "id": found.model}},
        }
    )
    question = AdhocQuestion(prompt + "{key} {model}", "{key?}")
    made = adhoc_project(Path(), file, {"d": found.dialect}, {"K": secret}, question, [("c", [])])
    ask = request_of(made.task, made.arms[0], made.project.cases[0], {})
    try:
        request = write_request(made.project, EndpointSession(made.project, "e").writer, ask, "one").request
    except DrovikError as error:
        assert "body is empty" in error.problems[0].what or "has no value" in error.problems[0].what
        return
    json.loads(request.body)
    if not any(one.role == "key" and one.place.startswith("$") for one in found.taken):
        assert secret.encode() not in request.body
    assert request.headers["Authorization"] == f"Bearer {secret}"


@given(st.text("a{}?.key_x ", max_size=40))
@settings(max_examples=150, deadline=None)
def test_escaped_text_stays_what_it_is(text: str) -> None:
    assert compile_text(escaped(text)).as_text({}) == (text or "")


@given(st.text('curl -d \'{"a": "What?"}\' https://h.example\n```html<pre>HTTP/1.1 200', max_size=200))
@settings(max_examples=200, deadline=None)
def test_no_page_breaks_the_reader_of_samples(text: str) -> None:
    try:
        for exchange in read_sample(text, SampleFiles(Path("/nonexistent")), "https://h.example/"):
            learn("it", [exchange])
    except DrovikError as error:
        assert error.problems[0].line()
