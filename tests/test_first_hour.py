"""What stops people in their first hour: learning again, a service's own words, files of theirs, waiting without a sign."""

from __future__ import annotations

import json
import os
import pty
import re
import select
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, Reply
from test_ask import IMAGES
from test_endpoint import reply, set_up

from drovik.project.dialects import ErrorWords
from drovik.transport.outcomes import outcome_of, remedy_of

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
B64 = "iVBORw0KGgoAAAANSUhEUg=="


def page(port: int, **more: Any) -> str:
    body = {"model": "auk-7", "q": "What is it?", "pic": B64, **more}
    return f"curl http://127.0.0.1:{port}/ask -H 'Pass: $AUK_KEY' -d '{json.dumps(body)}'\n"


def settings_of(drovik: Drovik) -> Path:
    return next(Path(drovik.environment["XDG_CONFIG_HOME"]).rglob("drovik.toml"))


# Learning again.


def test_learning_again_says_what_changed_and_takes_back_nothing_that_was_changed_by_hand(drovik: Drovik) -> None:
    file = drovik.folder / "auk.md"
    file.write_text(page(8701, temperature=0.2))
    assert drovik("endpoint", "learn", "auk", "auk.md", "--no-try").code == 0
    settings = settings_of(drovik)
    dialect = settings.parent / "dialects/auk.toml"
    file.write_text(page(8702, temperature=0.9))
    again = drovik("endpoint", "learn", "auk", "auk.md", "--no-try")
    assert 'changed in drovik.toml: endpoints.auk.url: "http://127.0.0.1:8701" → "http://127.0.0.1:8702"' in again.out
    assert "Left as they are in drovik.toml: models.auk-7.settings.temperature: 0.2 → 0.9" in again.err
    assert "temperature = 0.2" in settings.read_text()
    dialect.write_text(dialect.read_text().replace('"{turns.text?}"', '"Please: {turns.text?}"'))
    mine = dialect.read_text()
    refused = drovik("endpoint", "learn", "auk", "auk.md", "--no-try")
    assert (refused.code, dialect.read_text()) == (2, mine)
    assert "dialects/auk.toml was changed by hand; --force writes what was learned" in refused.err
    assert drovik("endpoint", "learn", "auk", "auk.md", "--no-try", "--force").code == 0
    assert dialect.with_suffix(".toml.before").read_text() == mine
    assert "temperature = 0.9" in settings.read_text()


def test_a_second_service_is_said_not_to_be_the_one_that_ask_takes(drovik: Drovik) -> None:
    for name in ("first", "second"):
        (drovik.folder / f"{name}.md").write_text(page(8701, model=f"{name}-1"))
    drovik("endpoint", "learn", "first", "first.md", "--no-try")
    second = drovik("endpoint", "learn", "second", "second.md", "--no-try")
    assert "'drovik ask' takes 'first-1' where no model is named; --model second-1 asks this one" in second.out
    third = drovik("endpoint", "learn", "second", "second.md", "--no-try", "--default")
    assert 'changed in drovik.toml: ask: nothing → "second-1"' in third.out
    assert settings_of(drovik).read_text().startswith('ask = "second-1"')


def test_the_services_own_reply_counts_more_than_what_the_page_shows(drovik: Drovik, serve: Serve) -> None:
    new = {"result": {"said": "A ferry is a ship that carries people.", "spent": {"in": 12, "out": 8}}}
    service = serve(lambda n, b: reply(new))
    drovik.environment["AUK_KEY"] = "a-secret-key-77"
    (drovik.folder / "auk.md").write_text(page(service.port) + '{"text": "It is a cap."}\n')
    found = drovik("endpoint", "learn", "auk", "auk.md", "--json").json
    places = {one["role"]: one["place"] for one in found["taken"]}
    assert (places["answer"], places["input tokens"]) == ("$.result.said", "$.result.spent.in")
    assert len(service.requests) == 2  # one in words, one with a picture; the trial asks no more


def test_a_limit_that_the_service_wants_is_sent_after_all(drovik: Drovik, serve: Serve) -> None:
    def strict(number: int, body: dict[str, Any]) -> Reply:
        return (
            reply({"text": "It is a cap."})
            if body.get("max_bits")
            else reply({"oh": "member max_bits is missing"}, 400)
        )

    service = serve(strict)
    drovik.environment["AUK_KEY"] = "a-secret-key-77"
    (drovik.folder / "auk.md").write_text(page(service.port, max_bits=64) + '{"text": "It is a cap."}\n')
    drovik("endpoint", "learn", "auk", "auk.md")
    assert "max_output_tokens = 64" in settings_of(drovik).read_text()
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "a.jpg")
    assert drovik("ask", "a.jpg", "What is it?").out == "It is a cap.\n"


