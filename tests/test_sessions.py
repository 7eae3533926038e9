"""What one endpoint's line does after each outcome: whom it stops, how fast it goes on, what it waits for."""

from __future__ import annotations

import asyncio
import contextlib
import random
import sqlite3
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from in_process import DIALECT, InProcess, in_process
from test_pace import Clock

from drovik.dialects.response import ParsedReply
from drovik.project.dialects import ErrorWords
from drovik.project.settings import Limits
from drovik.project.spending import Spending
from drovik.store.claims import Claims
from drovik.transport import circuit_breaker, queue, rate_control, session
from drovik.transport.circuit_breaker import FAILED_IN_A_ROW, CircuitBreaker
from drovik.transport.outcomes import (
    Kind,
    Outcome,
    outcome_of,
    outcome_of_error,
    remedy_of,
    wait_before,
    wants_picture,
)
from drovik.transport.preparer import write_request
from drovik.transport.queue import Queue, Tally
from drovik.transport.rate_control import RateControl, Remaining
from drovik.transport.session import EndpointSession
from drovik.transport.shared_limits import SharedLimits

FILES = {
    "tasks/look/question.toml": '[answer]\nform = "text"\n',
    "tasks/look/prompts/v1.toml": 'ask = "Look."\n',
    "dialects/plain.toml": DIALECT.replace(
        "[request]", '[left]\nrequests = "X-Left"\nrequests_again = "X-Again"\n[request]'
    ),
}


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    made = Clock()
    for module in (circuit_breaker, rate_control, session):
        monkeypatch.setattr(module, "time", made)
    return made


@pytest.fixture
def made(tmp_path: Path) -> Iterator[InProcess]:
    with in_process(tmp_path, FILES) as found:
        yield found


@pytest.fixture
def line(made: InProcess, clock: Clock) -> EndpointSession:
    return EndpointSession(made.project, "desk")


def hear(line: EndpointSession, made: InProcess, *kinds: Kind, arm: str = "gull/v1", **more: Any) -> None:
    request = made.threads("look", arm)[0].requests[0]
    last = more.pop("last_try", False)
    for kind in kinds:
        line.learn(request, Outcome(kind, **more), ParsedReply() if kind == "answered" else None, last)


# Whom an outcome stops.


@pytest.mark.parametrize(
    ("kind", "stops", "where", "line_of"),
    [
        ("key_rejected", "endpoint", "", "endpoints.desk: the service at http://127.0.0.1:1 does not accept the key: \"said\";"),
        ("forbidden", "endpoint", "", "endpoints.desk: the service at http://127.0.0.1:1 forbids it: \"said\";"),
        ("redirected", "endpoint", "", "endpoints.desk: the service at http://127.0.0.1:1 said;"),
        ("untrusted", "endpoint", "", "endpoints.desk: the certificate of the service at http://127.0.0.1:1 is not trusted"),
        ("not_found", "endpoint", "", "models.gull: the service at http://127.0.0.1:1 does not know the model 'gull-1', or not"),
        ("no_pictures", "model", "gull", "models.gull: this model cannot see pictures: \"said\";"),
    ],
)  # fmt: skip
def test_what_would_fail_each_time_is_said_once_where_it_is_to_be_repaired(
    line: EndpointSession, made: InProcess, kind: Kind, stops: Any, where: str, line_of: str
) -> None:
    hear(line, made, kind, stops=stops, words="said")
    (problem,) = line.stopped.values()
    assert list(line.stopped) == [where]
    assert problem.line().startswith(f"drovik.toml: {line_of}")
    assert line.is_stopped("gull")
    assert line.is_stopped("fulmar") == (where == "")
    hear(line, made, "forbidden", stops="endpoint", words="later")
    assert line.stopped[where] == problem  # the first is what is said


def test_an_endpoint_that_was_never_reached_is_left_and_one_that_worked_is_waited_for(
    line: EndpointSession, made: InProcess
) -> None:
    hear(line, made, *["unreachable"] * 5, words="refused")
    assert not line.stopped
    hear(line, made, "answered")
    hear(line, made, *["unreachable"] * 7, words="refused")
    assert not line.stopped
    fresh = EndpointSession(made.project, "desk")
    hear(fresh, made, *["unreachable"] * 6, words="refused")
    assert 'cannot be reached: "refused"' in fresh.stopped[""].line()
    once = EndpointSession(made.project, "desk")
    hear(once, made, "unreachable", last_try=True)
    assert once.is_stopped("gull")


