"""The edges: replies that break whoever handles them, budgets, files in odd forms, streams that close, own functions."""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import subprocess
import time
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, Reply, change, demo_on_port, good
from test_safety import rows

from drovik.cli.ask.answer_files import AnswerTable
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.project.settings import Limits
from drovik.text import escaped_json, visible
from drovik.transport.outcomes import seconds_to_wait
from drovik.transport.rate_control import span
from drovik.transport.shared_limits import SharedLimits

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
SORT = ("--task", "sort", "--arm", "fulmar/v1")


# Money.


def test_a_reply_that_says_nothing_of_its_tokens_counts_as_its_upper_bound(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: (200, {}, b'{"answer": "{\\"kind\\": \\"cap\\"}", "ended": "done"}'))
    folder = demo_on_port(drovik.folder, service.port, limits="concurrency = 4")
    result = drovik("send", *SORT, "--budget", "0.06", "--json").json
    bounds = [Decimal(json.loads(row[0])[1]) for row in rows(folder, "SELECT bound FROM attempts")]
    assert sum(bounds) <= Decimal("0.06") < sum(bounds) + max(bounds)
    assert result["limit_reached"]
    assert result["counted_at_most"]["replies"] == len(bounds) == len(service.requests)
    assert "without a count of tokens, counted as the most" in drovik("send", *SORT, "--budget", "0.0701").out


def test_tokens_as_texts_are_numbers_and_unreadable_replies_are_held(drovik: Drovik, serve: Serve) -> None:
    counted = {"in": "1000", "out": 10.0}
    service = serve(
        lambda n, body: good('{"kind": "cap"}', count=counted) if n else (200, {}, b"\xff not to be read")
    )
    folder = demo_on_port(drovik.folder, service.port, cases=4, limits="concurrency = 1, max_tries = 1")
    result = drovik("send", *SORT, "--budget", "1", "--json").json
    assert rows(folder, "SELECT DISTINCT input_tokens, output_tokens FROM replies WHERE input_tokens NOT NULL") == [
        (1000, 10)
    ]
    assert result["counted_at_most"]["replies"] == 1
    assert Decimal(str(result["counted_at_most"]["money"]["EUR"])) > 0


def test_a_limit_ends_sending_when_it_is_reached_and_not_earlier(drovik: Drovik, serve: Serve) -> None:
    """What the expensive model can no longer be asked the cheap one still can."""
    service = serve(lambda n, body: good('{"kind": "cap"}', count={"in": 600, "out": 20}))
    folder = demo_on_port(drovik.folder, service.port, limits="concurrency = 2")
    result = drovik(
        "send", "--task", "sort", "--arm", "fulmar/v1", "--arm", "gull/v1", "--budget", "0.05", "--json"
    ).json
    arms = {one["arm"]: one["answered"] for one in result["arms"]}
    assert arms["fulmar/v1"] < 48
    assert arms["gull/v1"] == 48
    assert result["limit_reached"]
    assert sum(float(one) for one in result["money"].values()) <= 0.05
    assert folder.exists()


# Replies and headers.

ODD_HEADERS = [
    {"RateLimit-Remaining": "9" * 400, "RateLimit-Reset": "1"}, {"RateLimit": "r=" + "9" * 400 + ";t=1"},
    {"RateLimit-Remaining": "\u00b2".encode().decode("latin-1"), "RateLimit-Reset": "1"}, {"RateLimit-Reset": "1e400", "RateLimit-Remaining": "0"},
    {"RateLimit-Remaining": "0", "RateLimit-Reset": "99999-01-01T00:00:00"}, {"RateLimit-Remaining": "0", "RateLimit-Reset": "9" * 99 + "ms"},
    {"RateLimit-Remaining": "0", "RateLimit-Reset": "0001-01-01T00:00:00+23:59"}, {"RateLimit-Remaining": "-", "RateLimit-Reset": "-"},
]  # fmt: skip


def test_no_header_ends_a_run(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: (200, ODD_HEADERS[n % len(ODD_HEADERS)], good('{"kind": "cap"}')[2]))
    demo_on_port(drovik.folder, service.port, cases=len(ODD_HEADERS), limits="concurrency = 2, give_up_after = 1")
    result = drovik("send", *SORT, "--json", timeout=60)
    assert result.json["answered"] == len(ODD_HEADERS)
    for text in (
        "Mon, 99 Foo 99999 99:99:99 GMT",
        "9" * 400,
        "1e999",
        "nan",
        "²",
        "Thu, 01 Jan 0000 00:00:00 GMT",
        "-1",
        "x" * 10_000,
    ):
        assert seconds_to_wait(text) is None or seconds_to_wait(text) >= 0  # type: ignore[operator]
        assert span(text) is None or span(text) >= 0  # type: ignore[operator]


