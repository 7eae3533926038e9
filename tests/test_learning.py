"""What a sample is taken for: pages, bodies, several requests, replies of every form; and what is marked as a guess."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest

from drovik.dialects.learn.sample_dialect import Learned, learn
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.dialects.learn.samples import read_reply, read_sample

B64 = "iVBORw0KGgoAAAANSUhEUg=="


def learned(
    body: Any, reply: str = '{"answer": "A cap lies on the tray."}', head: str = "-H 'Authorization: Bearer $K'"
) -> Learned:
    text = f"curl https://h.example/v1/ask {head} -d '{json.dumps(body)}'"
    return learn("it", read_sample(text, SampleFiles(Path())), [read_reply(reply)])


def body_of(one: Learned) -> Any:
    return json.loads(tomllib.loads(one.text)["request"]["body"])


def reply_of(one: Learned) -> dict[str, Any]:
    found = tomllib.loads(one.text)["reply"]
    return {name: value for name, value in found.items() if name not in ("cut_off", "refused")}


def guesses(one: Learned) -> set[str]:
    return {guess.role for guess in one.guesses} - {"cut off, refused", "who answers"}


def test_a_page_of_markup_and_one_of_fences_are_read_alike() -> None:
    body = json.dumps({"q": "What's in it?", "pic": B64})
    curl = 'curl https://h.example/ask \\\n  -H "Key: $K" \\\n  --json \'' + body.replace("'", "'\\''") + "'"
    reply = '{"answer": "A cap & a hat."}'
    fences = f"# Ask\n\nText.\n\n```bash\n{curl}\n```\n\nreplies\n\n```\n{reply}\n```\n"
    page = f"<html><body><pre><code>{curl.replace('&', '&amp;')}</code></pre><p>x</p><PRE>{reply.replace('&', '&amp;')}</PRE></body>"
    windows = f"$ {curl}\n{reply}".replace("\n", "\r\n")
    found = [learn("it", read_sample(text, SampleFiles(Path()))).text for text in (fences, page, windows)]
    assert found[0] == found[1] == found[2]
    assert json.loads(tomllib.loads(found[0])["request"]["body"]) == {"q": "{turns.text?}", "pic": "{image.base64?}"}


@pytest.mark.parametrize(
    ("body", "wanted"),
    [
        # a media type, a format and a name beside a picture
        ({"q": "What is it?", "pics": [{"mime": "image/png", "ext": "png", "title": "a.png", "b": B64}]},
         {"q": "{turns.text?}", "pics": [{"each image": {"mime": "{image.media_type}", "ext": "{image.format}", "title": "{image.name}",
                                                         "b": "{image.base64}"}}]}),
        # what only wraps pictures goes with them
        ({"q": "What is it?", "media": {"sort": "still", "items": [B64]}},
         {"q": "{turns.text?}", "media": {"when pictures": {"sort": "still", "items": [{"each image": "{image.base64}"}]}}}),
        # what only wraps a schema goes with it
        ({"q": "What is it?", "pic": B64, "form": {"sort": "json", "of": {"type": "object", "properties": {"a": {}}}}},
         {"q": "{turns.text?}", "pic": "{image.base64?}", "form": {"when schema": {"sort": "json", "of": "{schema}"}}}),
        # braces in what is kept stay braces
        ({"q": "What is it?", "pic": B64, "mark": "{key} {{x}}"},
         {"q": "{turns.text?}", "pic": "{image.base64?}", "mark": "{{key}} {{{x}}}"}),
        # settings by their usual names
        ({"q": "What is it?", "pic": B64, "c": {"Temperature": 0.1, "top-p": 0.9, "topK": 40, "maxNewTokens": 99, "random_seed": 7}},
         {"q": "{turns.text?}", "pic": "{image.base64?}", "c": {"Temperature": "{temperature?}", "top-p": "{top_p?}", "topK": "{top_k?}",
                                                               "maxNewTokens": "{max_output_tokens?}", "random_seed": "{seed?}"}}),
        # a list of a text and a picture, without turns
        ({"of": ["What is it?", B64]}, {"of": [{"each turn": [{"each part": [{"when part.text": "{part.text}"}, {"when part.picture": "{part.base64}"}]}]}]}),
        # a further place for a picture
        ({"q": "What is it?", "a": B64, "b": B64}, {"q": "{turns.text?}", "a": "{image.base64?}", "b": "{extra.another_picture?}"}),
    ],
)  # fmt: skip
def test_parts_of_a_body_become_slots(body: Any, wanted: Any) -> None:
    assert body_of(learned(body)) == wanted


def test_a_conversation_names_both_sides_and_the_house() -> None:
    talk = [{"who": "chief", "text": "Be kind to all."}, {"who": "guest", "text": "Hello to you."}, {"who": "host", "text": "And to you."},
            {"who": "guest", "text": "What is it?", "pic": {"url": f"data:image/png;base64,{B64}"}}]  # fmt: skip
    one = learned({"talk": talk})
    assert one.dialect.names == {"user": "guest", "assistant": "host"}
    assert body_of(one)["talk"][0] == {"when system": {"who": "chief", "text": "{system}"}}
    turn = body_of(one)["talk"][1]["each turn"]
    assert turn == {"who": "{turn.by}", "text": "{turn.text?}", "pic": {"when pictures": {"url": "{image.data_url}"}}}
    assert "who answers" not in {guess.role for guess in one.guesses}


def test_a_person_may_name_the_models_turns() -> None:
    text = f"curl https://h.example/ask -d '{json.dumps({'talk': [{'by': 'asker', 'says': 'What is it?', 'pics': [B64]}]})}'"
    one = learn(
        "it",
        read_sample(text, SampleFiles(Path())),
        [read_reply('{"answer": "A cap lies there."}')],
        {"assistant": "desk"},
    )
    assert one.dialect.names == {"user": "asker", "assistant": "desk"}
    assert "who answers" not in {guess.role for guess in one.guesses}


def test_model_and_headers() -> None:
    text = f"curl 'https://h.example/v2/models/auk-7:answer?mode=quick' -H 'X-Key: $MINE' -H 'X-Version: 3' -H 'Idempotency-Key: abc' -d '{{\"q\": \"What?\", \"pic\": \"{B64}\"}}'"
    one = learn("it", read_sample(text, SampleFiles(Path())))
    request = tomllib.loads(one.text)["request"]
    assert (one.model, one.key_env, request["path"]) == ("auk-7", "MINE", "/v2/models/{model}:answer")
    assert request["headers"] == {"X-Key": "{key}", "X-Version": "3", "Idempotency-Key": "{request.id}"}
    assert request["query"] == {"mode": "quick"}
    assert "answer" in guesses(one)  # there is no reply to learn from


@pytest.mark.parametrize(
    ("reply", "wanted", "marked"),
    [
        ('{"a": {"b": [{"text": "A cap lies"}, {"text": " on the tray."}]}, "why": "end"}', {"text": "$.a.b[*].text", "ended": "$.why"}, set()),
        ('{"p": [{"type": "thinking", "t": "Let me see what there is on it."}, {"type": "out", "t": "A red cap lies there."}]}',
         {"text": "$.p[?@.type == 'out'].t"}, set()),
        ('{"x": "A cap lies there.", "y": "A hat lies there."}', {"text": "$.x"}, {"answer"}),
        ('{"answer": "A cap lies there.", "usage": {"tokens_total": 9, "tokens_of_prompt": 5, "tokens_of_answer": 4}}',
         {"text": "$.answer", "input_tokens": "$.usage.tokens_of_prompt", "output_tokens": "$.usage.tokens_of_answer"}, set()),
        ('{"answer": "A cap lies there.", "usage": {"a": 5, "b": 4}}', {"text": "$.answer", "input_tokens": "$.usage.a", "output_tokens": "$.usage.b"},
         {"input tokens", "output tokens"}),
        ('{"answer": "A cap lies there.", "error": null}', {"text": "$.answer", "error": "$.error"}, set()),
        ('data: {"d": "A cap"}\n\ndata: {"d": "A cap lies"}\n\ndata: {"d": "A cap lies there.", "end": "stop"}\n\n',
         {"form": "events", "text": "$.d", "joined": "last", "ended": "$.end"}, set()),
        ('event: t\ndata: {"d": "A cap "}\n\nevent: t\ndata: {"d": "lies there."}\n\nevent: over\ndata: {"n": {"output_tokens": 4, "input_tokens": 9}}\n\n',
         {"form": "events", "text": "$.d", "text_events": ["t"], "finish": ["over"], "input_tokens": "$.n.input_tokens", "output_tokens": "$.n.output_tokens"},
         set()),
        ('{"d": "A cap ", "tokens": {"out": 2}}\n{"d": "lies there.", "tokens": {"out": 1}}\n{"d": "", "done": "yes"}\n',
         {"form": "lines", "text": "$.d", "ended": "$.done", "output_tokens": "$.tokens.out", "usage": "sum"}, set()),
        ("HTTP/2 200\ncontent-type: text/plain\nx-tokens-in: 9\nx-model: auk-7\n\nA cap lies there.",
         {"form": "text", "input_tokens": "header x-tokens-in", "model": "header x-model"}, set()),
    ],
)  # fmt: skip
def test_replies_of_every_form_are_read(reply: str, wanted: dict[str, Any], marked: set[str]) -> None:
    one = learned({"q": "What is it?", "pic": B64}, reply)
    assert reply_of(one) == wanted
    assert guesses(one) - {"usage", "why it ended"} == marked


@pytest.mark.parametrize(("given", "take"), [('{"slot": {"no": "/slots/u-774411"}}', "$.slot.no"), ("HTTP/1.1 201 Created\nLocation: /slots/u-774411", "header Location")])  # fmt: skip
def test_a_picture_that_is_put_where_a_reply_says_and_an_answer_that_comes_later(given: str, take: str) -> None:
    text = f"""
