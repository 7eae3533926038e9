"""What strangers do: hostile services, hostile projects, files that are no files, and terminals that lack characters."""

from __future__ import annotations

import json
import os
import socket
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, Reply, demo_on_port, good

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
SORT = ("--task", "sort", "--arm", "fulmar/v1")


def status_of(drovik: Drovik, task: str = "sort") -> dict[str, int]:
    return drovik("score", "--task", task, "--arm", "fulmar/v1", "--json").json["tasks"][task][0]["statuses"]


HOSTILE = [
    ('{"kind": "\\ud800"}', "ok"),  # half a surrogate pair
    ("\ud800 no JSON", "not_json"),
    ('{"kind": ' + "[" * 5000 + "]" * 5000 + "}", "not_json"),  # an inner piece is not the answer
    ('{"kind": ' + "[" * 390 + "]" * 390 + "}", "off_schema"),
    ('{"kind": 1e999}', "off_schema"),
    ('{"kind": ' + "9" * 5000 + "}", "off_schema"),
    ('{"kind": "a\\u0000b"}', "ok"),
    ('{"kind": "cap", "' + "x" * 100_000 + '": 1}', "off_schema"),
    ("{" * 200_000, "not_json"),
    ('{"kind": {"$ref": "https://x.invalid/"}}', "off_schema"),
]


def test_no_answer_breaks_reading_scoring_showing_or_reporting(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good(HOSTILE[n][0]))
    folder = demo_on_port(drovik.folder, service.port, cases=len(HOSTILE))
    assert drovik("send", *SORT).code == 0
    assert status_of(drovik) == Counter(status for _, status in HOSTILE)
    for line in (folder / "cases.jsonl").read_text().splitlines():
        assert drovik("show", json.loads(line)["id"], *SORT, "--full").code == 0
    assert drovik("show", "lp-001", *SORT, "--full", "--json").code == 0
    assert drovik("report", "--task", "sort", "--arm", "fulmar/v1").code == 0


@pytest.mark.parametrize(
    "reply",
    [
        (200, {}, b"\xff\xfe\x00"),
        (200, {}, b""),
        (200, {}, b"[" * 100_000),
        (200, {"Content-Encoding": "gzip"}, b'{"answer": "x"}'),
        (200, {"Content-Type": "text/html"}, b"<html>login</html>"),
        (200, {}, b'{"answer": "x", "n": ' + b"9" * 6000 + b"}"),
    ],
    ids=["no UTF-8", "nothing", "brackets", "false gzip", "a page", "a long number"],
)
def test_replies_that_cannot_be_read_are_tried_again_and_then_failed(
    reply: Reply, drovik: Drovik, serve: Serve
) -> None:
    service = serve(lambda n, body: reply)
    demo_on_port(drovik.folder, service.port, cases=1, limits="concurrency = 8, max_tries = 2")
    result = drovik("send", *SORT)
    assert result.code == 1
    assert len(service.requests) == 2
    assert status_of(drovik) == {"failed": 1}


@pytest.mark.parametrize(
    ("tree", "status"),
    [
        ({"answer": None, "ended": "done"}, "empty"),
        ({"answer": "", "ended": "room"}, "cut_off"),
        ({"answer": "", "ended": "declined"}, "refused"),
        ({"answer": {"kind": "cap"}, "ended": 7}, "ok"),
        ({"answer": '{"kind": "cap"}', "count": {"in": "many", "out": -5}}, "ok"),
        ({"answer": '{"kind": "cap"}', "count": {"in": True, "out": 10**30}, "model": ["x"]}, "ok"),
    ],
)
def test_odd_members_of_a_reply_are_taken_for_what_they_are(
    tree: dict[str, Any], status: str, drovik: Drovik, serve: Serve
) -> None:
    service = serve(lambda n, body: (200, {}, json.dumps(tree).encode()))
    demo_on_port(drovik.folder, service.port, cases=1)
    assert drovik("send", *SORT).code == 0
    assert status_of(drovik) == {status: 1}


