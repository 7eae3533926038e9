"""Two senders, dead ones, a store that is held, full or broken, faults on order: nothing is asked twice, nothing lost."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import random
import signal
import sqlite3
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, StandInProcess, bad, demo_on_port, good
from test_kill import slip_of, wait_until

from drovik.cli import sending
from drovik.project.file_states import state_of_input
from drovik.store.answer_store import Store
from drovik.store.database import transaction

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
Start = Callable[..., StandInProcess]
SORT = ("--task", "sort", "--arm", "fulmar/v1")
SEEING = ("--arm", "fulmar", "--arm", "gull")


def rows(folder: Path, query: str) -> list[tuple[Any, ...]]:
    with contextlib.closing(sqlite3.connect(folder / ".drovik" / "answers.sqlite")) as store:
        return store.execute(query).fetchall()


def test_two_senders_share_the_work_and_ask_nothing_twice(drovik: Drovik, start_standin: Start) -> None:
    standin = start_standin("--slow", "0.05")
    folder = demo_on_port(drovik.folder, standin.port, cases=30, limits="concurrency = 4, timeout = 30")
    words = ("send", "--task", "sort", *SEEING, "--json")
    both = [drovik.start(*words) for _ in range(2)]
    documents = [json.loads(process.communicate(timeout=100)[0]) for process in both]
    assert [process.returncode for process in both] == [0, 0]
    ledger = Counter(entry["slip"] for entry in standin.entries())
    assert len(ledger) == 30 * 4
    assert set(ledger.values()) == {1}
    assert sum(one["answered"] for one in documents) == 120
    assert all(one["answered"] > 0 for one in documents), "one of them did all the work"
    assert rows(folder, "SELECT COUNT(*) FROM claims") == [(0,)]
    assert rows(folder, "SELECT COUNT(*) FROM senders") == [(0,)]


def test_what_a_killed_sender_held_is_asked_by_the_other(drovik: Drovik, start_standin: Start) -> None:
    standin = start_standin("--slow", "0.4")
    folder = demo_on_port(drovik.folder, standin.port, cases=12, limits="concurrency = 4, timeout = 30")
    first = drovik.start("send", *SORT)
    wait_until(lambda: len(standin.entries()) >= 4)
    second = drovik.start("send", *SORT, "--json")
    time.sleep(0.3)
    first.send_signal(signal.SIGKILL)
    first.wait()
    out, _ = second.communicate(timeout=60)
    assert second.returncode == 0, out
    assert rows(folder, "SELECT COUNT(DISTINCT identity) FROM attempts WHERE concluded = 1") == [(12,)]


@pytest.mark.long
def test_a_held_store_is_waited_for_and_nothing_is_lost(drovik: Drovik, start_standin: Start) -> None:
    standin = start_standin("--slow", "0.3")
    folder = demo_on_port(drovik.folder, standin.port, cases=12, limits="concurrency = 4, timeout = 30")
    process = drovik.start("send", *SORT, "--json")
    wait_until(lambda: len(standin.entries()) >= 4)
    holder = sqlite3.connect(folder / ".drovik/answers.sqlite", isolation_level=None, timeout=10)
    holder.execute("BEGIN EXCLUSIVE")
    time.sleep(7)
    holder.execute("ROLLBACK")
    holder.close()
    out, err = process.communicate(timeout=60)
    if process.returncode:  # it gave up claiming more, in one line, and what was under way is kept
        assert err.count("\n") == 1
        assert "another program holds the store" in err
        assert drovik("send", *SORT, "--json").code == 0
    else:
        assert json.loads(out)["answered"] == 12
    assert set(Counter(entry["slip"] for entry in standin.entries()).values()) == {1}
    assert rows(folder, "SELECT COUNT(*) FROM replies") == [(12,)]


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of 12 MB."""
    place = tmp_path / "disk"
    place.mkdir()
    made = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=12m", "tmpfs", str(place)], capture_output=True)
    if made.returncode:
        pytest.skip("a small disk cannot be mounted here")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


