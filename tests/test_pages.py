"""Pages of documentation as people write them: each is learned into the request that its service takes.

The pages are in tests/pages; what they have in common is that none was written for a program to read.
"""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest

from drovik.dialects.learn.literals import literal_with_comments, read_literal
from drovik.dialects.learn.sample_dialect import Learned, learn
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.dialects.learn.samples import read_reply, read_sample

PAGES = Path(__file__).parent / "pages"
B64 = "iVBORw0KGgoAAAANSUhEUg=="


def of_text(text: str, folder: Path = PAGES, url: str | None = None) -> Learned:
    return learn("it", read_sample(text, SampleFiles(folder), url))


def request_of(one: Learned) -> dict[str, Any]:
    found = tomllib.loads(one.text)["request"]
    for name in ("body", "multipart"):
        if name in found:
            found[name] = json.loads(found[name])
    return found


def reply_of(one: Learned) -> dict[str, Any]:
    return tomllib.loads(one.text)["reply"]


def counts(one: Learned) -> tuple[Any, Any]:
    return reply_of(one).get("input_tokens"), reply_of(one).get("output_tokens")


@pytest.mark.parametrize(
    ("page", "url", "headers", "model", "key_env", "text", "tokens"),
    [
        ("prompt.txt", "https://heath.example/api/see", {"Authorization": "Token {key}"}, "heath-2b", "HEATH_TOKEN", "$.text", "$.usage.in $.usage.out"),
        ("powershell.md", "https://moss.example/v2/ask", {"Authorization": "Bearer {key}"}, "moss-1", "MOSS_KEY", "$.reply", "$.spent.prompt $.spent.reply"),
        ("message.http", "https://inspect.example/inspect", {"X-Key": "{key}"}, "eye-3", "IT_KEY", "$.verdict", "$.tokens.sent $.tokens.received"),
        ("openapi.json", "https://north.fen.example/v2/look/{model}", {"Authorization": "Bearer {key}"}, "fen-small", "IT_KEY", "$.answer", "$.usage.input_tokens $.usage.output_tokens"),
        ("variables.md", "https://alder.example/v3/answers", {"alder-key": "{key}"}, "alder-4-mini", "ALDER_KEY", "$.a.text", ""),
        ("error-first.md", "https://yew.example/v1/say", {"Authorization": "Bearer {key}"}, "yew-2", "IT_KEY", "$.choices[*].content", "$.usage.input $.usage.output"),
        ("stream.md", "https://elm.example/s", {"Key": "{key}"}, "elm-1", "ELM", "$.t", "$.used.in $.used.out"),
        ("program.md", "https://ash.example/v1/chat", {"Authorization": "Bearer {key}"}, "ash-7b", "ASH_KEY", "$.message.content", "$.prompt_eval $.eval"),
        ("program.html", "https://oak.example/api", {"x-oak-key": "{key}"}, "oak-2-vision", "OAK_KEY", "$.answer", "$.tokens.prompt $.tokens.answer"),
        ("prose.md", "https://rowan.example/api/v1/look", {"X-Rowan": "{key}"}, "rowan-l", "IT_KEY", "$.outcome", "$.cost.in_tokens $.cost.out_tokens"),
        ("kinds.yaml", "https://stork.example/api/chat", {"stork-key": "{key}"}, "stork-1", "IT_KEY", "$.text", "$.usage.prompt $.usage.completion"),
        ("header-question.md", "https://gull.example/v1/describe", {"X-Api-Key": "{key}", "X-Question": "{turns.text?}", "Content-Type": "{image.media_type}"}, "it", "IT_KEY", "$.caption", ""),
        ("quoted.md", "https://vulture.example/v1/x", {"Authorization": "ApiKey {key}"}, "vulture-2-vision", "IT_KEY", "$.r", "$.c[0] $.c[1]"),
    ],
)  # fmt: skip
def test_a_page_is_learned_as_a_person_reads_it(
    page: str, url: str, headers: dict[str, str], model: str, key_env: str, text: str, tokens: str
) -> None:
    one = of_text((PAGES / page).read_text())
    request = request_of(one)
    assert one.url + request["path"] == url
    assert (request["headers"], one.model, one.key_env) == (headers, model, key_env)
    assert reply_of(one)["text"] == text
    assert " ".join(filter(None, counts(one))) == tokens
    written = json.dumps(request)
    assert any(slot in written for slot in ("{turns.text", "{part.text", "{turn.text"))
    assert any(f"{slot}}}" in written.replace("?", "") for slot in ("base64", "data_url", "address"))
    assert "key" not in {guess.role for guess in one.guesses}