@pytest.fixture
def endless() -> Iterator[int]:
    """A service that accepts a request and then talks for ever."""
    server = socket.create_server(("127.0.0.1", 0))
    stop = threading.Event()

    def talk() -> None:
        while not stop.is_set():
            try:
                connection, _ = server.accept()
            except OSError:
                return
            threading.Thread(target=drip, args=(connection,), daemon=True).start()

    def drip(connection: socket.socket) -> None:
        try:
            connection.recv(1 << 20)
            connection.sendall(
                b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n"
            )
            while not stop.wait(0.05):
                connection.sendall(b"1\r\n[\r\n")
        except OSError:
            pass

    threading.Thread(target=talk, daemon=True).start()
    yield server.getsockname()[1]
    stop.set()
    server.close()


def test_a_reply_that_never_ends_is_a_time_out(drovik: Drovik, endless: int) -> None:
    demo_on_port(drovik.folder, endless, cases=1, limits="concurrency = 8, timeout = 0.6, max_tries = 2")
    result = drovik("send", *SORT)
    assert result.code == 1
    assert "1 failed (timeout)" in result.out
    assert (
        "2 requests in this store brought no reply, or none that can be read, and may have been billed" in result.out
    )


def test_a_reply_larger_than_any_answer_is_not_kept(drovik: Drovik, serve: Serve) -> None:
    service = serve(
        lambda n, body: (200, {}, b'{"answer": "' + b"x" * 51_000_000 + b'"}') if n else good('{"kind": "cap"}')
    )
    folder = demo_on_port(drovik.folder, service.port, cases=2, limits="concurrency = 1")
    result = drovik("send", *SORT)
    assert result.code == 1
    assert sum(path.stat().st_size for path in (folder / ".drovik").iterdir()) < 5_000_000


def test_a_service_that_goes_down_half_way_leaves_the_rest_to_be_sent(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))

    def decide(number: int, body: dict[str, Any]) -> Reply | None:
        if number == 5:
            threading.Thread(target=service.close).start()
        return good('{"kind": "cap"}') if number < 5 else None

    service.decide = decide
    demo_on_port(drovik.folder, service.port, cases=30, limits="concurrency = 1, give_up_after = 1")
    result = drovik("send", *SORT, "--json")
    assert result.code == 3
    assert result.json["answered"] == 5
    assert result.json["failed"] == 0
    assert "cannot be reached" in result.json["problems"][-1]
    assert len(result.json["problems"]) == 1


PROMPTS = [
    "{{ labels.__class__.__mro__ }}",
    "{% for i in range(999999999) %}x{% endfor %}",
    "{{ 'x' * 999999999 }}",
    "{{ 9 ** 9 ** 9 }}",
    "{{ labels.append('x') }}",
    "{{ picture(9) }}",
    "{{ picture('nothing') }}",
    "{{ vessel.foo }}",
    "{{ 1 // 0 }}",
    "{% include '/etc/passwd' %}",
    "{% import 'os' as os %}{{ os }}",
    "{% for a in range(999) %}{% for b in range(999) %}{% set c = a %}{% endfor %}{% endfor %}",
    "{% for a in labels %}{% for b in labels %}{% for c in labels %}{% for d in labels %}{% for e in labels %}"
    "{% for f in labels %}.{% endfor %}{% endfor %}{% endfor %}{% endfor %}{% endfor %}{% endfor %}",
    "{{ 'x'.center(999999999) }}",
    "{{ '%999999999d' % 1 }}",
    "{{ '{:>999999999}'.format(1) }}",
    "{{ 'x' | center(999999999) }}",
    "{{ lipsum(99999) }}",
    "{% set a = 'xxxxxxxx' %}" + "{% set a = a ~ a %}" * 40 + "{{ a }}",
    "{% set a = 'xxxxxxxx' %}" + "{% set a = a + a %}" * 40 + "{{ a }}",
    "{{ ('x' * 99999) | replace('x', 'y' * 99999) }}",
    "{{ ([1] * 9999) | join('y' * 99999) }}",
    "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}",
    "{% for a in [[1]] recursive %}{{ loop(a) }}{% endfor %}",
    "{% if 1 %}" * 150 + "{% endif %}" * 150,
    "{{ " + "(" * 5000 + ")" * 5000 + " }}",
    "{{ " + "[" * 300 + "]" * 300 + " }}",
    "{{ 1 | round(999999999) }}",
    "{{ [1] | tojson(999999999) }}",
    "{% set n = namespace(a='x') %}{{ n.a }}",
    "{{ 'x' | attr('__class__') }}",
]