def test_a_model_that_refuses_all_is_left_and_one_bad_picture_stops_nothing(
    line: EndpointSession, made: InProcess
) -> None:
    hear(line, made, *["bad_request"] * 4, words="what?")
    assert not line.stopped
    hear(line, made, *["bad_request"] * 4, arm="fulmar/v1")  # each model for itself
    assert not line.stopped
    hear(line, made, "bad_request", words="what?")
    assert list(line.stopped) == ["gull"]
    assert 'refused 5 requests in a row and accepted none: "what?"' in line.stopped["gull"].line()
    assert not line.is_stopped("fulmar")
    worked = EndpointSession(made.project, "desk")
    hear(worked, made, "answered", *["bad_request"] * 20)
    assert not worked.stopped


def test_good_replies_with_nothing_where_the_dialect_looks_end_it_before_all_is_bought(
    line: EndpointSession, made: InProcess
) -> None:
    request = made.threads("look", "gull/v1")[0].requests[0]
    for note in ("no text", "no text", "", "no text", "no text"):
        line.learn(request, Outcome("answered"), ParsedReply(note=note), False)
    assert not line.stopped
    line.learn(request, Outcome("incomplete"), ParsedReply(note="no text"), False)
    assert line.stopped[""].line().startswith("dialects/plain.toml: reply.text: no text; fix it")


def test_a_day_that_is_used_up_ends_it_with_what_to_do(line: EndpointSession) -> None:
    line.stop_for_today("300 requests a day")
    assert line.stopped[""].line() == (
        "drovik.toml: endpoints.desk.limits: the limit of 300 requests a day is reached; what is left waits; "
        "go on later with: drovik send"
    )
    line.stop_for_today("another")
    assert "300" in line.stopped[""].line()


# How fast it goes on.


def test_what_it_waits_for_is_said(line: EndpointSession, made: InProcess, clock: Clock) -> None:
    assert (line.wait(), line.state()) == (0, "")
    hear(line, made, "answered", *["timeout"] * FAILED_IN_A_ROW)
    assert line.state() == "desk keeps failing, the next probe in 1 s"
    assert line.wait() == pytest.approx(1)
    clock.now += 601
    hear(line, made, "service_error", words="down")
    assert "keeps failing (service_error): down; see that it is well" in line.stopped[""].line()
    assert line.state() == ""
    line = EndpointSession(made.project, "desk")
    line.rates.share = 0
    assert line.state() == "desk is all taken by other programs"


def test_a_service_that_asks_to_wait_is_not_asked(line: EndpointSession, made: InProcess, clock: Clock) -> None:
    hear(line, made, "service_error", wait=7.0)
    assert line.wait() == pytest.approx(7)
    clock.now += 7
    hear(line, made, "limited", wait=3.0)
    assert line.wait() == pytest.approx(3)
    assert line.rates.slots.room == 2
    clock.now += 3
    hear(line, made, "no_descriptors")
    assert line.rates.slots.room == 1
    hear(line, made, *["answered"] * 20)
    assert line.rates.slots.room == 4
    line.headers = {"X-Left": "0", "X-Again": "9"}
    hear(line, made, "answered")
    assert line.wait() == pytest.approx(9)


def test_after_each_refusal_the_gap_between_requests_doubles_and_answers_take_it_back(clock: Clock) -> None:
    rates = RateControl(Limits(concurrency=2, give_up_after=20))
    gaps = []
    for _ in range(10):
        clock.now += 100
        rates.on_rate_limited(None)
        gaps.append(rates._gap)
    assert gaps == [0, *(min(30.0, 0.25 * 2**n) for n in range(9))]
    for _ in range(30):
        rates.answered()
    assert rates._gap == 0
    rates = RateControl(Limits(concurrency=8, give_up_after=20))
    rates.keep_quiet(1000)
    assert rates.quiet_for() == pytest.approx(20)  # no longer than it would be waited for at all
    rates.keep_quiet(5)
    assert rates.quiet_for() == pytest.approx(20)
    rates.on_rate_limited(None)
    rates.on_rate_limited(None)  # those that were under way together count once
    assert rates.slots.room == 4


def test_what_headers_say_is_left_is_not_exceeded(clock: Clock) -> None:
    rates = RateControl(Limits(concurrency=8))
    rates.slots.in_use = 6
    rates.apply_headers(Remaining(6, 30))
    assert rates.slots.room == 8
    rates.apply_headers(Remaining(3, 30))
    assert rates.slots.room == 3
    rates.apply_headers(Remaining(0, None))
    assert rates.quiet_for() <= 0
    rates.apply_headers(Remaining(1, 30))
    assert (rates.slots.room, rates.quiet_for() <= 0) == (1, True)
    rates.apply_headers(Remaining(0, 30))
    assert rates.quiet_for() == pytest.approx(30)
    rates = RateControl(Limits(concurrency=8))
    rates.bound_to(2)
    assert rates.slots.room == 2