def test_a_step_that_leads_nowhere_fails_its_own_request(drovik: Drovik, serve: Serve) -> None:
    links = [
        "http://[::1/",
        "https://[v1.x]/",
        "//",
        "http://\x00/",
        "javascript:1",
        "https://" + "a" * 70_000,
        "ftp://127.0.0.1/",
    ]

    def decide(number: int, body: dict[str, Any]) -> Reply:
        return (
            (200, {}, json.dumps({"to": links[number % len(links)]}).encode())
            if "talk" not in body
            else good('{"kind": "cap"}')
        )

    service = serve(decide)
    folder = demo_on_port(
        drovik.folder, service.port, cases=len(links), limits="concurrency = 1, max_tries = 1, give_up_after = 2"
    )
    step = '[[steps]]\nname = "where"\npath = "/where"\nbody = \'\'\'{"size": 1}\'\'\'\ntake = { to = "$.to" }\n\n[request]\npath = "{taken.to}"\n'
    change(folder / "dialects/plain.toml", '[request]\npath = "/answers"\n', step)
    change(folder / "dialects/plain.toml", 'headers = { Authorization = "Bearer {key}", ', "headers = { ")
    result = drovik("send", *SORT, "--json", timeout=60)
    assert result.code in (1, 3), result.err
    assert result.json["answered"] == 0
    assert service.paths == ["/where"] * len(service.paths)


def test_what_says_that_it_failed_is_not_waited_for(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: (200, {}, b'{"state": "failed", "answer": "", "problem": "out of paper"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=1, limits="concurrency = 1, max_tries = 1, timeout = 5")
    change(
        folder / "dialects/plain.toml", '[names]',
        '[request.until]\nat = "$.state"\nis = "ready"\nfails = "failed"\nevery = 0.05\nwithin = 20\n\n[names]',
    )  # fmt: skip
    started = time.monotonic()
    result = drovik("send", *SORT, "--json")
    assert time.monotonic() - started < 5
    assert len(service.requests) == 1
    assert result.json["failed"] == 1
    assert "out of paper" in rows(folder, "SELECT note FROM attempts")[0][0]


def test_a_wait_that_a_service_asks_for_is_bounded_and_said_by_ask_too(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: (429, {"Retry-After": "86400"}, b"{}") if n == 0 else good("a cap"))
    demo_on_port(drovik.folder, service.port, cases=1, limits="concurrency = 1, give_up_after = 1.5")
    started = time.monotonic()
    asked = drovik("ask", "images/lp-001.jpg", "What is it?")
    assert 1.4 < time.monotonic() - started < 6
    assert asked.out.strip() == "a cap"
    assert "it asks to wait 2 s" in asked.err


def test_a_quiet_time_is_heeded_by_others_no_longer_than_they_may(tmp_path: Path) -> None:
    from drovik.transport.rate_control import RateControl

    told = SharedLimits(tmp_path / "pace.sqlite", "e", Limits())
    other = RateControl(Limits(give_up_after=3), SharedLimits(tmp_path / "pace.sqlite", "e", Limits()))
    told.keep_quiet(3_000)
    other.look()
    first = other.quiet_for()
    assert 2.5 < first <= 3
    other.look()
    assert other.quiet_for() <= first


def test_a_locked_file_of_shared_limits_stops_nothing(tmp_path: Path) -> None:
    shared = SharedLimits(tmp_path / "pace.sqlite", "e", Limits(concurrency=4, per_minute=600))
    with contextlib.closing(sqlite3.connect(tmp_path / "pace.sqlite", isolation_level=None)) as holder:
        holder.execute("BEGIN EXCLUSIVE")
        started = time.monotonic()
        assert shared.share(1).slots == 4
        assert shared.seconds_until(10) >= 0
        shared.keep_quiet(1)
        shared.correct(5)
        assert time.monotonic() - started < 1
    shared.leave()


def test_no_files_left_is_one_line_after_a_while(
    drovik: Drovik, serve: Serve, monkeypatch: pytest.MonkeyPatch
) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=40, limits="concurrency = 20")
    code = (
        "import resource, sys\n"
        "from drovik.transport import dispatcher, http, steps\n"
        "dispatcher.WITHOUT_FILES_SECONDS = 1.5\n"
        "from drovik.workflow import open_project\n"
        "open_project.concurrency_bound = lambda *a: (None, None)\n"
        "import errno\n"
        "async def none(*a, **k): raise http.NoReply(http.Outcome('no_descriptors', again=True, words='too many open files'))\n"
        "steps.fetch = none\n"
        "from drovik.cli.main import main\n"
        "sys.exit(main(sys.argv[1:]))\n"
    )
    import sys

    started = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-c", code, "send", *SORT, "--quiet"], cwd=drovik.folder, env=drovik.environment,
        capture_output=True, text=True, timeout=30,
    )  # fmt: skip
    assert done.returncode == 2
    assert done.stderr.splitlines() == [
        "drovik: no more files could be opened for 2 seconds; raise the limit (ulimit -n 4096), or close other programs"
    ]
    assert time.monotonic() - started < 15