def test_the_errors_of_a_page_are_no_answers_wherever_they_stand() -> None:
    assert reply_of(of_text((PAGES / "error-first.md").read_text()))["error"] == "$.error.message"
    one = of_text((PAGES / "traded-key.md").read_text())
    assert (reply_of(one)["text"], reply_of(one)["error"]) == ("$.say", "$.no")


def test_a_key_that_is_traded_for_a_pass_goes_nowhere_else() -> None:
    one = of_text((PAGES / "traded-key.md").read_text())
    (step,) = tomllib.loads(one.text)["steps"]
    assert (step["per"], step["path"], json.loads(step["body"])) == ("request", "/pass", {"key": "{key}"})
    assert (step["take"], step["valid_for"]) == ({"pass": "$.pass"}, 540)
    assert request_of(one)["headers"] == {"Authorization": "Pass {taken.pass}"}
    assert one.key_env == "IT_KEY"
    assert "lp-88d1f0a2c4" not in one.text


@pytest.mark.parametrize(
    ("header", "wanted"),
    [
        ("Authorization: Bearer YOUR_ACCOUNT_KEY", "Bearer {key}"), ("X-Any: xx-xxxxxxxx", "{key}"), ("Any: <KEY>", "{key}"),
        ("Any: {{key}}", "{key}"), ("Any: $NAME", "{key}"), ("Any: %NAME%", "{key}"), ("Any: $env:NAME", "{key}"),
        ("Authorization: Token token=YOUR_TOKEN", "Token token={key}"), ("Authorization: Key YOUR_ID:YOUR_SECRET", "Key {key}"),
        ('Authorization: Token token="<token>", v=1', 'Token token="{key}", v=1'), ("Any: [YOUR KEY]", "{key}"),
        ("Authorization: Basic <base64 of your key>", "Basic {key.basic}"), ("Authorization: ApiKey …", "ApiKey {key}"),
    ],
)  # fmt: skip
def test_a_place_to_fill_in_is_the_key_and_what_surrounds_it_stays(header: str, wanted: str) -> None:
    body = json.dumps({"q": "What is it?", "pic": B64})
    one = of_text(f"curl https://h.example/ask -H '{header}' -d '{body}'")
    (value,) = request_of(one)["headers"].values()
    assert value == wanted
    assert one.key == ""  # nothing of it is sent
    assert one.key_env is not None


def test_an_account_and_its_password_are_sent_as_basic_authorization_has_them() -> None:
    one = of_text('curl -u "$NAME:$PASSWORD" https://birch.example/q -F file=@x.png -F "ask=What is written there?"')
    assert request_of(one)["headers"] == {"Authorization": "Basic {key.basic}"}


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ('{"a": 1, // one\n "b": [2, 3,], ...}', {"a": 1, "b": [2, 3]}),
        ("{'a': True, 'b': None,}", {"a": True, "b": None}),
        ('{\u201ca\u201d: \u201cb c\u201d, "d": <NUMBER>}', {"a": "b c", "d": "<NUMBER>"}),
        ('{"a": "…", /* left out */ "b": {…}, "c": […]}', {"a": "…", "b": {}, "c": []}),
        ('{a: 1, "b": "it\'s", # so\n}', {"a": 1, "b": "it's"}),
        ('{"url": "https://h.example//x", "n": 1_000}', {"url": "https://h.example//x", "n": 1000}),
    ],
)  # fmt: skip
def test_json_with_the_slips_of_documentation_is_read(text: str, value: Any) -> None:
    assert read_literal(text) == value


def test_what_a_comment_says_of_a_member_tells_what_it_is_for() -> None:
    _, told = literal_with_comments('{\n "hold": 800, // tokens at most\n // which model\n "ship": "s"\n}')
    assert told == {"hold": "tokens at most", "ship": "which model"}
    body = '{"w": "What is it?", "pic": "%s", "ship": "alba", // which model answers\n "hold": 800 /* most tokens of the answer */}'
    one = of_text(f"curl https://h.example/ask -d '{body % B64}'")
    assert (one.model, one.limit) == ("alba", ("hold", 800))
    assert {guess.role for guess in one.guesses} <= {"answer"}


