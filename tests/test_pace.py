"""Limits by the minute and the day, shared by programs; slowing down and climbing; headers; the order of sending."""

from __future__ import annotations

import asyncio
import random
import threading
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, bad, demo_on_port, good
from test_safety import SORT, Serve, rows

import drovik.transport.shared_limits as sharing_module
from drovik.project.dialects import LeftHeaders
from drovik.project.settings import Limits
from drovik.transport.circuit_breaker import FAILED_IN_A_ROW, CircuitBreaker
from drovik.transport.rate_control import RateControl, remaining_of, span
from drovik.transport.shared_limits import SharedLimits

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)


class Clock:
    """Time that passes when it is reported to."""

    def __init__(self) -> None:
        self.now = 1000.0

    def monotonic(self) -> float:
        return self.now

    def time(self) -> float:
        return self.now


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    made = Clock()
    monkeypatch.setattr(sharing_module, "time", made)
    return made


@pytest.mark.parametrize("limit", [1, 2, 7, 60, pytest.param(600, marks=pytest.mark.long)])
def test_no_minute_has_more_requests_than_the_limit_and_hardly_fewer(limit: int, clock: Clock) -> None:
    shared, chance, sent = SharedLimits(None, "e", Limits(per_minute=limit)), random.Random(limit), []
    while clock.now < 1000 + 600:
        clock.now += shared.seconds_until(0)
        sent.append(clock.now)
        clock.now += chance.expovariate(30)
    assert max(sum(start <= one < start + 60 for one in sent) for start in sent) <= limit
    assert len(sent) >= 0.9 * limit * 10


def test_tokens_that_came_out_more_are_waited_for_and_fewer_are_given_back(clock: Clock) -> None:
    """6000 a minute, a twentieth of it at once: each 1000 tokens more are 1000 · 60 / 5700 seconds."""
    waits = []
    for correction in (0, 1000, -1000):
        shared = SharedLimits(None, "e", Limits(tokens_per_minute=6000))
        for _ in range(10):
            shared.seconds_until(500)
        if correction:
            shared.correct(correction)
        waits.append(shared.seconds_until(500))
    assert waits[1] - waits[0] == pytest.approx(60_000 / 5700, rel=1e-3)
    assert waits[0] - waits[2] == pytest.approx(60_000 / 5700, rel=1e-3)


def test_the_limits_of_a_day_are_of_any_24_hours_and_a_clock_set_back_gives_nothing(clock: Clock) -> None:
    shared = SharedLimits(None, "e", Limits(per_day=5, tokens_per_day=1000))
    assert [shared.day_allows(150) for _ in range(5)] == [None] * 5
    assert shared.day_allows(150) == "5 requests in 24 hours"
    clock.now -= 3 * 3600
    assert shared.day_allows(150) == "5 requests in 24 hours"
    clock.now += 28 * 3600
    assert shared.day_allows(900) is None
    shared.correct(90)
    assert shared.day_allows(20) == "1000 tokens in 24 hours"


def test_a_day_is_full_until_the_same_hour_of_the_next(clock: Clock) -> None:
    shared = SharedLimits(None, "e", Limits(per_day=1))
    assert shared.day_allows(1) is None
    for _ in range(23):
        clock.now += 3600
        assert shared.day_allows(1) is not None
    clock.now += 3600
    assert shared.day_allows(1) is None


def test_slots_are_shared_evenly_and_never_more_than_there_are(tmp_path: Path) -> None:
    limits = Limits(concurrency=5)
    both = [SharedLimits(tmp_path / "pace.sqlite", "e", limits) for _ in range(2)]
    assert [one.share(0).slots for one in both] == [3, 2]
    assert both[1].share(2).slots == 2
    both[0].share(5)  # it has still five under way of the time when it was alone
    assert both[1].share(0).slots == 0
    both[0].leave()
    assert both[1].share(0).slots == 5
    many = [SharedLimits(tmp_path / "pace.sqlite", "one", Limits(concurrency=1)) for _ in range(3)]
    assert [one.share(0).slots for one in many] == [1, 0, 0]