# Files that people write.


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [
        (".env", "DESK_KEY=lost-and-found".encode("utf-16"), ".env: is in UTF-16; save it as UTF-8"),
        (".env", "# clé\nDESK_KEY=café".encode("latin-1"), ".env: line 1: is not UTF-8 at byte 4"),
        ("drovik.toml", b"a = " + b"[" * 50_000, "drovik.toml: is nested more than 100 deep"),
        ("drovik.toml", b"x = " + b"9" * 5000, "drovik.toml: is not valid TOML"),
        ("drovik.toml", b"a = " + b"{b = " * 150 + b"1" + b"}" * 150, "drovik.toml: is nested more than 100 deep"),
        ("tasks/sort/question.toml", None, "tasks/sort/question.toml: is not a regular file"),
        ("tasks/sort/answer.schema.json", None, "tasks/sort/answer.schema.json: is not a regular file"),
        ("tasks/sort/prompts/v1.toml", None, "tasks/sort/prompts/v1.toml: is not a regular file"),
        ("dialects/plain.toml", None, "dialects/plain.toml: is not a regular file"),
        ("cases.jsonl", None, "cases.jsonl: is not a regular file"),
        (".env", None, ".env: is not a regular file"),
        ("drovik.toml", None, "drovik.toml: is not a regular file"),
        ("tasks/sort/answer.schema.json", b'{"a": ' * 200 + b"1" + b"}" * 200, "is nested more than 100 deep"),
        ("tasks/sort/answer.schema.json", b'{"maximum": ' + b"9" * 5000 + b"}", "thousands of digits"),
        ("cases.csv", b"id,image,expected.sort,expected.sort.kind\na,images/lp-001.jpg,x,cap\n", "other columns are members of it"),
        ("cases.csv", b"id,image\n\"" + b"x" * 200_000 + b"\",images/lp-001.jpg\n", "cases.csv: is not proper CSV"),
        ("cases.csv", "id,image\n\u00e9,images/lp-001.jpg\n".encode("utf-16"), "cases.csv: is not UTF-8"),
    ],
)  # fmt: skip
def test_files_in_odd_forms_are_one_line_with_file_and_remedy(
    name: str, content: bytes | None, said: str, drovik: Drovik
) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    path = folder / name
    if content is None:
        path.unlink()
        os.mkfifo(path)
    else:
        path.write_bytes(content)
    if name == "cases.csv":
        change(folder / "drovik.toml", "cases.jsonl", "cases.csv")
    result = drovik("check", timeout=20)
    assert result.code in (1, 2)
    assert any(said in line for line in (result.out + result.err).splitlines()), result.out + result.err