def test_a_body_in_single_quotes_may_have_apostrophes_that_nobody_escaped() -> None:
    one = of_text(
        f"""curl https://h.example/ask -d '{{"q": "What's in the child's hand?", "pic": "{B64}"}}' -H 'A: b'"""
    )
    assert request_of(one)["body"] == {"q": "{turns.text?}", "pic": "{image.base64?}"}
    assert request_of(one)["headers"] == {"A": "b"}


def test_a_list_of_models_is_no_step_and_says_which_member_is_the_model() -> None:
    page = """
curl https://h.example/tools -H "Authorization: Bearer $K"
{"tools": [{"name": "saw"}, {"name": "plane"}]}

curl https://h.example/work -H "Authorization: Bearer $K" -d '{"with": "saw", "style": "short", "q": "What is it?"}'
{"made": "A cap lies on the tray."}

curl https://h.example/work -H "Authorization: Bearer $K" -d '{"with": "plane", "style": "short", "q": "What is it?", "pic": "%s"}'
{"made": "A cap lies on the tray."}
"""
    one = of_text(page % B64)
    assert "steps" not in tomllib.loads(one.text)
    assert request_of(one)["body"] == {
        "with": "{model}",
        "style": "short",
        "q": "{turns.text?}",
        "pic": "{image.base64?}",
    }
    assert "model" not in {guess.role for guess in one.guesses}


def test_the_wait_is_for_the_state_that_has_the_answer_and_others_are_failures() -> None:
    page = """
curl https://h.example/jobs -d '{"q": "What is it?", "pic": "%s"}'
{"job": "j-77a1", "phase": "waiting"}

curl https://h.example/jobs/j-77a1
{"job": "j-77a1", "phase": "running"}

curl https://h.example/jobs/j-77a1
{"job": "j-77a1", "phase": "home", "text": "A cap lies on the tray."}

If it fails:

{"job": "j-77a1", "phase": "sunk", "why": "the engine is ill"}
"""
    request = request_of(of_text(page % B64))
    assert (request["until"]["at"], request["until"]["is"]) == ("$.phase", ["home"])
    assert request["until"]["fails"][0] == "sunk"


def test_tokens_without_a_name_are_told_by_their_sum_and_size_and_said_to_be_guessed() -> None:
    reply = '{"t": "A cap lies on the tray.", "n": {"x": 320, "y": 7, "z": 327}, "took_ms": 900}'
    one = of_text(f"curl https://h.example/ask -d '{json.dumps({'q': 'What is it?', 'pic': B64})}'\n{reply}")
    assert counts(one) == ("$.n.x", "$.n.y")
    listed = '{"t": "A cap lies on the tray.", "bill": [{"of": "words", "count": 7}, {"of": "pixels", "count": 300}]}'
    two = of_text(f"curl https://h.example/ask -d '{json.dumps({'q': 'What is it?', 'pic': B64})}'\n{listed}")
    assert counts(two) == ("$.bill[?@.of == 'pixels'].count", "$.bill[?@.of == 'words'].count")
    assert {"input tokens", "output tokens"} <= {guess.role for guess in two.guesses}


def test_words_before_and_after_the_picture_are_one_question() -> None:
    parts = [{"text": "You see a tray."}, {"pic": B64}, {"text": "What lies on it?"}]
    one = of_text(f"curl https://h.example/ask -d '{json.dumps({'parts': parts})}'")
    assert "system text" not in {part.role for part in one.taken}
    assert request_of(one)["body"]["parts"][0]["each turn"][0]["each part"][0] == {
        "when part.text": {"text": "{part.text}"}
    }


def test_only_pieces_of_the_answers_kind_are_joined() -> None:
    reply = '{"out": [{"as": "musing", "v": "Let me see what there is on the tray."}, {"as": "said", "v": "A cap "}, {"as": "said", "v": "lies there."}]}'
    one = of_text(f"curl https://h.example/ask -d '{json.dumps({'q': 'What is it?', 'pic': B64})}'\n{reply}")
    assert reply_of(one)["text"] == "$.out[?@.as == 'said'].v"