def test_it_slows_down_when_told_and_climbs_again(monkeypatch: pytest.MonkeyPatch) -> None:
    async def run() -> None:
        rates = RateControl(Limits(concurrency=16))
        seen = [rates.slots.room]
        for _ in range(3):
            rates._cut_at = -10
            rates.on_rate_limited(None)
            seen.append(rates.slots.room)
        for _ in range(200):
            rates.answered()
        assert seen == [16, 8, 4, 2]
        assert rates.slots.room == 16

    asyncio.run(run())


def test_a_circuit_opens_after_failures_in_a_row_and_lets_one_probe_through(monkeypatch: pytest.MonkeyPatch) -> None:
    clock = Clock()
    monkeypatch.setattr("drovik.transport.circuit_breaker.time", clock)
    breaker = CircuitBreaker(concurrency=2, give_up_after=100)
    breaker.take("answered")
    for _ in range(FAILED_IN_A_ROW):
        assert not breaker.is_open
        breaker.take("timeout")
    assert breaker.is_open
    assert not breaker.enter()
    clock.now += breaker.wait()
    assert breaker.enter()
    assert not breaker.enter(), "two probes at once"
    breaker.take("service_error")
    assert breaker.wait() == pytest.approx(1.5)
    clock.now += 2
    assert breaker.enter()
    breaker.take("answered")
    assert breaker.enter()
    assert not breaker.is_open
    for _ in range(FAILED_IN_A_ROW):
        breaker.take("lost")
    clock.now += 101
    assert breaker.gives_up()


@pytest.mark.parametrize(
    ("headers", "told", "wanted"),
    [
        ({"RateLimit": '"all";r=3;t=12'}, None, (3, 12)),
        ({"RateLimit-Remaining": "0", "RateLimit-Reset": "7"}, None, (0, 7)),
        ({"X-Left": "2", "X-Again": "1m30s"}, {"requests": "X-Left", "requests_again": "X-Again"}, (2, 90)),
        ({"T-Left": "0", "T-Again": "2026-11-23T12:00:05Z"}, {"tokens": "T-Left", "tokens_again": "T-Again"}, (0, 5)),
        ({"RateLimit-Remaining": "lots", "RateLimit-Reset": "7"}, None, (None, None)),
        ({}, None, (None, None)),
    ],
)
def test_headers_tell_what_is_left(headers: dict[str, str], told: Any, wanted: tuple[Any, Any]) -> None:
    assert remaining_of(headers, LeftHeaders.model_validate(told) if told else None, NOW) == wanted


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("3", 3),
        ("250ms", 0.25),
        ("1h2m", 3720),
        ("1795435210", 10),
        ("Mon, 23 Nov 2026 12:00:20 GMT", 20),
        ("2026-11-23T14:00:30+02:00", 30),
        ("2026-11-23T12:00:40", 40),
        ("2026-11-23T11:00:00Z", 0),
        ("x", None),
        ("3" + 400 * " " + "s", None),
    ],
)
def test_spans_come_in_every_form(text: str, seconds: float | None) -> None:
    assert span(text, NOW) == (None if seconds is None else pytest.approx(seconds))


# Against services on real sockets.


