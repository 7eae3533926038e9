"""`drovik talk`: what was said is kept and sent again; pictures come in when they are shown."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, Result
from test_ask import IMAGES
from test_endpoint import reply, set_up

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
DIALECT = """
[request]
path = "/ask"
body = '{"of": "{model}", "rules": "{system?}", "talk": [{"each turn": {"by": "{turn.by}", "says": "{turn.text?}", "shows": [{"each image": "{image.base64}"}]}}], "warm": "{temperature?}"}'
[names]
user = "visitor"
assistant = "clerk"
[reply]
text = "$.answer"
input_tokens = "$.in"
output_tokens = "$.out"
"""
PRICE = 'price = { currency = "EUR", input = 10, output = 20 }\nsettings = { temperature = 0.5 }\n'


def talk(drovik: Drovik, said: str, *words: str) -> Result:
    return drovik("talk", *words, said=said)


@pytest.fixture
def clerk(drovik: Drovik, serve: Serve) -> FakeService:
    """A service that numbers its answers."""
    service = serve(lambda n, b: reply({"answer": f"Answer {n + 1}.", "in": 1000 * len(b["talk"]), "out": 10}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", DIALECT)
    home = next(path for path in (drovik.folder.parent / "config").rglob("drovik.toml"))
    home.write_text(home.read_text() + PRICE)
    return service


def test_what_was_said_is_sent_again_with_each_question(drovik: Drovik, clerk: FakeService) -> None:
    picture, second = str(IMAGES / "lp-001.jpg"), str(IMAGES / "lp-002.jpg")
    said = f"What is it?\n\n  And whose? \n/picture {second}\nIs this one like it?\n/cost\nEXIT\nnot asked\n"
    done = talk(drovik, said, picture, "--system", "Be short.")
    assert done.code == 0, done.err
    assert [line for line in done.out.splitlines() if line.startswith("Answer")] == [
        "Answer 1.",
        "Answer 2.",
        "Answer 3.",
    ]
    assert len(clerk.requests) == 3
    last = clerk.requests[-1]
    assert (last["rules"], last["warm"]) == ("Be short.", 0.5)
    assert [(turn["by"], turn["says"]) for turn in last["talk"]] == [
        ("visitor", "What is it?"), ("clerk", "Answer 1."), ("visitor", "And whose?"), ("clerk", "Answer 2."),
        ("visitor", "Is this one like it?")]  # fmt: skip
    assert [len(turn.get("shows", [])) for turn in last["talk"]] == [1, 0, 0, 0, 1]
    # 1000, 3000 and 5000 tokens in at 10, 30 out at 20 per million
    assert "3 answers: 9000 tokens in, 30 out; 0.090600 EUR" in done.out


def test_a_conversation_is_saved_as_text_and_as_json(drovik: Drovik, clerk: FakeService) -> None:
    done = talk(drovik, "/save c.json\n/save c.txt\n/save no/such/c.txt\n", str(IMAGES / "lp-001.jpg"), "What is it?")
    assert done.code == 0
    saved = json.loads((drovik.folder / "c.json").read_text())
    assert saved == {
        "model": "m",
        "system": "",
        "turns": [{"pictures": ["lp-001.jpg"], "question": "What is it?", "answer": "Answer 1."}],
    }
    assert (drovik.folder / "c.txt").read_text() == "# m\n[lp-001.jpg]\n> What is it?\nAnswer 1.\n"
    assert "no/such/c.txt: cannot be written" in done.err


def test_an_error_is_told_and_the_conversation_goes_on(drovik: Drovik, serve: Serve) -> None:
    service = serve(
        lambda n, b: (400, {}, b'{"oh": "not that, please"}') if n == 1 else reply({"answer": f"Answer {n + 1}."})
    )
    set_up(drovik, f"http://127.0.0.1:{service.port}", DIALECT, "limits = { max_tries = 1 }")
    done = talk(drovik, "One?\nTwo?\n/picture nowhere.png\n/dance\nThree?\nThree?\n")
    assert done.code == 0
    assert "not that, please" in done.err
    assert "nowhere.png: no such picture" in done.err
    assert "not sent, for the picture before it could not be shown" in done.err
    assert len(service.requests) == 3  # and the question was put again
    assert "/save FILE" in done.out  # what is not a command shows those that are
    assert [turn["says"] for turn in service.requests[-1]["talk"]] == ["One?", "Answer 1.", "Three?"]
    assert talk(drovik, "", "-").err.startswith("drovik: what you say comes by standard input")


def test_a_service_without_turns_gets_the_conversation_as_one_text_or_says_that_it_cannot(
    drovik: Drovik, serve: Serve
) -> None:
    service = serve(lambda n, b: reply({"answer": f"Answer {n + 1}."}))
    flat = DIALECT.replace('"talk": [{"each turn": {"by": "{turn.by}", "says": "{turn.text?}", "shows": [{"each image": "{image.base64}"}]}}]',
                           '"q": "{turns.text}"')  # fmt: skip
    set_up(drovik, f"http://127.0.0.1:{service.port}", flat)
    talk(drovik, "One?\nTwo?\n")
    assert service.requests[-1]["q"] == "visitor: One?\n\nclerk: Answer 1.\n\nvisitor: Two?"
    set_up(drovik, f"http://127.0.0.1:{service.port}", flat.replace("turns.text", "last.text"))
    refused = talk(drovik, "One?\nTwo?\n")
    assert refused.code == 2
    assert "write {turns.text} in place of {last.text}" in refused.err


def test_two_models_are_talked_with_side_by_side_and_each_remembers_its_own_words(
    drovik: Drovik, clerk: FakeService
) -> None:
    home = next(path for path in (drovik.folder.parent / "config").rglob("drovik.toml"))
    home.write_text(home.read_text() + '[models.other]\nendpoint = "it"\nid = "o:1/b"\n')
    done = talk(
        drovik, "And whose?\nbye\n", str(IMAGES / "lp-001.jpg"), "What is it?", "--model", "m", "--model", "o:1/b"
    )
    assert done.code == 0, done.err
    asked = [body["of"] for body in clerk.requests]
    assert [sorted(asked[:2]), sorted(asked[2:])] == [["m-1", "o:1/b"]] * 2  # both at once, whichever is first
    for model in ("m-1", "o:1/b"):
        first, second = (body for body in clerk.requests if body["of"] == model)
        said = f"Answer {clerk.requests.index(first) + 1}."
        assert [turn["says"] for turn in second["talk"]] == ["What is it?", said, "And whose?"]
    assert done.out.index("m\n") < done.out.index("other\n")


@pytest.mark.parametrize("way", ["'{}'", '"{}"', "{}", "/picture '{}'"])
def test_a_picture_that_is_dragged_in_is_shown(drovik: Drovik, clerk: FakeService, way: str) -> None:
    file = drovik.folder / "a tray (1).jpg"
    file.write_bytes((IMAGES / "lp-001.jpg").read_bytes())
    path = str(file) if way != "{}" else str(file).replace(" ", "\\ ").replace("(", "\\(").replace(")", "\\)")
    done = talk(drovik, f"{way.format(path)} \nWhat is it?\nQuit.\n")
    assert "a tray (1).jpg goes with the next question" in done.out
    assert len(clerk.requests) == 1
    assert len(clerk.requests[0]["talk"][0]["shows"]) == 1


def test_a_conversation_is_kept_as_a_task_and_nothing_of_it_is_sent_again(drovik: Drovik, clerk: FakeService) -> None:
    second = str(IMAGES / "lp-002.jpg")
    done = talk(drovik, f"And whose?\n/picture {second}\nIs this one like it?\n", str(IMAGES / "lp-001.jpg"), "What is it?",
                "--keep", "desk/talk")  # fmt: skip
    assert "3 answers came along" in done.out, done.out + done.err
    sent = drovik("send", "--project", "desk", "--json").json
    assert sent["to_send"] == 0, sent
    assert len(clerk.requests) == 3
    assert "Answer 3." in drovik("show", "lp-001", "--project", "desk").out


def test_a_service_that_cannot_tell_who_speaks_gets_it_in_words(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, b: reply({"answer": f"Answer {n + 1}."}))
    parts = '"talk": [{"each turn": [{"each part": [{"when part.text": {"t": "{part.text}"}}, {"when part.picture": {"p": "{part.base64}"}}]}]}]'
    flat = DIALECT.replace(
        '"talk": [{"each turn": {"by": "{turn.by}", "says": "{turn.text?}", "shows": [{"each image": "{image.base64}"}]}}]',
        parts,
    )
    set_up(drovik, f"http://127.0.0.1:{service.port}", flat)
    done = talk(drovik, "Two?\n", str(IMAGES / "lp-001.jpg"), "One?")
    assert "takes one question at a time" in done.err
    said = [part["t"] for part in service.requests[-1]["talk"] if "t" in part]
    assert said == ["visitor: One?", "clerk: Answer 1.", "visitor: Two?"]