def test_a_program_that_comes_in_beside_others_takes_its_share(tmp_path: Path) -> None:
    path, limits = tmp_path / "pace.sqlite", Limits(concurrency=5)
    first = RateControl(limits, SharedLimits(path, "e", limits))
    first.look()
    assert (first.share, first.users, first.slots.room) == (5, 1, 5)
    second = RateControl(limits, SharedLimits(path, "e", limits))
    first.look()
    second.look()
    assert (first.share, second.share, second.users) == (3, 2, 2)
    first.keep_quiet(4)
    second.look()
    assert 3 < second.quiet_for() <= 4
    assert second.alone() is None
    with contextlib.closing(sqlite3.connect(path)) as shared:
        shared.execute("DELETE FROM users")  # both were stopped for so long that they were taken for dead
        shared.commit()
    first.look()
    second.look()
    first.look()
    assert (first.share + second.share, first.users, second.users) == (5, 2, 2)


# The circuit.


def test_a_circuit_opens_only_after_failures_in_a_row_and_probes_less_and_less_often(clock: Clock) -> None:
    breaker = CircuitBreaker(concurrency=8, give_up_after=1000)
    breaker.take("answered")
    for kind in ["timeout"] * 15 + ["bad_request"] + ["lost"] * 15:
        breaker.take(kind)
    assert not breaker.is_open  # twice as many as are under way together, and a refusal is an answer
    assert not breaker.gives_up()
    breaker.take("unreadable")
    assert breaker.is_open
    pauses = []
    for _ in range(11):
        pauses.append(breaker.wait())
        clock.now += breaker.wait() - 0.01
        assert not breaker.enter()
        clock.now += 0.01
        assert breaker.wait() == 0
        assert breaker.enter()
        assert breaker.wait() == 0.05
        breaker.take("unreachable")
    assert pauses == pytest.approx([min(30, 1.5**n) for n in range(11)])
    until = breaker.wait()
    breaker.take("timeout")  # it was under way when the probe failed
    assert breaker.wait() == until
    clock.now += until
    assert breaker.enter()
    breaker.leave()  # it did not leave after all: another may
    assert breaker.enter()
    assert not breaker.gives_up()
    clock.now += 1000
    assert breaker.gives_up()


def test_what_never_worked_is_left_after_ten_seconds(clock: Clock) -> None:
    breaker = CircuitBreaker(concurrency=1, give_up_after=100)
    for _ in range(FAILED_IN_A_ROW):
        breaker.take("timeout")
    clock.now += 10
    assert not breaker.gives_up()
    clock.now += 0.1
    assert breaker.gives_up()
    assert CircuitBreaker(1, 3)._patience == 3


# What an outcome is.


@pytest.mark.parametrize(
    ("status", "words", "wanted"),
    [
        (200, "", Outcome("answered")),
        (299, "", Outcome("answered")),
        (401, "w", Outcome("key_rejected", stops="endpoint", words="w")),
        (403, "w", Outcome("forbidden", stops="endpoint", words="w")),
        (408, "w", Outcome("service_error", again=True, words="w")),
        (425, "w", Outcome("service_error", again=True, words="w")),
        (429, "w", Outcome("limited", again=True, words="w")),
        (501, "w", Outcome("service_error", words="w")),
        (503, "w", Outcome("service_error", again=True, words="w")),
        (400, "your API key is wrong", Outcome("key_rejected", stops="endpoint", words="your API key is wrong")),
        (400, "extra key in body", Outcome("bad_request", words="extra key in body")),
        (413, "your API key is wrong", Outcome("bad_request", words="your API key is wrong")),
        (400, "no vision: images cannot be taken", Outcome("no_pictures", stops="model", words="no vision: images cannot be taken")),
        (400, "this model is unknown", Outcome("not_found", stops="endpoint", words="this model is unknown")),
        (400, "unknown shelf", Outcome("bad_request", words="unknown shelf")),
        (410, "gone", Outcome("not_found", stops="endpoint", words="gone")),
        (400, "Words Only, please", Outcome("no_pictures", stops="model", words="Words Only, please")),
        (400, "no such bird", Outcome("not_found", stops="endpoint", words="no such bird")),
    ],
)  # fmt: skip
def test_what_a_status_and_its_words_mean(status: int, words: str, wanted: Outcome) -> None:
    told = ErrorWords(no_pictures=("words only, please",), unknown_model=("no such bird",))
    assert outcome_of(status, words, None, told, False) == wanted


@pytest.mark.parametrize(
    ("words", "code", "kind", "again"),
    [
        ("x", 429, "limited", True), ("rate exceeded", None, "limited", True), ("bad key", None, "key_rejected", False),
        ("something else", None, "service_error", True), ("unknown model", None, "not_found", False), ("x", 400, "bad_request", False),
    ],
)  # fmt: skip
def test_an_error_that_comes_with_a_good_status_means_what_it_says(
    words: str, code: int | None, kind: str, again: bool
) -> None:
    found = outcome_of_error(words, code, ErrorWords(), False)
    assert (found.kind, found.again) == (kind, again)