@pytest.mark.long
def test_a_limit_by_the_minute_holds_for_two_programs_together(drovik: Drovik, serve: Serve, tmp_path: Path) -> None:
    service: FakeService = serve(lambda n, body: good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, limits="concurrency = 4, per_minute = 240")
    other = Drovik(tmp_path / "other", tmp_path / "config")
    demo_on_port(tmp_path / "other", service.port, limits="concurrency = 4, per_minute = 240")
    threads = [
        threading.Thread(target=lambda run=run: run("send", *SORT, "--sample", "24")) for run in (drovik, other)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(service.requests) == 48
    # 12 at once (a twentieth), then one every 60 / 229 s, whoever sends.
    rate = (48 - 12) / (service.times[-1] - service.times[0])
    assert rate <= 229 / 60 * 1.1
    assert service.most_under_way <= 4


def test_the_limit_of_a_day_ends_the_run_with_one_line(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, limits="concurrency = 4, per_day = 10")
    result = drovik("send", *SORT, "--json")
    assert (result.code, result.json["answered"], result.json["left"]) == (3, 10, 38)
    assert "the limit of 10 requests in 24 hours is reached" in result.json["problems"][0]
    assert drovik("send", *SORT, "--json").json["answered"] == 0
    assert len(service.requests) == 10


def test_what_headers_say_is_heeded_before_anything_is_refused(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        status, headers, data = good('{"kind": "cap"}')
        left = {"RateLimit": "r=0;t=2"} if number == 3 else {}
        return status, {**headers, **left}, data

    service = serve(decide)
    demo_on_port(drovik.folder, service.port, cases=8, limits="concurrency = 1")
    assert drovik("send", *SORT, "--json").json["troubles"] == {}
    gaps = [after - before for before, after in zip(service.times, service.times[1:], strict=False)]
    assert gaps[3] > 1.8
    assert max(gaps[:3] + gaps[4:]) < 1


def test_a_slow_endpoint_holds_none_up_and_sending_spreads_over_arms(drovik: Drovik, serve: Serve) -> None:
    quick = serve(lambda n, body: good('{"kind": "cap"}'))

    def slowly(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(0.4)
        return good('{"kind": "cap"}')

    slow = serve(slowly)
    folder = demo_on_port(drovik.folder, quick.port, cases=6, limits="concurrency = 1")
    text = (folder / "drovik.toml").read_text()
    more = f'[endpoints.slow]\nurl = "http://127.0.0.1:{slow.port}"\ndialect = "plain"\nkey_env = "DESK_KEY"\nlimits = {{ concurrency = 1 }}\n'
    text = text.replace("[models.gull]", f"{more}\n[models.gull]").replace(
        'endpoint = "desk"\nid = "gull-1"', 'endpoint = "slow"\nid = "gull-1"'
    )
    (folder / "drovik.toml").write_text(text)
    assert drovik("send", "--task", "sort", "--arm", "fulmar", "--arm", "gull", "--json").json["answered"] == 24
    assert quick.times[-1] < slow.times[3]
    arms = [body["talk"][0]["parts"][-1]["words"] for body in quick.requests]
    assert len(set(arms[:2])) == 2, "the first two requests are of one arm"


def test_a_machine_with_few_files_is_told_and_nothing_fails(drovik: Drovik, serve: Serve) -> None:
    import subprocess

    from conftest import PROGRAM

    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, limits="concurrency = 60, timeout = 30")
    command = f"ulimit -n 40; exec {PROGRAM} send --task sort --arm fulmar/v1 --quiet"
    done = subprocess.run(["bash", "-c", command], cwd=folder, env=drovik.environment, capture_output=True, text=True)
    assert "Traceback" not in done.stderr
    assert done.returncode == 0, done.stdout + done.stderr
    assert "so no more than 4 requests go at once" in done.stdout
    assert rows(folder, "SELECT COUNT(*) FROM replies WHERE http_status = 200") == [(48,)]


def test_a_state_folder_that_cannot_be_written_is_told(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=3)
    state = drovik.folder / "no-folder"
    state.write_text("a file")
    drovik.environment["XDG_STATE_HOME"] = str(state)
    result = drovik("send", *SORT)
    assert result.code == 0
    assert "the limits cannot be shared" in result.out


@pytest.mark.long
def test_a_storm_of_429_is_waited_out(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        if 4 <= number < 12:
            date = datetime.now(UTC).strftime("%a, %d %b %Y %H:%M:%S GMT")
            return bad(429, "slow down", **({"Retry_After": date} if number % 2 else {"Retry_After": "1"}))
        return good('{"kind": "cap"}')

    service = serve(decide)
    demo_on_port(drovik.folder, service.port, cases=20, limits="concurrency = 4")
    result = drovik("send", *SORT, "--json").json
    assert (result["answered"], result["failed"]) == (20, 0)
    assert result["troubles"] == {"limited": 8}
