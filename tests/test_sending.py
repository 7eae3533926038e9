"""`drovik send` against services on real sockets: pace, tries, stops, and what is kept of it all."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, bad, demo_on_port, good

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
SORT = ("--task", "sort", "--arm", "fulmar/v1")


def rows(folder: Path, query: str) -> list[tuple[Any, ...]]:
    with sqlite3.connect(folder / ".drovik" / "answers.sqlite") as store:
        return store.execute(query).fetchall()


def store_bytes(folder: Path) -> bytes:
    return b"".join(path.read_bytes() for path in (folder / ".drovik").iterdir())


def test_send_sends_exactly_what_is_missing(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=5)
    assert drovik("send", *SORT, "--json").json["answered"] == 5
    again = drovik("send", *SORT)
    assert "Nothing to send; answers that are there: 5." in again.out
    assert drovik("send", "--task", "sort", "--arm", "fulmar", "--json").json["to_send"] == 5
    lines = (drovik.folder / "cases.jsonl").read_text()
    (drovik.folder / "cases.jsonl").write_text(
        lines + lines.splitlines()[0].replace('"lp-001"', '"lp-900"').replace("lp-001.jpg", "lp-006.jpg")
    )
    assert drovik("send", *SORT, "--json").json["answered"] == 1
    assert len(service.requests) == 11


@pytest.mark.parametrize("day", ["2400-01-01", "1950-01-01"])
def test_a_picture_may_be_of_any_year(day: str, drovik: Drovik, serve: Serve) -> None:
    """Cameras without a clock and unpacked archives have such times; a time of 2400 has no room in 64 bits."""
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=2)
    seconds = datetime.fromisoformat(f"{day}T00:00:00+00:00").timestamp()
    os.utime(folder / "images/lp-001.jpg", (seconds, seconds))
    assert drovik("send", *SORT, "--json").json["answered"] == 2
    assert "Nothing to send; answers that are there: 2." in drovik("send", *SORT).out
    assert drovik("score", *SORT).code == drovik("check").code == 0


def test_what_to_do_about_answers_is_said_of_the_arms_that_were_just_asked(drovik: Drovik, serve: Serve) -> None:
    answers = ["It is a cap."] * 3 + ['{"kind": "cap"}'] * 15
    demo_on_port(drovik.folder, serve(lambda n, body: good(answers[n])).port, cases=3)
    assert "3 answers are not_json: ask for nothing but JSON" in drovik("send", *SORT).out
    others = drovik("send", "--task", "sort").out
    assert ", 0 failed, 0 left" in others
    assert "not_json" not in others


def test_what_does_not_change_the_question_sends_nothing(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "caps", "more": 1}', other={"answer": '{"kind": "hat"}'}))
    folder = demo_on_port(drovik.folder, service.port, cases=4)
    drovik("send", *SORT)

    def edit(name: str, old: str, new: str) -> None:
        text = (folder / name).read_text()
        assert old in text
        (folder / name).write_text(text.replace(old, new))

    def statuses() -> dict[str, int]:
        return drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"]

    assert statuses() == {"off_schema": 4}
    edit("tasks/sort/answer.schema.json", '"additionalProperties": false', '"additionalProperties": true')
    assert statuses() == {"ok": 4}
    edit("tasks/sort/question.toml", 'backpack = "rucksack"', 'caps = "cap"')
    first = json.loads((folder / "cases.jsonl").read_text().splitlines()[0])["expected"]["sort"]["kind"]
    edit("cases.jsonl", f'"sort": {{"kind": "{first}"}}', '"sort": {"kind": "cap"}')
    assert drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["measures"][0]["score"] > 0
    edit("dialects/plain.toml", 'text = "$.answer"', 'text = "$.other.answer"')
    found = drovik("show", "lp-001", *SORT, "--json").json["tasks"]["sort"]["arms"]["fulmar/v1"]
    assert found["value"] == {"kind": "hat"}
    edit("drovik.toml", "input = 2.00", "input = 2.80")
    edit("drovik.toml", "concurrency = 8", "concurrency = 3")
    assert drovik("send", *SORT, "--json").json["to_send"] == 0
    assert len(service.requests) == 4


def test_what_does_change_the_question_is_asked_again_and_kept_apart(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}' if n < 3 else '{"kind": "hat"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    drovik("send", *SORT)
    prompt = folder / "tasks/sort/prompts/v1.toml"
    prompt.write_text(prompt.read_text().replace("Which kind", "What kind"))
    told = drovik("score", *SORT).out
    assert "edited since): fulmar/v1@" in told
    assert "not sent 3" in told
    assert drovik("send", *SORT, "--json").json["answered"] == 3
    mark = told.split("fulmar/v1@")[1][:4]
    verdict = drovik("compare", f"fulmar/v1@{mark}", "fulmar/v1", "--task", "sort", "--json").json
    assert verdict["tasks"]["sort"]["verdicts"][0]["first"]["arm"] == f"fulmar/v1@{mark}"
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace("temperature = 0.0", "temperature = 0.5", 1))
    assert drovik("send", *SORT, "--json").json["to_send"] == 3
    settings.write_text(settings.read_text().replace("[preps.full]", "[preps.small]\nfit = 200\n[preps.full]"))
    assert drovik("send", "--task", "sort", "--arm", "fulmar/v1/full", "--json").json["to_send"] == 0
    assert drovik("send", "--task", "sort", "--arm", "fulmar/v1/small", "--json").json["to_send"] == 3


def test_requests_are_as_the_dialect_says_with_turned_pictures_and_no_metadata(drovik: Drovik, serve: Serve) -> None:
    import base64

    service = serve(lambda n, body: good("x"))
    demo_on_port(drovik.folder, service.port, cases=13)
    drovik("send", "--arm", "fulmar")
    for body, headers in zip(service.requests, service.headers, strict=True):
        assert headers["Authorization"] == "Bearer lost-and-found"
        assert len(headers["Slip"]) == 32
        assert body["room"] == 300
        assert body["temperature"] == 0.0
        (turn,) = body["talk"]
        assert turn["by"] == "asker"
        assert ["picture" in part for part in turn["parts"]] == sorted(
            ["picture" in part for part in turn["parts"]], reverse=True
        )
        for part in turn["parts"]:
            if "picture" in part:
                data = base64.b64decode(part["picture"])
                assert b"Skerry desk camera" not in data
                assert part["kind"] == ("image/png" if data.startswith(b"\x89PNG") else "image/jpeg")
    assert len({headers["Slip"] for headers in service.headers}) == len(service.requests)
    assert any("rules" not in body for body in service.requests)  # describe/v1 has no system text


def test_no_more_than_at_once_are_under_way(drovik: Drovik, serve: Serve) -> None:
    def slow(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(0.03)
        return good('{"kind": "cap"}')

    service = serve(slow)
    demo_on_port(drovik.folder, service.port, cases=24, limits="concurrency = 3")
    assert drovik("send", *SORT).code == 0
    assert service.most_under_way == 3


def test_lost_connections_429_and_5xx_are_tried_again_and_all_is_kept(drovik: Drovik, serve: Serve) -> None:
    faults = {0: None, 1: bad(500, "broken"), 2: bad(429, "slow down", Retry_After="1"), 3: (200, {}, b"<html>")}
    service = serve(lambda n, body: faults.get(n, good('{"kind": "cap"}')))
    demo_on_port(drovik.folder, service.port, cases=4)
    result = drovik("send", *SORT, "--json").json
    assert (result["answered"], result["failed"], result["requests"], result["tried_again"]) == (4, 0, 8, 4)
    assert result["store"] == {"attempts": 8, "replies": 7, "may_have_been_billed": 2}
    kept = dict(rows(drovik.folder, "SELECT outcome, COUNT(*) FROM attempts GROUP BY outcome"))
    assert kept == {"answered": 4, "lost": 1, "service_error": 1, "limited": 1, "unreadable": 1}
    assert rows(drovik.folder, "SELECT COUNT(*) FROM replies WHERE http_status = 429") == [(1,)]
    slips = [headers["Slip"] for headers in service.headers]
    assert sorted(slips.count(one) for one in set(slips)) == [2, 2, 2, 2]


def test_retry_after_is_honoured_by_the_whole_line(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: bad(429, "later", Retry_After="2") if n == 0 else good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=3, limits="concurrency = 1")
    assert drovik("send", *SORT).code == 0
    assert service.times[1] - service.times[0] >= 2.0


def test_the_slot_is_free_while_an_ask_waits(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: bad(500, "broken") if n == 0 else good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=3, limits="concurrency = 1")
    assert drovik("send", *SORT).code == 0
    slips = [headers["Slip"] for headers in service.headers]
    assert slips.index(slips[0], 1) == 3  # the two others went before it came again


def test_what_fails_all_its_tries_is_failed_and_sent_anew_only_when_told(drovik: Drovik, serve: Serve) -> None:
    well = False
    service = serve(lambda n, body: good('{"kind": "cap"}') if well or n == 0 else bad(500, "broken"))
    demo_on_port(drovik.folder, service.port, cases=3, limits="concurrency = 8, max_tries = 2")
    first = drovik("send", *SORT)
    assert first.code == 1
    assert "2 failed (service_error)" in first.out
    assert "drovik send --resend failed" in first.out
    assert drovik("send", *SORT, "--json").json["to_send"] == 0
    score = drovik("score", *SORT)
    assert "failed 2" in score.out
    assert "2 failed and are not scored: between" in score.out
    well = True
    asked = len(service.requests)
    assert drovik("send", *SORT, "--resend", "failed", "--json").json["answered"] == 2
    assert len(service.requests) == asked + 2
    slips = [headers["Slip"] for headers in service.headers]
    assert not set(slips[-2:]) & set(slips[:asked])  # another round has other request ids
    assert "failed" not in drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"]


@pytest.mark.parametrize(
    ("reply", "words", "most"),
    [
        (bad(401, "this key is not known"), ("does not accept the key", "key_env"), 8),
        (bad(403, "not for you"), ("forbids it", "may use this model"), 8),
        (bad(404, "no such model"), ("does not know the model 'fulmar-2'", "drovik.toml"), 8),
        (bad(400, "the model takes words only"), ("cannot see pictures", "takes_pictures = false"), 8),
        (bad(400, "field 'talk' is missing"), ("refused 5 requests in a row", "talk", "dialect"), 12),
        ((302, {"Location": "https://elsewhere.invalid/"}, b""), ("elsewhere.invalid", "url"), 8),
        ((300, {"Location": "https://elsewhere.invalid/"}, b""), ("elsewhere.invalid", "url"), 8),
        ((200, {}, json.dumps({"result": {"text": "a cap"}}).encode()), ("nothing at $.answer", "$.result.text"), 12),
    ],
    ids=["401", "403", "unknown model", "cannot see", "bad request", "redirect", "several choices", "another shape"],
)
def test_what_cannot_work_stops_at_once_with_one_clear_line(
    reply: Reply, words: tuple[str, ...], most: int, drovik: Drovik, serve: Serve
) -> None:
    service = serve(lambda n, body: reply)
    demo_on_port(drovik.folder, service.port, cases=40)
    result = drovik("send", *SORT)
    assert result.code == 3
    assert len(service.requests) <= most
    line = result.out.replace("\n", " ")
    assert all(word in line for word in words), line
    assert line.count(words[0]) == 1


BOTH = ("--task", "sort", "--arm", "fulmar/v1", "--arm", "gull/v1")


def test_a_model_that_cannot_see_holds_no_other_up_and_is_simply_asked_once_it_may(
    drovik: Drovik, serve: Serve
) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        sees = "picture" not in json.dumps(body) or body["model"] != "fulmar-2"
        return good('{"kind": "cap"}') if sees else bad(400, "fulmar-2 takes words only")

    service = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=6)
    result = drovik("send", *BOTH, "--json")
    assert result.code == 3
    assert result.json["answered"] == 6
    assert [line.split(":")[1].strip() for line in result.json["problems"]] == ["models.fulmar"]
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace('id = "fulmar-2"', 'id = "fulmar-2"\ntakes_pictures = false'))
    assert drovik("send", *SORT, "--json").json["answered"] == 1  # without pictures all six ask the same
    assert drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"] == {"ok": 6}


def test_an_unknown_model_stops_the_endpoint_before_more_is_spent(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        return bad(404, "no such model") if body["model"] == "fulmar-2" else good('{"kind": "cap"}')

    service = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=40)
    result = drovik("send", *BOTH, "--json")
    assert result.code == 3
    assert len(service.requests) <= 24
    (line,) = result.json["problems"]
    assert line.startswith("drovik.toml: models.fulmar: ")
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace("fulmar-2", "fulmar-3"))
    assert drovik("send", *BOTH).code == 0
    assert drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"] == {"ok": 40}


def test_a_service_that_is_down_is_one_line(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good("x"))
    service.close()
    demo_on_port(drovik.folder, service.port, cases=40)
    result = drovik("send", *SORT)
    assert result.code == 3
    assert "cannot be reached" in result.out
    bill = drovik("send", *SORT, "--json").json["store"]
    assert bill["may_have_been_billed"] == 0


def test_a_time_out_is_tried_again_and_counted_as_perhaps_billed(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(1.5 if number == 0 else 0)
        return good('{"kind": "cap"}')

    service = serve(decide)
    demo_on_port(drovik.folder, service.port, cases=2, limits="concurrency = 8, timeout = 0.5")
    result = drovik("send", *SORT, "--json").json
    assert result["answered"] == 2
    assert result["store"]["may_have_been_billed"] == 1


def test_the_key_goes_nowhere_but_to_the_service(drovik: Drovik, serve: Serve) -> None:
    service = serve(
        lambda n, body: good('{"kind": "cap", "k": "lost-and-found"}') if n else bad(500, "bad key lost-and-found")
    )
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    drovik("send", *SORT)
    drovik("report", "--task", "sort")
    assert len(service.requests) == 4
    assert b"lost-and-found" not in store_bytes(folder)
    assert b"[key]" in store_bytes(folder)
    assert "lost-and-found" not in (folder / "report.html").read_text()


def test_a_key_is_not_sent_to_a_host_nobody_agreed_to(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    settings = folder / "drovik.toml"
    settings.write_text(
        settings.read_text()
        .replace("http://127.0.0.1:1", "https://desk.invalid")
        .replace("concurrency", "max_tries = 1, concurrency")
    )
    result = drovik("send", *SORT)
    assert result.code == 2
    assert "the key in DESK_KEY was never sent to desk.invalid before" in result.err
    assert "--trust" in result.err
    assert drovik("send", *SORT, "--trust").code == 3  # no such host, but it was tried
    assert drovik("send", *SORT).code == 3


def test_a_picture_that_changes_or_goes_is_one_line_and_stops_no_other(drovik: Drovik, serve: Serve) -> None:
    folder = drovik.folder

    def decide(number: int, body: dict[str, Any]) -> Reply:
        if number == 0:
            (folder / "images/lp-006.jpg").write_bytes((folder / "images/lp-001.jpg").read_bytes())
            (folder / "images/lp-005.jpg").unlink()
            time.sleep(0.2)
        return good('{"kind": "cap"}')

    service = serve(decide)
    demo_on_port(folder, service.port, cases=6)
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace("concurrency = 8", "concurrency = 1"))
    result = drovik("send", *SORT)
    assert result.code == 1
    assert "images/lp-006.jpg: changed on disk" in result.out
    assert "images/lp-005.jpg: no such picture" in result.out
    assert "4 of 6 answered" in result.out


def test_ctrl_c_keeps_everything_that_came_back(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(0.2)
        return good('{"kind": "cap"}')

    service = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=48)
    process = drovik.start("send", *SORT)
    while len(service.requests) < 10 and process.poll() is None:
        time.sleep(0.02)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=20)
    assert process.returncode == 130
    assert "Traceback" not in err
    attempts, replies = rows(
        folder, "SELECT COUNT(*), COUNT(r.id) FROM attempts a LEFT JOIN replies r ON r.attempt = a.id"
    )[0]
    assert attempts == replies == len(service.requests) < 48
    assert f"{replies} of 48 answered" in out
    assert drovik("send", *SORT, "--json").json["answered"] == 48 - replies
    assert len(service.requests) == 48


def test_cases_that_ask_the_same_share_one_request(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=10)
    assert drovik("send", "--task", "sort", "--arm", "dunlin/v1", "--json").json["to_send"] == 1
    assert "picture" not in json.dumps(service.requests[0])
    assert drovik("score", "--task", "sort", "--arm", "dunlin/v1", "--json").json["tasks"]["sort"][0]["statuses"] == {
        "ok": 10
    }
    assert rows(folder, "SELECT COUNT(*), COUNT(DISTINCT identity) FROM asked") == [(10, 1)]


def test_damaged_and_foreign_stores_are_one_line(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    (folder / ".drovik").mkdir()
    path = folder / ".drovik" / "answers.sqlite"
    path.write_bytes(b"this is not a store at all, but a text of some length" * 100)
    damaged = drovik("score")
    assert damaged.code == 2
    assert damaged.err.startswith(".drovik/answers.sqlite: is damaged")
    path.unlink()
    with sqlite3.connect(path) as store:
        store.execute("PRAGMA user_version = 99")
    assert "another version of Drovik" in drovik("send").err


def test_pictures_prepared_to_other_bytes_than_before_are_told_and_not_bought_again(
    drovik: Drovik, serve: Serve
) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=2)
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace("[preps.full]", "[preps.full]\nfit = 200"))
    assert "other bytes" not in drovik("send", *SORT).out
    with sqlite3.connect(folder / ".drovik" / "answers.sqlite") as store:
        assert store.execute("SELECT COUNT(*) FROM prepared").fetchone() == (2,)
        store.execute("UPDATE prepared SET digest = 'as an older imaging library made it'")
    assert drovik("send", *SORT, "--json").json["to_send"] == 0
    again = drovik("send", *SORT, "--resend", "ok")
    assert again.out.count("is prepared to other bytes than before") == 1
    assert len(service.requests) == 4


def test_again_asks_anew_by_status_and_the_latest_good_reply_counts(drovik: Drovik, serve: Serve) -> None:
    answers = ['{"kind": "caps", "n": 1}', '{"kind": "hat"}']
    service = serve(lambda n, body: good(answers[n]) if n < 2 else bad(500, "broken"))
    demo_on_port(drovik.folder, service.port, cases=1, limits="concurrency = 8, max_tries = 1")

    def shown() -> dict[str, Any]:
        return drovik("show", "lp-001", *SORT, "--json").json["tasks"]["sort"]["arms"]["fulmar/v1"]

    drovik("send", *SORT)
    assert shown()["status"] == "off_schema"
    assert drovik("send", *SORT, "--resend", "empty", "--json").json["to_send"] == 0
    assert drovik("send", *SORT, "--resend", "off_schema", "--json").json["to_send"] == 1
    assert (shown()["status"], shown()["value"]) == ("ok", {"kind": "hat"})
    assert drovik("send", *SORT, "--resend", "ok", "--json").json["failed"] == 1
    found = shown()
    assert (found["status"], found["value"]) == ("ok", {"kind": "hat"})  # what was paid for is not lost to a failure
    assert [one["outcome"] for one in found["attempts"]] == ["answered", "answered", "service_error"]


def test_several_pictures_stand_where_the_prompt_places_them(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=48)
    rows = [row for row in (folder / "cases.jsonl").read_text().splitlines() if '"tag": "tag"' in row]
    (folder / "cases.jsonl").write_text("\n".join(rows) + "\n")
    (folder / "tasks/sort/prompts/v1.toml").write_text(
        "ask = 'The tag {{ picture(\"tag\") }} and the tray {{ picture(1) }}.'\n"
    )
    assert drovik("send", *SORT).code == 0
    assert len(service.requests) == len(rows) == 4
    for body in service.requests:
        parts = body["talk"][0]["parts"]
        assert [part.get("words") for part in parts] == ["The tag ", None, " and the tray ", None, "."]
        assert len(parts[1]["picture"]) != len(parts[3]["picture"])


def test_held_cases_are_sent_and_kept_apart(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=6)
    rows = [json.loads(row) for row in (folder / "cases.jsonl").read_text().splitlines()]
    for row in rows[:2]:
        row["split"] = "held_out"
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    assert drovik("send", *SORT, "--json").json["answered"] == 6

    def counted(*words: str) -> int:
        return drovik("score", *SORT, *words, "--json").json["tasks"]["sort"][0]["measures"][0]["cases"]

    assert (counted(), counted("--split", "held_out"), counted("--split", "all")) == (4, 2, 6)


def test_prices_are_those_of_the_day_and_money_is_exact(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    first = drovik("send", *SORT, "--json").json
    # 3 x (1000 in at 2.00 + 10 out at 7.00) per million
    assert first["money"] == {"EUR": "0.00621"}
    settings = folder / "drovik.toml"
    settings.write_text(
        settings.read_text().replace('currency = "EUR", input = 2.00', 'currency = "NOK", input = 20.5')
    )
    assert drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["costs"]["money"] == {"EUR": "0.00621"}
    second = drovik("send", "--task", "sort", "--arm", "fulmar/v2", "--json").json
    assert second["money"] == {"NOK": "0.06171"}
    assert second["money_in_all"] == {"EUR": "0.00621", "NOK": "0.06171"}


def test_one_bad_request_among_good_ones_is_failed_and_not_asked_for_ever(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: bad(413, "the picture is too large") if n == 0 else good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=4, limits="concurrency = 1")
    first = drovik("send", *SORT)
    assert first.code == 1
    assert "3 of 4 answered, 1 failed, 0 left" in first.out
    assert "1 failed (bad_request)" in first.out
    assert drovik("send", *SORT, "--json").json["to_send"] == 0
    shown = [drovik("show", f"lp-00{n}", *SORT).out for n in (1, 2, 3, 4)]
    assert sum("the picture is too large" in one for one in shown) == 1


def test_a_short_placeholder_for_a_key_does_not_spoil_replies(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=1)
    (folder / ".env").write_text("DESK_KEY=a\n")
    assert drovik("send", *SORT).code == 0
    assert drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"] == {"ok": 1}


def test_one_model_at_two_endpoints_is_two_models_and_a_renamed_endpoint_keeps_its_answers(
    drovik: Drovik, serve: Serve
) -> None:
    """Today's answers of the one must not be counted as the other's; nor may a new name buy everything again."""
    one, other = serve(lambda n, body: good('{"kind": "cap"}')), serve(lambda n, body: good('{"kind": "hat"}'))
    folder = demo_on_port(drovik.folder, one.port, cases=4)
    path = folder / "drovik.toml"
    path.write_text(
        path.read_text()
        + f"""
[endpoints.quay]
url = "http://127.0.0.1:{other.port}"
dialect = "plain"
key_env = "DESK_KEY"

[models.heron]
endpoint = "quay"
id = "fulmar-2"
settings = {{ temperature = 0.0, max_output_tokens = 300 }}
"""
    )
    words = ("--task", "sort", "--arm", "fulmar/v1", "--arm", "heron/v1")
    assert drovik("send", *words, "--json").json["answered"] == 8
    assert (len(one.requests), len(other.requests)) == (4, 4)
    path.write_text(
        path.read_text()
        .replace("quay", "pier")
        .replace(
            'key_env = "DESK_KEY"\n\n[models.heron]', 'key_env = "DESK_KEY"\nformerly = ["quay"]\n\n[models.heron]'
        )
    )
    again = drovik("send", *words, "--json").json
    assert (again["to_send"], again["answered_before"]) == (0, 8)
    assert drovik("score", *words, "--json").json["tasks"]["sort"][1]["statuses"] == {"ok": 4}
    path.write_text(path.read_text().replace('formerly = ["quay"]', 'formerly = ["desk"]'))
    assert "'desk' is an endpoint of today" in drovik("check").out