def test_a_service_that_answers_only_with_a_picture_is_no_fault(drovik: Drovik, serve: Serve) -> None:
    def seeing(number: int, body: dict[str, Any]) -> Reply:
        return (
            reply({"answer": "I cannot tell."})
            if "pic" in json.dumps(body)
            else reply({"oh": "pic is required"}, 400)
        )

    service = serve(seeing)
    drovik.environment["AUK_KEY"] = "a-secret-key-77"
    (drovik.folder / "auk.md").write_text(page(service.port) + '{"answer": "It is a cap."}\n')
    steps = {one["step"]: one for one in drovik("endpoint", "learn", "auk", "auk.md", "--json").json["tried"]}
    assert steps["text answered"]["state"] == "left out"
    assert "only with a picture" in steps["text answered"]["words"]
    assert steps["key accepted"]["state"] == "good"


@pytest.mark.parametrize(
    ("words", "kind", "remedy"),
    [
        ("API key not valid. Please pass a valid key.", "key_rejected", "check the key"),
        ("Invalid access token", "key_rejected", "check the key"),
        ("unknown key 'temperatur' in body", "bad_request", "--show-request"),
        ("temperature: Extra inputs are not permitted", "bad_request", "take temperature out of the model's settings"),
        ("Unsupported parameter: top_k", "bad_request", "take top_k out"),
        ("Could not download the image from https://a.example/x.png", "bad_request", "give the picture itself"),
        ("this model does not support images", "no_pictures", "takes_pictures = false"),
        ("an image is required", "bad_request", "answers only with a picture"),
        ("messages must alternate", "bad_request", "compare the dialect with the documentation"),
    ],
)  # fmt: skip
def test_a_400_is_told_apart_by_the_services_own_words(words: str, kind: str, remedy: str) -> None:
    found = outcome_of(400, words, None, ErrorWords(), worked_before=False)
    assert found.kind == kind
    assert remedy in remedy_of(found.kind, words)


# Files of theirs.


@pytest.mark.long
def test_a_sheet_and_a_report_are_not_written_over_a_file_of_somebodys(answered_demo: Drovik) -> None:
    drovik = answered_demo
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "a.jpg")
    mine = drovik.folder / "contact-sheet.png"
    mine.write_bytes(b"my own photo")
    refused = drovik("pictures", "a.jpg")
    assert (refused.code, mine.read_bytes()) == (2, b"my own photo")
    assert (
        "contact-sheet.png: is there already, and Drovik did not write it; give another --sheet, or --force"
        in refused.err
    )
    assert drovik("pictures", "a.jpg", "--force").code == 0
    assert drovik("pictures", "a.jpg").code == 0  # what Drovik wrote it may write again
    page_ = answered_demo.folder / "report.html"
    assert answered_demo("report").code == 0
    page_.write_text("<html>my own page</html>")
    assert answered_demo("report").code == 2
    assert page_.read_text() == "<html>my own page</html>"


def test_what_a_picture_costs_is_told_before_there_is_a_project(drovik: Drovik, serve: Serve) -> None:
    set_up(drovik, "http://127.0.0.1:1")
    settings = settings_of(drovik)
    assert "no model says how it counts pictures" in drovik("quote", str(IMAGES / "lp-001.jpg")).err
    settings.write_text(
        settings.read_text()
        + 'picture_tokens = { count = { flat = 100 } }\nprice = { currency = "EUR", input = 2, output = 4 }\n'
    )
    found = drovik("quote", str(IMAGES / "lp-001.jpg"), "--model", "m-1", "--cases", "1000", "--json").json
    assert found["pictures"][0]["models"]["m"] == {"tokens": 100, "money": {"EUR": "0.2000"}}


# A sign of life.


def on_a_terminal(drovik: Drovik, words: list[str], seconds: float) -> str:
    """What a program shows on a terminal, of both outputs together."""
    leader, follower = pty.openpty()
    process = subprocess.Popen(
        [PROGRAM, *words], stdin=follower, stdout=follower, stderr=follower, env=drovik.environment, cwd=drovik.folder
    )
    os.close(follower)
    shown = b""
    gives_up = time.monotonic() + seconds
    while time.monotonic() < gives_up:
        if select.select([leader], [], [], 0.1)[0]:
            try:
                data = os.read(leader, 65536)
            except OSError:
                break
            if not data:
                break
            shown += data
    process.wait(10)
    os.close(leader)
    return shown.decode()


def test_waiting_is_seen_on_a_terminal_and_nowhere_else(drovik: Drovik, serve: Serve) -> None:
    def slow(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(1.5)
        return reply({"answer": "A cap."})

    service = serve(slow)
    set_up(drovik, f"http://127.0.0.1:{service.port}", more="limits = { concurrency = 1 }")
    for name, source in (("a", "lp-001.jpg"), ("b", "lp-002.jpg")):
        shutil.copy(IMAGES / source, drovik.folder / f"{name}.jpg")
    shown = on_a_terminal(drovik, ["ask", "a.jpg", "b.jpg", "What is it?", "--prep", "fit=320"], 30)
    assert re.search(r"m: [01] s   [01] of 2", shown), shown
    assert "A cap." in shown
    assert "m: 0 s" not in drovik("ask", "a.jpg", "What is it?").err