def test_a_prompt_that_cannot_work_is_one_line_of_check_and_takes_no_time(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    home = folder / "tasks/sort/prompts"
    for number, text in enumerate(PROMPTS):
        (home / f"bad{number}.toml").write_text(f'ask = """\n{text}\n"""\n')
    files: list[str] = []
    for _ in range(2):  # those that are no templates at all are reported first, then those that fail on a case
        result = drovik("check", timeout=30)
        assert result.code == 1
        files += (told := [line.partition(":")[0] for line in result.out.splitlines()[:-1]])
        for name in told:
            (folder / name).unlink()
    assert Counter(files) == {f"tasks/sort/prompts/bad{number}.toml": 1 for number in range(len(PROMPTS))}
    assert drovik("check").code == 0


@pytest.mark.parametrize("text", [PROMPTS[1], PROMPTS[5]])
def test_a_prompt_that_fails_on_a_case_stops_a_send(text: str, drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    (folder / "tasks/sort/prompts/v1.toml").write_text(f'ask = """\n{text}\n"""\n')
    assert drovik("send", *SORT, timeout=10).code == 2


def test_prompts_never_see_what_is_expected(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    (folder / "tasks/sort/prompts/v1.toml").write_text('ask = "{{ expected }} {{ id }} {{ case }}"\n')
    result = drovik("check")
    assert result.code == 1
    for name in ("expected", "id", "case"):
        assert f"unknown variable '{name}'" in result.out


def test_files_that_are_no_regular_files_hold_nothing_up(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=4)
    (folder / "images/lp-001.jpg").unlink()
    os.mkfifo(folder / "images/lp-001.jpg")
    (folder / "images/lp-002.jpg").unlink()
    (folder / "images/lp-002.jpg").mkdir()
    (folder / "images/lp-003.png").unlink()
    (folder / "images/lp-003.png").symlink_to("lp-003.png")
    result = drovik("check", timeout=20)
    assert result.code == 1
    assert "not a regular file" in result.out
    assert "is a folder" in result.out
    assert "3 things are wrong." in result.out
    refused = drovik("send", *SORT, timeout=20)
    assert refused.code == 2
    assert len(refused.err.splitlines()) == 3


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "no case"),
        (b"\xef\xbb\xbf\r\n\r\n", "no case"),
        (b"[]\n", "line 1"),
        (b'"x"\n', "line 1"),
        (b'{"id": "x", "images": []}\n', "images"),
        (b'{"id": "", "images": ["a.jpg"]}\n', "id"),
        (b'{"id": "x", "images": ["a.jpg"], "extra": 1}\n', "unknown key 'extra'"),
        (b'{"id": "x", "images": ["a\\u0000.jpg"]}\n', "a"),
        (b'{"id": "x", "images": ["\\ud800"]}\n', "line 1"),
        (b"\xff\xfe\x00\n", "line 1"),
        (b"{" * 100_000 + b"\n", "line 1"),
    ],
)
def test_broken_cases_are_told_with_their_line(content: bytes, said: str, drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    (folder / "cases.jsonl").write_bytes(content)
    result = drovik("check")
    assert result.code == 1
    assert "cases.jsonl" in result.out
    assert said in result.out


def test_output_that_cannot_hold_a_character_shows_another(finished_demo: tuple[Drovik, Any]) -> None:
    drovik, _ = finished_demo
    ascii_ = Drovik(drovik.folder, drovik.folder)
    ascii_.environment = {**drovik.environment, "LC_ALL": "C", "PYTHONIOENCODING": "ascii"}
    result = ascii_.installed("compare", "--task", "sort")
    assert result.code == 0
    assert "fulmar/v2" in result.out
    assert result.out.isascii()


def test_a_project_that_cannot_be_written_is_one_line(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    (folder / ".drovik").write_text("a file where the folder should be")
    result = drovik("send")
    assert result.code == 2
    assert result.err.startswith(".drovik/answers.sqlite: ")
    assert len(result.err.splitlines()) == 1


def test_the_store_is_kept_out_of_git(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=1)
    drovik("send", *SORT)
    assert (folder / ".drovik" / ".gitignore").read_text() == "*\n"


def test_two_ways_to_run_it_are_the_same(drovik: Drovik) -> None:
    import subprocess
    import sys

    done = subprocess.run([sys.executable, "-m", "drovik", "--version"], capture_output=True, text=True)
    assert done.stdout == drovik("--version").out
    assert Path(PROGRAM).exists()


def test_a_certificate_that_is_not_trusted_is_one_line(drovik: Drovik, tmp_path: Path) -> None:
    import ssl
    import subprocess

    pem = tmp_path / "self.pem"
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=localhost", "-days", "2",
               "-keyout", str(pem), "-out", str(tmp_path / "cert.pem")]  # fmt: skip
    if subprocess.run(command, capture_output=True).returncode:
        pytest.skip("needs openssl to make a certificate")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "cert.pem", pem)
    service = FakeService(lambda n, body: good("x"))
    service.server.socket = context.wrap_socket(service.server.socket, server_side=True)
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace("http://127.0.0.1", "https://localhost"))
    result = drovik("send", *SORT)
    tried = drovik("endpoint", "try", "desk", "--json").json["steps"]
    service.close()
    assert [(one["step"], one["state"]) for one in tried] == [("reached", "bad")]
    assert "is not trusted: self-signed certificate" in tried[0]["words"]
    assert result.code == 3
    assert "certificate" in result.out
    assert result.out.count("is not trusted") == 1
    assert service.requests == []