def test_a_full_disk_is_one_line_and_what_was_under_way_is_kept(
    tmp_path: Path, small_disk: Path, serve: Serve
) -> None:
    (tmp_path / "config").mkdir()
    drovik = Drovik(small_disk, tmp_path / "config")

    def decide(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(0.25)  # so that writing keeps up with sending, however busy the machine is
        return good('{"kind": "cap"}', padding="x" * 900_000)

    service = serve(decide)
    folder = demo_on_port(small_disk, service.port, cases=48, limits="concurrency = 4, timeout = 30")
    result = drovik("send", *SORT, "--quiet")
    assert result.code == 2
    assert result.err.splitlines()[-1].startswith(".drovik/answers.sqlite: the disk is full; make room")
    sent = len(service.requests)
    assert 4 < sent < 48
    subprocess.run(["mount", "-o", "remount,size=100m", str(small_disk)], check=True)
    assert drovik("send", *SORT, "--json").json["answered"] == 48 - sent
    assert len(service.requests) == 48, "a reply was lost, and bought again"
    assert rows(folder, "SELECT COUNT(*) FROM replies") == [(48,)]


def test_replies_to_a_store_that_breaks_are_kept_beside_it_and_taken_in(drovik: Drovik, serve: Serve) -> None:
    folder = drovik.folder
    broken = threading.Event()

    def decide(number: int, body: dict[str, Any]) -> Reply:
        if number == 3:  # while requests are under way the table of replies goes away
            with contextlib.closing(sqlite3.connect(folder / ".drovik/answers.sqlite", timeout=10)) as store:
                store.execute("ALTER TABLE replies RENAME TO elsewhere")
            broken.set()
        time.sleep(0.3)
        return good('{"kind": "cap"}')

    service = serve(decide)
    demo_on_port(folder, service.port, cases=12, limits="concurrency = 4, timeout = 30")
    result = drovik("send", *SORT, "--quiet")
    assert result.code == 2
    assert "taken in by the next send" in result.err
    assert broken.is_set()
    sent = len(service.requests)
    assert list((folder / ".drovik").glob("rescued-*.jsonl"))
    with contextlib.closing(sqlite3.connect(folder / ".drovik/answers.sqlite")) as store:
        store.execute("ALTER TABLE elsewhere RENAME TO replies")
    assert drovik("send", *SORT, "--json").json["answered"] == 12 - sent
    assert rows(folder, "SELECT COUNT(*) FROM replies") == [(12,)]
    assert not list((folder / ".drovik").glob("rescued-*.jsonl"))


def test_a_damaged_store_is_one_line(drovik: Drovik) -> None:
    demo_on_port(drovik.folder, 1)
    (drovik.folder / ".drovik").mkdir()
    (drovik.folder / ".drovik/answers.sqlite").write_bytes(b"not a database at all" * 100)
    for words in (("send",), ("quote",), ("score",)):
        result = drovik(*words)
        assert (result.code, result.err.count("\n")) == (2, 1)
        assert "is damaged; move it away" in result.err


@pytest.mark.long
def test_an_endpoint_that_fails_steadily_is_probed_and_goes_on_when_it_is_well(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        return bad(503, "down for a while") if 10 <= number < 22 else good('{"kind": "cap"}')

    service = serve(decide)
    demo_on_port(drovik.folder, service.port, cases=40, limits="concurrency = 2, timeout = 10")
    result = drovik("send", *SORT, "--json").json
    assert (result["answered"], result["failed"], result["left"]) == (40, 0, 0)
    # Ten failures open the circuit; after that one probe at a time goes out.
    assert result["requests"] == 52
    assert result["troubles"]["service_error"] == 12


def test_an_endpoint_that_never_works_is_left_soon(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: bad(500, "broken"))
    demo_on_port(drovik.folder, service.port, cases=40, limits="concurrency = 4, timeout = 10, give_up_after = 2")
    result = drovik("send", *SORT, "--json")
    assert result.code == 3
    assert "keeps failing" in result.json["problems"][0]
    assert len(service.requests) < 40
    assert (result.json["failed"], result.json["left"]) == (0, 40)


def test_a_sample_is_spread_over_the_labels_and_is_the_same_each_time(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port)
    cases = {row["id"]: row for row in map(json.loads, (folder / "cases.jsonl").read_text().splitlines())}
    assert drovik("send", *SORT, "--sample", "16", "--json").json["answered"] == 16
    asked = [one[0] for one in rows(folder, "SELECT case_id FROM asked")]
    kinds = Counter(cases[one]["expected"]["sort"]["kind"] for one in asked)
    assert set(kinds.values()) == {2}
    assert drovik("send", *SORT, "--sample", "16", "--json").json["to_send"] == 0
    assert 0 < drovik("send", *SORT, "--sample", "16", "--seed", "2", "--json").json["to_send"] <= 16
    assert drovik("send", "--sample", "0").code == 2


def test_a_signal_in_the_very_moment_in_which_all_is_sent_is_not_lost(monkeypatch: pytest.MonkeyPatch) -> None:
    """Or `--watch` goes on for ever where somebody pressed Ctrl-C."""
    tally = SimpleNamespace(interrupted=False)

    async def ends_with_a_signal(dispatcher: Any) -> Any:
        os.kill(os.getpid(), signal.SIGINT)
        return tally

    monkeypatch.setattr(sending.workflow, "send", ends_with_a_signal, raising=False)
    dispatcher: Any = SimpleNamespace(tally=tally, interrupt=lambda: setattr(tally, "interrupted", True))
    assert asyncio.run(sending.until_stopped(dispatcher)).interrupted
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler


def test_watch_goes_on_with_cases_as_they_arrive(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port)
    lines = (folder / "cases.jsonl").read_text().splitlines()
    (folder / "cases.jsonl").write_text("\n".join(lines[:3]) + "\n")
    process = drovik.start("send", *SORT, "--watch", "--quiet")
    wait_until(lambda: len(service.requests) == 3)
    with (folder / "cases.jsonl").open("a") as file:
        file.write(lines[3][:50])  # half a line: it is still being written
        file.flush()
        time.sleep(2.5)
        file.write(lines[3][50:] + "\n" + lines[4] + "\n")
    wait_until(lambda: len(service.requests) == 5)
    with (folder / "cases.jsonl").open("a") as file:
        file.write('{"id": "late", "images": ["scans/late.jpg"], "given": {"vessel": "Tern"}}\n')
    time.sleep(2.5)
    (folder / "scans").mkdir()
    (folder / "scans/late.jpg").write_bytes(next((folder / "images").glob("*.jpg")).read_bytes())
    wait_until(lambda: len(service.requests) == 6)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=20)
    assert process.returncode == 130
    assert "waits: cases.jsonl: line 4" in err
    assert err.count("waits: scans/late.jpg: no such picture") == 1


def test_watch_looks_at_what_is_sent_and_not_at_what_is_printed_meanwhile(tmp_path: Path) -> None:
    """A log beside the cases would have it plan for ever."""
    (tmp_path / "pictures/old").mkdir(parents=True)
    (tmp_path / ".drovik").mkdir()
    (tmp_path / "cases.csv").write_text("id,image\n")
    settings: Any = SimpleNamespace(cases="cases.csv", pictures=SimpleNamespace(folders=lambda folder: []))
    before = state_of_input(tmp_path, settings)
    for ours in ("log.txt", ".drovik/answers.sqlite", "report.html"):
        (tmp_path / ours).write_text("more")
        assert state_of_input(tmp_path, settings) == before
    for sent in ("drovik.toml", "cases.csv", "pictures/old/one.jpg", "two.PNG"):
        (tmp_path / sent).write_text("more")
        after = state_of_input(tmp_path, settings)
        assert after.digest != before.digest
        assert after.changed >= before.changed
        before = after


HARSH = """
seed = 11
[[faults]]
kind = "limit"
from = 40
to = 60
wait = 0.3
retry_after = "date"
[[faults]]
kind = "error"
from = 120
to = 132
status = 503
"""
SHARES = {
    "limit": 0.03, "reset": 0.03, "half": 0.03, "length": 0.03, "twice": 0.05, "rotten": 0.04, "lost": 0.03,
    "drip": 0.02, "stall": 0.003,
}  # fmt: skip


def fault_plan(path: Path) -> Path:
    tables = [f'[[faults]]\nkind = "{kind}"\nshare = {share}\n' for kind, share in SHARES.items()]
    text = HARSH + "".join(tables).replace('kind = "limit"\nshare', 'kind = "limit"\nwait = 0.2\nshare')
    path.write_text(text.replace('kind = "drip"\n', 'kind = "drip"\nseconds = 0.3\n'))
    return path


@pytest.mark.long
def test_a_harsh_service_two_senders_and_kills_lose_and_double_nothing(
    drovik: Drovik, start_standin: Start, tmp_path: Path
) -> None:
    """The short soak; `benchmarks/soak.py` is the long one."""
    standin = start_standin("--faults", str(fault_plan(tmp_path / "plan.toml")), "--slow", "0.02")
    folder = demo_on_port(drovik.folder, standin.port, cases=48, limits="concurrency = 6, timeout = 2, max_tries = 8")
    words = ("send", "--task", "sort", "--task", "read-tag", *SEEING)
    chance = random.Random(3)
    for _ in range(3):
        both = [drovik.start(*words) for _ in range(2)]
        asked = len(standin.entries())
        wait_until(lambda asked=asked: len(standin.entries()) > asked + 10)
        time.sleep(chance.uniform(0, 0.5))
        both[0].send_signal(signal.SIGKILL)
        time.sleep(0.2)
        both[1].send_signal(signal.SIGKILL)
        for process in both:
            process.communicate()
    last = drovik(*words, "--json", timeout=200)
    assert last.code == 0, last.out + last.err
    see_that_the_books_agree(folder, standin, 48 * 2 * 4)


def see_that_the_books_agree(folder: Path, standin: StandInProcess, asks: int) -> dict[str, int]:
    """Every case answered once; every request in the ledger is an attempt; no fewer are reported as may have been billed."""
    answered = rows(folder, "SELECT identity FROM attempts WHERE concluded = 1")
    assert len(answered) == len(set(answered)) == asks
    attempts = rows(folder, "SELECT a.identity, r.id FROM attempts a LEFT JOIN replies r ON r.attempt = a.id")
    entries = standin.entries()
    asked, kept = Counter(entry["slip"] for entry in entries), Counter(slip_of(one) for one, _ in attempts)
    assert all(kept[slip] >= count for slip, count in asked.items()), "a request was sent that is not an attempt"
    billed = Counter(entry["slip"] for entry in entries if entry["billed"])
    good_ones = rows(
        folder,
        "SELECT a.identity FROM attempts a JOIN replies r ON r.attempt = a.id WHERE r.input_tokens IS NOT NULL",
    )
    arrived = Counter(slip_of(one) for (one,) in good_ones)
    without = sum((billed - arrived).values())
    with Store(folder / ".drovik/answers.sqlite", create=False) as store:
        told = store.bill().unknown
    assert told >= without
    wrong = rows(
        folder,
        "SELECT COUNT(*) FROM answers x JOIN attempts a ON a.identity = x.identity AND a.concluded = 1"
        " JOIN replies r ON r.attempt = a.id JOIN requests q ON q.identity = x.identity"
        " WHERE q.asked NOT LIKE '%\"id\":\"' || r.model || '\"%'",
    )[0][0]
    assert wrong == 0, "a reply was taken for another request's"
    return {"attempts": len(attempts), "ledger": len(entries), "billed_without_reply": without, "told": told}


def test_what_a_dead_sender_claimed_is_free_at_once_and_what_a_living_one_did_is_not(tmp_path: Path) -> None:
    """The dead one's number may be another program's by now: only one that began at the same time is the same."""
    path = tmp_path / "answers.sqlite"
    with Store(path) as store, Store(path) as other:
        store.claims.register()
        assert store.claims.claim(["a", "b"]) == {"a": "mine", "b": "mine"}
        other.claims.register()
        assert other.claims.claim(["a"]) == {"a": "taken"}
        with transaction(store.connection):
            store.connection.execute("UPDATE senders SET born = 'another boot 1' WHERE id = 1")
        other.claims.beat()
        assert other.claims.claim(["a"]) == {"a": "mine"}
        assert store.claims.held_of(["a", "b"]) == set()