@pytest.mark.parametrize(
    ("words", "remedy"),
    [
        ("could not fetch the image at http://x", "the service cannot load the picture from its address"),
        ("the url could not be opened", "the service cannot load the picture from its address"),
        ("an image is required", "this service answers only with a picture"),
        ("temperature: extra inputs are not permitted", "take temperature out of the model's settings"),
        ("temperature is too hot", "compare the dialect with the documentation"),
        ("unknown colour", "compare the dialect with the documentation"),
    ],
)
def test_a_refusals_remedy_follows_from_its_words(words: str, remedy: str) -> None:
    assert remedy_of("bad_request", words).startswith(remedy)
    assert remedy_of("lost", words) == "drovik send --resend failed"
    assert not wants_picture("images are not needed: it cannot see images")


def test_waits_double_from_half_a_second_to_a_minute() -> None:
    class Most(random.Random):
        def uniform(self, a: float, b: float) -> float:
            return b

    assert [wait_before(n, None, Most()) for n in range(1, 10)] == [0.5, 1, 2, 4, 8, 16, 32, 60, 60]
    assert wait_before(1, 10, Most()) == 11
    assert wait_before(5, 1, Most()) == 8
    least = SimpleNamespace(uniform=lambda a, b: a)
    assert wait_before(3, None, least) == 1  # type: ignore[arg-type]


def test_a_date_to_wait_until_counts_from_now() -> None:
    then = datetime.now(UTC) + timedelta(seconds=90)
    found = outcome_of(429, "", then.strftime("%a, %d %b %Y %H:%M:%S GMT"), ErrorWords(), True)
    assert found.wait == pytest.approx(90, abs=2)


# The queue.


def test_what_others_hold_is_asked_when_they_have_given_it_back(
    made: InProcess, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(queue, "LOOKS_EVERY", 0.01)
    requests = [one.requests[0] for one in made.threads("look")]
    ours, theirs = made.store.claims, Claims(made.store.connection, made.store._writer)
    made.answer(requests[1], "A cap.")
    ours.register()
    theirs.register()
    theirs.claim([requests[0].identity])
    line = Queue(requests, ours, (), 0, 2)

    async def drain() -> list[tuple[str, bool]]:
        found = []
        while len(found) < len(requests) - 1 and (one := await line.next(lambda: False)):
            found.append((one[0].identity, one[1]))
        assert line.elsewhere == 1
        assert line.claim(requests[0]) is None
        assert line.elsewhere == 2
        theirs.leave()
        last = await line.next(lambda: False)
        assert last is not None
        assert last[0].identity == requests[0].identity
        assert line.claim(requests[1]) is True
        assert line.claim(requests[2]) is False
        assert await Queue([], ours, (), 0, 2).next(lambda: False) is None
        assert await Queue(requests, ours, (), 0, 2).next(lambda: True) is None
        return found

    assert asyncio.run(drain()) == [(one.identity, one is requests[1]) for one in requests[1:]]


def test_counts_are_of_the_run_its_arms_and_its_models() -> None:
    tally = Tally.of(3, None)
    for counts in tally.parts("look", "gull/v1", "gull"):
        counts.total = 3
        counts.pay(Spending("EUR", Decimal("0.5")))
        counts.pay(Spending("EUR", Decimal("0.25")))
        counts.pay(None)
        counts.end("answered", True)
        counts.end("timeout", True)
    (arm,), (model,) = tally.arms.values(), tally.models.values()
    for one in (tally, arm, model):
        assert (one.answered, one.failed, one.first_time, one.open) == (1, 1, 1, 1)
        assert one.money == {"EUR": Decimal("0.75")}
        assert one.kinds == {"timeout": 1}
    tally.parts("look", "gull/v1", "gull")[0].end("answered", False)
    assert (tally.answered, tally.first_time) == (2, 1)
    assert tally.most == {}


def test_a_picture_that_changed_under_the_plan_is_named(made: InProcess) -> None:
    request = made.threads("look", "gull/v1")[0].requests[0]
    line = EndpointSession(made.project, "desk")
    written = write_request(made.project, line.writer, request, "r1")
    assert [(one.path, one.source) for one in written.facts] == [("0.png", made.digests["0.png"])]
    (made.project.folder / "0.png").write_bytes((made.project.folder / "1.png").read_bytes())
    with pytest.raises(Exception, match=r"^0\.png: changed on disk"):
        write_request(made.project, line.writer, request, "r1")