def test_a_key_in_the_address_is_shown_nowhere(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: (302, {"Location": "https://x.invalid/?key=lost-and-found"}, b"lost-and-found"))
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    dialect = folder / "dialects/plain.toml"
    text = (
        dialect.read_text()
        .replace('Authorization = "Bearer {key}", ', "")
        .replace("body =", 'query = { key = "{key}" }\nbody =')
    )
    dialect.write_text(text)
    for port in (service.port, 1):
        settings = folder / "drovik.toml"
        settings.write_text(settings.read_text().replace(str(service.port), str(port)))
        result = drovik("send", *SORT)
        assert result.code == 3
        assert "lost-and-found" not in result.out + result.err
    assert all(b"lost-and-found" not in path.read_bytes() for path in (folder / ".drovik").iterdir())


def test_long_names_of_models_are_no_keys_but_keys_are(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    settings = folder / "drovik.toml"
    text = settings.read_text()
    settings.write_text(text.replace("fulmar-2", "fulmar-of-the-northern-isles-with-eyes-2026-10-15"))
    assert drovik("check").code == 0
    settings.write_text(text.replace('title = "', 'title = "a8F3kd92LmQ0xP7vB1nZ6tRw '))
    result = drovik("check")
    assert result.code == 1
    assert "there is what looks like a key in this file" in result.out
    assert "a8F3kd92" not in result.out
