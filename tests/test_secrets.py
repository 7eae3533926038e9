"""A key never survives an echo: whatever a hostile service makes of it, no file and no output of Drovik holds it."""

from __future__ import annotations

import base64
import json
import os
import random
import re
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from conftest import Drovik, FakeService, Reply, demo_on_port

from drovik.transport.secret import MARK, Secret

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
KEY = 'né/"k+ey&\\7q=A1b'
SORT = ("--task", "sort", "--arm", "fulmar/v1")


def escaped(text: str) -> str:
    units = text.encode("utf-16-be")
    return "".join(f"\\u{units[at : at + 2].hex()}" for at in range(0, len(units), 2))


def spelled(key: str) -> list[str]:
    """The key inside a JSON string, as strangers' programs write it."""
    plain = json.dumps(key, ensure_ascii=False)[1:-1]
    return [
        plain,
        json.dumps(key)[1:-1],
        plain.replace("/", "\\/"),
        escaped(key),
        escaped(key).upper().replace("\\U", "\\u"),
        json.dumps(json.dumps(key))[1:-1],
        quote(key, safe=""),
        re.sub("%..", lambda one: one[0].lower(), quote(key, safe="/")),
        quote(quote(key, safe=""), safe=""),
        base64.b64encode(key.encode()).decode(),
        base64.urlsafe_b64encode(f"user:{key}".encode()).decode(),
        key.encode().hex(),
        "".join(f"&#{ord(char)};" for char in key),
        plain.replace("&", "&amp;").replace('\\"', "&quot;"),
    ]


def traces(key: str) -> list[bytes]:
    """What of a key would be found in a file: itself, and forms of it."""
    found = [key, json.dumps(key)[1:-1], quote(key, safe=""), key.encode().hex(), escaped(key)]
    found += [base64.b64encode(b"\0" * at + key.encode()).decode()[2 + at : -4] for at in range(3)]
    return [one.encode() for one in found]


def files_with_the_key(folder: Path, key: str) -> list[str]:
    """Every file in which the key stands; of a store each value is looked at as it comes out of SQLite too."""
    found = []
    for path in sorted(folder.rglob("*")):
        if not path.is_file() or path.name in (".env", "given"):
            continue
        data = path.read_bytes()
        if path.suffix == ".sqlite":
            store = sqlite3.connect(path)
            for (table,) in store.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
                for row in store.execute(f"SELECT * FROM {table}"):
                    data += b"\n".join(one if isinstance(one, bytes) else str(one).encode() for one in row)
            store.close()
        if any(trace in data for trace in traces(key)):
            found.append(path.name)
    return found


def with_key(
    drovik: Drovik, port: int, cases: int, key: str = KEY, limits: str = "concurrency = 2, max_tries = 1"
) -> Path:
    folder = demo_on_port(drovik.folder, port, cases=cases, limits=limits)
    (folder / ".env").unlink()
    drovik.environment["DESK_KEY"] = key
    return folder


def test_a_key_echoed_in_any_spelling_is_in_no_file_and_no_output(drovik: Drovik, serve: Serve) -> None:
    ways = spelled(KEY)

    def decide(number: int, body: dict[str, Any]) -> Reply:
        way = ways[number % len(ways)]
        if number % 2:
            text = f'{{"answer": "{{\\"kind\\": \\"cap\\"}} {way}", "ended": "done", "debug": ["{way}"]}}'
            return 200, {"X-Limit-Key": quote(KEY, safe="")}, text.encode()
        return 400, {}, f'{{"problem": "bad key {way} in your request"}}'.encode()

    service = serve(decide)
    folder = with_key(drovik, service.port, 2 * len(ways))
    printed = ""
    for words in (
        ("send", *SORT), ("score", *SORT), ("score", *SORT, "--json"), ("show", "lp-002", *SORT, "--full"),
        ("show", "lp-004", *SORT, "--json"), ("report", *SORT), ("endpoint", "try", "desk"),
        ("endpoint", "models", "desk", "--path", "/x"), ("ask", "images/lp-001.jpg", "What?", "--table", "t.csv"),
        ("ask", "images/lp-002.jpg", "What?", "--json"),
    ):  # fmt: skip
        result = drovik(*words)
        printed += result.out + result.err
    assert MARK in printed
    assert not any(trace.decode() in printed for trace in traces(KEY))
    assert files_with_the_key(folder, KEY) == []


