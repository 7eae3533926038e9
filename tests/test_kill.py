"""A sender that is killed at any moment loses no reply that was kept, and asks for none of them again."""

from __future__ import annotations

import random
import signal
import sqlite3
import time
from collections import Counter
from collections.abc import Callable

from conftest import Drovik, StandInProcess, demo_on_port

AT_ONCE = 8
KILLS = 2


def test_kills_lose_nothing_and_buy_nothing_twice(
    drovik: Drovik, start_standin: Callable[..., StandInProcess]
) -> None:
    standin = start_standin("--slow", "0.12")
    folder = demo_on_port(drovik.folder, standin.port, cases=24)
    chance = random.Random(11)
    words = ("send", "--task", "sort", "--task", "read-tag", "--arm", "fulmar", "--arm", "gull")
    for _ in range(KILLS):
        process = drovik.start(*words)
        asked = len(standin.entries())
        wait_until(lambda asked=asked: len(standin.entries()) > asked)
        time.sleep(chance.uniform(0.0, 0.8))
        process.send_signal(signal.SIGKILL)
        process.wait()
    killed = drovik("send", "--task", "sort", "--arm", "gull/v1", "--json").json["store"]
    last = drovik(*words, "--json", timeout=200)
    assert last.code == 0
    assert killed["may_have_been_billed"] > 0, "no kill came while a request was under way"

    with sqlite3.connect(folder / ".drovik" / "answers.sqlite") as store:
        answered = store.execute("SELECT identity FROM attempts WHERE concluded = 1").fetchall()
        attempts = store.execute(
            "SELECT a.identity, r.id FROM attempts a LEFT JOIN replies r ON r.attempt = a.id"
        ).fetchall()
        assert store.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    assert len(answered) == len(set(answered)) == 24 * 2 * 4

    without_reply = [identity for identity, reply in attempts if reply is None]
    assert len(without_reply) <= AT_ONCE * KILLS
    # The ledger knows requests by their slip, which is the same for every try of one ask.
    ledger = Counter(entry["slip"] for entry in standin.entries())
    slips = {slip_of(identity) for identity, _ in attempts}
    assert set(ledger) <= slips
    kept = Counter(slip_of(identity) for identity, reply in attempts if reply is not None)
    lost = Counter(slip_of(identity) for identity in without_reply)
    for slip, asked in ledger.items():
        assert kept[slip] <= asked <= kept[slip] + lost[slip]


def wait_until(holds: Callable[[], bool], seconds: float = 30.0) -> None:
    """Wait for the sender to be at work, however long it takes to start on this machine."""
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end, "nothing was sent"
        time.sleep(0.02)


def slip_of(identity: str) -> str:
    import hashlib

    return hashlib.sha256(f"{identity}:1".encode()).hexdigest()[:32]