def test_a_document_of_references_to_itself_comes_to_an_end() -> None:
    schema = {f"S{n}": {"type": "object", "properties": {f"p{m}": {"$ref": f"#/components/schemas/S{(n + m) % 9}"} for m in range(9)}} for n in range(9)}  # fmt: skip
    post = {
        "requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/S0"}}}},
        "responses": {},
    }
    document = {"openapi": "3.0.0", "servers": [{"url": "https://h.example"}], "components": {"schemas": schema}, "paths": {"/a": {"post": post}}}  # fmt: skip
    (exchange,) = read_sample(json.dumps(document), SampleFiles(PAGES))
    assert exchange.request.url == "https://h.example/a"


def test_what_a_reply_gives_goes_where_its_like_is_in_the_next_request() -> None:
    one = of_text((PAGES / "upload-address.md").read_text())
    first, second = tomllib.loads(one.text)["steps"]
    assert first["take"] == {"handle": "$.upload.put_to", "handle_2": "$.upload.place"}
    assert json.loads(first["body"]) == {"type": "{image.media_type}"}
    assert (second["path"], "query" in second) == ("{image.handle}", False)
    assert request_of(one)["body"]["about"] == {"when pictures": {"place": "{image.handle_2}"}}
    assert first["valid_for"] > second["valid_for"]  # what is put there is not put where nothing is


def test_a_session_is_opened_for_each_question_and_no_pass_is_kept() -> None:
    one = of_text((PAGES / "session.md").read_text())
    (step,) = tomllib.loads(one.text)["steps"]
    assert "valid_for" not in step  # the service remembers what was asked in a session
    assert request_of(one)["path"] == "/sessions/{taken.pass}/messages"


def test_a_variable_that_is_named_like_an_address_is_the_one_in_the_pages_words() -> None:
    one = of_text((PAGES / "base-url.md").read_text())
    assert (one.url, request_of(one)["path"]) == ("https://crane.example", "/v1/images:annotate")
    assert request_of(one)["query"] == {"key": "{key}"}
    assert one.dialect.names == {}  # a model's name beside each request does not make turns of them


def test_what_is_to_be_filled_in_is_never_sent_as_it_is() -> None:
    body = {"q": "What is it?", "pic": B64, "team": "<YOUR_TEAM>", "tone": "plain"}
    one = of_text(
        f"curl https://h.example/ask -H 'Authorization: Bearer $K' -H 'X-Project: YOUR_PROJECT' -d '{json.dumps(body)}'"
    )
    assert request_of(one)["body"]["team"] == "{extra.team?}"
    assert request_of(one)["headers"]["X-Project"] == "{extra.x_project?}"
    assert "to be filled in" in {guess.role for guess in one.guesses}
    assert "$.tone" in one.fixed


def test_tokens_are_told_by_what_grew_with_the_picture() -> None:
    words = '{"t": "A ferry is a ship that carries people.", "n": [{"of": "a", "c": 11}, {"of": "b", "c": 15}]}'
    picture = '{"t": "LANTERN", "n": [{"of": "a", "c": 92}, {"of": "b", "c": 1}]}'
    exchanges = read_sample(
        f"curl https://h.example/ask -d '{json.dumps({'q': 'What is it?', 'pic': B64})}'", SampleFiles(PAGES)
    )
    one = learn("it", exchanges, [read_reply(words), read_reply(picture)])
    assert counts(one) == ("$.n[?@.of == 'a'].c", "$.n[?@.of == 'b'].c")
    assert "input tokens" not in {guess.role for guess in one.guesses}


def test_a_body_alone_gets_the_usual_header_for_its_key_or_the_one_that_is_named(tmp_path: Path) -> None:
    body = json.dumps({"q": "What is it?", "pic": B64})
    exchanges = read_sample(body, SampleFiles(tmp_path), "https://h.example/ask")
    one = learn("it", exchanges, told={"key_header": "X-Pass", "key_env": "K"})
    assert (request_of(one)["headers"], one.key_env) == ({"X-Pass": "{key}"}, "K")
    two = learn("it", exchanges, told={"key_header": "Authorization: Token {key}"})
    assert request_of(two)["headers"] == {"Authorization": "Token {key}"}