STREAM = """
[reply]
form = "events"
text = "$.d"
end_mark = "END"
"""


@pytest.mark.parametrize("size", [1, 3, 7])
def test_a_key_split_over_the_pieces_of_a_stream_is_found(drovik: Drovik, serve: Serve, size: int) -> None:
    words = f"It is {KEY} so."
    pieces = [words[at : at + size] for at in range(0, len(words), size)]
    events = [f"event: d\ndata: {json.dumps({'d': piece, 'n': 1})}\n\n" for piece in pieces]
    service = serve(
        lambda n, body: (200, {"Content-Type": "text/event-stream"}, "".join([*events, "data: END\n\n"]).encode())
    )
    folder = with_key(drovik, service.port, 2)
    dialect = folder / "dialects/plain.toml"
    dialect.write_text(dialect.read_text().partition("[reply]")[0] + STREAM)
    asked = drovik("ask", "images/lp-001.jpg", "What is it?")
    assert asked.out.strip() == f"It is {MARK} so."
    assert drovik("send", "--task", "describe", "--arm", "fulmar/v1").code == 0
    shown = drovik("show", "lp-001", "--task", "describe", "--arm", "fulmar/v1").out
    assert f"It is {MARK} so." in shown
    assert files_with_the_key(folder, KEY) == []


def test_a_key_split_over_the_parts_of_an_answer_is_found(drovik: Drovik, serve: Serve) -> None:
    tree = {"parts": [{"kind": "text", "t": KEY[:6]}, {"kind": "text", "t": KEY[6:] + "."}]}
    service = serve(lambda n, body: (200, {}, json.dumps(tree).encode()))
    folder = with_key(drovik, service.port, 1)
    dialect = folder / "dialects/plain.toml"
    dialect.write_text(dialect.read_text().replace('text = "$.answer"', 'text = "$.parts[*].t"'))
    assert drovik("send", "--task", "describe", "--arm", "fulmar/v1").code == 0
    assert f"{MARK}." in drovik("show", "lp-001", "--task", "describe", "--arm", "fulmar/v1").out
    assert files_with_the_key(folder, KEY) == []


def test_random_keys_in_random_spellings_never_pass_and_all_else_does() -> None:
    chance = random.Random(5)
    letters = "abcXYZ0189-_./+=%&\\\"'é漢 😀"
    for _ in range(15):
        key = "".join(chance.choices(letters, k=chance.randint(6, 40)))
        secret = Secret(key)
        for way in spelled(key):
            text = f'{{"a": "x{way}y"}}'
            clean = secret.out_of(text)
            assert MARK in clean, (key, way)
            assert not any(trace in clean.encode("utf-8", "replace") for trace in traces(key)[:3]), (key, way)
        other = "".join(chance.choices(letters, k=60))
        if key not in other:
            assert secret.out_of(other) == other
        if key.endswith("%"):  # the rest of its code may come in the next piece, and is shown
            continue
        heard: list[str] = []
        hear = secret.passing(heard.append)
        text = f"before {key} and {quote(key, safe='')} after."
        while text:
            size = chance.randint(1, 9)
            hear(text[:size])
            text = text[size:]
        hear.end()
        assert "".join(heard) == f"before {MARK} and {MARK} after."


def test_a_key_of_quotes_and_backslashes_is_found_as_json_escapes_it() -> None:
    for key in ('pass"word-of-gull', "pass'word-of-gull", "pass\\word-of-gull"):
        for text in (json.dumps({"said": key}), repr({"said": key}), key):
            cleaned = Secret(key).out_of_bytes(text.encode())
            assert MARK.encode() in cleaned, text
            assert b"word-of-gull" not in cleaned


def test_a_long_reply_is_looked_through_in_time() -> None:
    secret = Secret("lost-and-found-lost-and-found")
    body = json.dumps({"answer": "lost-and-foun" * 400_000}).encode()
    before = os.times().user
    assert secret.out_of_body(body, "json") == body
    assert os.times().user - before < 5