curl https://h.example/slots -H "Pass: $K" -X POST
{given}

curl https://h.example/slots/u-774411 -H "Pass: $K" -H "Content-Type: image/png" -T photo.png
HTTP/1.1 204 No Content

curl https://h.example/ask -H "Pass: $K" -d '{{"question": "What is it?", "seen": ["/slots/u-774411"], "model": "auk-7"}}'
{{"run": {{"no": "r-5521"}}, "status": "queued"}}

curl https://h.example/runs/r-5521 -H "Pass: $K"
{{"run": {{"no": "r-5521"}}, "status": "finished", "text": "A cap lies on the tray."}}
"""
    table = tomllib.loads(learn("it", read_sample(text, SampleFiles(Path()))).text)
    slot, hand_over, put_in = table["steps"]
    assert (slot["per"], slot["path"], slot["take"], slot["headers"]) == (
        "picture",
        "/slots",
        {"handle": take},
        {"Pass": "{key}"},
    )
    assert (hand_over["per"], hand_over["method"], hand_over["path"]) == ("picture", "PUT", "{image.handle}")
    assert (hand_over["raw"], hand_over["headers"]["Content-Type"]) == ("{image.base64}", "{image.media_type}")
    assert (put_in["per"], put_in["path"], put_in["take"]) == ("request", "/ask", {"job": "$.run.no"})
    assert json.loads(put_in["body"]) == {
        "question": "{turns.text?}",
        "seen": [{"each image": "{image.handle}"}],
        "model": "{model}",
    }
    assert table["request"]["path"] == "/runs/{taken.job}"
    assert (table["request"]["until"]["at"], table["request"]["until"]["is"]) == ("$.status", ["finished"])
    assert table["reply"]["text"] == "$.text"


def test_what_is_learned_again_keeps_what_was_mended_by_hand(tmp_path: Path) -> None:
    from drovik.dialects.learn.learned_files import free_model_name
    from drovik.dialects.learn.sample_dialect import dialect_there, write_learned

    one = learned({"q": "What is it?", "pic": B64, "model": "auk-7"})
    write_learned(one, tmp_path, "auk-7")
    path = tmp_path / "dialects/it.toml"
    path.write_text(path.read_text() + "\n# edited\n")
    write_learned(one, tmp_path, "auk-7", dialect_there(tmp_path, "it"))
    assert (tmp_path / "dialects/it.toml.before").read_text().endswith("# edited\n")
    assert free_model_name(tmp_path, "it", "auk-7") == "auk-7"
    assert free_model_name(tmp_path, "other", "auk-7") == "other-auk-7"
