"""`drovik talk`: what was said is kept and sent again; pictures come in when they are shown."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, Reply
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


def talk(drovik: Drovik, said: str, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([PROGRAM, "talk", *words], input=said, capture_output=True, text=True, timeout=60,
                          env=drovik.environment, cwd=drovik.folder)  # fmt: skip


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
    assert done.returncode == 0, done.stderr
    assert [line for line in done.stdout.splitlines() if line.startswith("Answer")] == [
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
    assert "3 answers: 9000 tokens in, 30 out; 0.090600 EUR" in done.stdout


def test_a_conversation_is_saved_as_text_and_as_json(drovik: Drovik, clerk: FakeService) -> None:
    done = talk(drovik, "/save c.json\n/save c.txt\n/save no/such/c.txt\n", str(IMAGES / "lp-001.jpg"), "What is it?")
    assert done.returncode == 0
    saved = json.loads((drovik.folder / "c.json").read_text())
    assert saved == {
        "model": "m",
        "system": "",
        "turns": [{"pictures": ["lp-001.jpg"], "question": "What is it?", "answer": "Answer 1."}],
    }
    assert (drovik.folder / "c.txt").read_text() == "# m\n[lp-001.jpg]\n> What is it?\nAnswer 1.\n"
    assert "no/such/c.txt: cannot be written" in done.stderr


def test_an_error_is_told_and_the_conversation_goes_on(drovik: Drovik, serve: Serve) -> None:
    service = serve(
        lambda n, b: (400, {}, b'{"oh": "not that, please"}') if n == 1 else reply({"answer": f"Answer {n + 1}."})
    )
    set_up(drovik, f"http://127.0.0.1:{service.port}", DIALECT, "limits = { max_tries = 1 }")
    done = talk(drovik, "One?\nTwo?\n/picture nowhere.png\n/dance\nThree?\n")
    assert done.returncode == 0
    assert "not that, please" in done.stderr
    assert "nowhere.png: no such picture" in done.stderr
    assert "/save FILE" in done.stdout  # what is not a command shows those that are
    assert [turn["says"] for turn in service.requests[-1]["talk"]] == ["One?", "Answer 1.", "Three?"]
    assert talk(drovik, "", "-").stderr.startswith("drovik: what you say comes by standard input")


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
    assert refused.returncode == 2
    assert "write {turns.text} in place of {last.text}" in refused.stderr