def test_a_name_that_is_no_text_is_one_line(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    shutil_name = os.fsdecode(b"images/\xff\xfe.jpg")
    (folder / shutil_name).write_bytes((folder / "images/lp-001.jpg").read_bytes())
    change(folder / "drovik.toml", "cases.jsonl", "images")
    for words in (("check",), ("pictures", "--json"), ("send", *SORT)):
        result = drovik(*words, timeout=20)
        assert result.code in (0, 1, 2, 3)


# Streams.


@pytest.mark.long
@pytest.mark.parametrize("words", [("check",), ("--version",)])
def test_a_full_disk_and_a_closed_pipe_end_with_one_line_at_most(words: tuple[str, ...], drovik: Drovik) -> None:
    demo_on_port(drovik.folder, 1, cases=8)
    command = " ".join([PROGRAM, *words])
    full = subprocess.run(
        f"{command} > /dev/full",
        shell=True,
        cwd=drovik.folder,
        env=drovik.environment,
        capture_output=True,
        text=True,
    )
    assert full.returncode == 2
    assert len(full.stderr.splitlines()) == 1
    assert "the disk is full" in full.stderr
    head = subprocess.run(
        f"{command} | head -c 1",
        shell=True,
        cwd=drovik.folder,
        env=drovik.environment,
        capture_output=True,
        text=True,
    )
    assert head.stderr == ""
    closed = subprocess.run(
        f"{command} >&- 2>&-", shell=True, cwd=drovik.folder, env=drovik.environment, capture_output=True, text=True
    )
    assert closed.returncode in (0, 1)


def test_quiet_still_says_what_stops(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: (401, {}, b'{"problem": "no such key"}'))
    demo_on_port(drovik.folder, service.port, cases=3)
    sent = drovik("send", *SORT, "--quiet")
    assert sent.code == 3
    assert "does not accept the key" in sent.out + sent.err
    watched = drovik("send", *SORT, "--watch", "--quiet", timeout=30)
    assert watched.code == 3
    assert "does not accept the key" in watched.err


# What is shown.

SLY = "cap\u202e\u2066\x1b[2J\r=1+1\u200b\ufeff\U000e0041\x85"


def test_what_steers_or_hides_is_spelled_out_in_json_table_page_and_terminal(
    drovik: Drovik, serve: Serve, tmp_path: Path
) -> None:
    service = serve(lambda n, body: good(json.dumps({"kind": SLY}) if n % 2 else f"It is {SLY}"))
    folder = demo_on_port(drovik.folder, service.port, cases=2)
    drovik("send", *SORT)
    drovik("ask", "images/lp-001.jpg", "images/lp-002.jpg", "What?", "--table", "t.csv")
    drovik("report", *SORT)
    shown = drovik("show", "lp-001", *SORT, "--full").out + drovik("show", "lp-002", *SORT).out
    document = drovik("show", "lp-002", *SORT, "--json").out
    page = (folder / "report.html").read_text()
    for text in (shown, document, page, (folder / "t.csv").read_text()):
        assert not set("\u202e\u2066\x1b\r\u200b\ufeff\U000e0041\x85") & set(text)
    assert SLY in json.dumps(json.loads(document), ensure_ascii=False) or SLY.replace("\x1b", "\\u001b").replace(
        "\r", "\\r"
    ) in json.dumps(json.loads(document), ensure_ascii=False)
    assert json.loads(escaped_json(json.dumps(SLY, ensure_ascii=False))) == SLY
    assert visible("plain\ttext\n") == "plain\ttext\n"


@pytest.mark.parametrize(
    "name", ["a\rb.jpg", "\r=1+1", "=cmd|' /C calc'!A0", "\t=1", "＝1+1", "a\u202eb", "'=x", "a\nb", '"a",b', "é"]
)
def test_a_row_is_read_back_as_it_was_written_and_bought_once(name: str, tmp_path: Path) -> None:
    from drovik.cli.ask.answer_files import known_by

    table = AnswerTable(tmp_path / "t.csv", ["k"], "mark")
    table.add(name, "m", 1, Answer(Status.OK, "bare", "x\r=2\ry", {"k": "-1\r"}))
    again = AnswerTable(tmp_path / "t.csv", ["k"], "mark")
    assert again.there == {(known_by(name), "m", 1)}
    data = (tmp_path / "t.csv").read_text()
    assert "\r" not in data
    assert not any(
        cell.strip('"').startswith(("=", "+", "-1", "@", "＝"))
        for line in data.splitlines()
        for cell in line.split(",")
    )


# Own functions.

FUNCTION = """
import os, subprocess, sys, time
def score(answer, expected):
    with open("count", "a+") as file:
        file.write("x")
        file.seek(0)
        kind = len(file.read()) % 4
    if kind == 1:
        os.write(JUNK, b"42\\n{\\n")
    if kind == 2:
        subprocess.Popen(["sleep", "987"])
        time.sleep(60)
    if kind == 3:
        return {"score": 0.5, "findings": 7}
    return 1.0
"""


def test_junk_on_the_pipe_is_the_functions_failure_and_what_it_starts_ends_with_it(
    drovik: Drovik, serve: Serve
) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=6)
    drovik("send", *SORT)
    (folder / "mine.py").write_text(
        FUNCTION.replace(
            "JUNK",
            "[one for one in range(3, 20) if os.path.exists(f'/proc/self/fd/{one}') and 'pipe' in os.readlink(f'/proc/self/fd/{one}')][0]",
        )
    )
    question = folder / "tasks/sort/question.toml"
    question.write_text(
        question.read_text() + '\n[measures.mine]\ntype = "function"\ncall = "mine:score"\nseconds = 1.0\n'
    )
    result = drovik("score", *SORT, "--trust", timeout=60)
    assert result.code == 0, result.err
    assert "mine could not score 4: mine:score wrote something else on its pipe" in result.out
    assert not subprocess.run(["pgrep", "-f", "sleep 987"], capture_output=True).stdout
