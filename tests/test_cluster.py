"""Sending from a cluster's workers: the same answers as from here, one pace, nothing bought twice when workers die."""

from __future__ import annotations

import json
import os
import random
import signal
import sqlite3
import subprocess
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from conftest import PROGRAM, Drovik, StandInProcess, change, demo_on_port
from dask_cluster import DaskCluster, free_port
from test_kill import slip_of, wait_until

import drovik as package

Start = Callable[..., StandInProcess]
WORDS = ("send", "--task", "sort", "--arm", "fulmar", "--arm", "gull")
KEY = "lost-and-found"


@pytest.fixture
def cluster(tmp_path: Path) -> Iterator[DaskCluster]:
    (tmp_path / "dask").mkdir()
    made = DaskCluster(tmp_path / "dask", 2)
    yield made
    made.close()


def seen_by_workers(folder: Path) -> None:
    change(folder / "drovik.toml", "[endpoints", f'[cluster]\nimages = "{folder}"\n\n[endpoints')


def wait_for_more(standin: StandInProcess) -> None:
    """Wait until 500 requests more have come."""
    before = len(standin.entries())
    wait_until(lambda: len(standin.entries()) > before + 500, 120)


def require_accounts(folder: Path, standin: StandInProcess, answered: int) -> None:
    """Every request is answered once, and each that the service saw is one that the store knows of."""
    with sqlite3.connect(folder / ".drovik" / "answers.sqlite") as store:
        concluded = store.execute("SELECT identity FROM attempts WHERE concluded = 1").fetchall()
        attempts = store.execute(
            "SELECT a.identity, r.id FROM attempts a LEFT JOIN replies r ON r.attempt = a.id"
        ).fetchall()
    assert len(concluded) == len(set(concluded)) == answered
    kept = Counter(slip_of(identity) for identity, reply in attempts if reply is not None)
    lost = Counter(slip_of(identity) for identity, reply in attempts if reply is None)
    ledger = Counter(entry["slip"] for entry in standin.entries())
    for slip, asked in ledger.items():
        assert kept[slip] <= asked <= kept[slip] + lost[slip]


def test_workers_send_what_this_machine_would_and_one_that_dies_loses_nothing(
    drovik: Drovik, start_standin: Start, cluster: DaskCluster
) -> None:
    standin = start_standin("--slow", "0.1")
    folder = demo_on_port(drovik.folder, standin.port, cases=24)
    seen_by_workers(folder)
    process = drovik.start(*WORDS, "--cluster", cluster.address, "--json")
    wait_until(lambda: len(standin.entries()) > 20)
    cluster.kill_worker()
    _, err = process.communicate(timeout=120)
    assert process.returncode == 0, err
    require_accounts(folder, standin, 24 * 4)
    again = drovik(*WORDS, "--json")
    assert again.code == 0
    assert len({entry["slip"] for entry in standin.entries()}) == 24 * 4, "this machine would ask the very same"
    here, there = (
        drovik("score", "--task", "sort", "--json"),
        drovik("score", "--json", "--task", "sort", "--cluster", cluster.address),
    )
    assert (there.code, there.json) == (0, here.json), there.err
    opened = package.open(folder)
    tally = opened.send_now(opened.plan(task="find", arm="gull/v2"), cluster=cluster.address)
    assert (tally.answered, tally.failed) == (24, 0), "from Python too"
    change(folder / "drovik.toml", f'images = "{folder}"', 'images = "/nowhere"')
    unseen = drovik("send", "--task", "describe", "--arm", "gull/v2", "--cluster", cluster.address, "--quiet")
    assert (unseen.code, "the workers do not see it beneath /nowhere" in unseen.err + unseen.out) == (1, True), (
        unseen.err
    )
    assert KEY not in cluster.log.read_text()
    assert not list(cluster.folder.rglob("*.jpg")), "no picture is left behind"


def test_without_a_scheduler_or_a_worker_it_is_one_line_and_nothing_is_sent(
    drovik: Drovik, start_standin: Start, tmp_path: Path
) -> None:
    demo_on_port(drovik.folder, start_standin().port, cases=2)
    for address, said, code in (
        (f"tcp://127.0.0.1:{free_port()}", "no scheduler answers", 3),
        ("nowhere", "is no address of a cluster", 2),
        ("local:0", "is no address of a cluster", 2),
    ):
        done = drovik(*WORDS, "--cluster", address)
        assert done.code == code, done.err
        assert said in done.err
        assert len(done.err.splitlines()) == 1


HARSH = """
seed = 5
[[faults]]
kind = "limit"
share = 0.03
wait = 0.2
[[faults]]
kind = "reset"
share = 0.02
[[faults]]
kind = "half"
share = 0.02
[[faults]]
kind = "error"
share = 0.02
status = 503
"""
PER_MINUTE = 6000


@pytest.mark.long
def test_workers_and_the_scheduler_die_at_random_and_twenty_thousand_cases_are_answered_once(
    drovik: Drovik, start_standin: Start, tmp_path: Path
) -> None:
    (tmp_path / "plan.toml").write_text(HARSH)
    (tmp_path / "dask").mkdir()
    standin = start_standin("--slow", "0.05", "--faults", str(tmp_path / "plan.toml"))
    folder = many_cases(demo_on_port(drovik.folder, standin.port, limits=LIMITS), 20_000)
    seen_by_workers(folder)
    cluster = DaskCluster(tmp_path / "dask", 4)
    chance = random.Random()
    words = ("send", "--task", "sort", "--arm", "gull/v2", "--cluster", cluster.address, "--quiet")
    try:
        process = drovik.start(*words)
        for kill in (cluster.kill_worker, cluster.kill_worker, cluster.kill_scheduler):
            wait_for_more(standin)
            time.sleep(chance.uniform(0, 3))
            kill()
        _, err = process.communicate(timeout=300)
        assert process.returncode == 3
        assert "the cluster" in err
        for worker in cluster.workers:
            worker.wait(60)
        cluster.workers.clear()
        cluster.start_scheduler()
        for _ in range(4):
            cluster.start_worker()
        process = drovik.start(*words)
        wait_for_more(standin)
        process.send_signal(signal.SIGKILL)
        process.wait()
        last = drovik(*words, timeout=1200)
        assert last.code == 0, last.err
    finally:
        cluster.close()
    require_accounts(folder, standin, 20_000)
    times = sorted(entry["at"] for entry in standin.entries())
    most = max(later - first for first, later in spans(times))
    assert most <= PER_MINUTE


LIMITS = f"concurrency = 48, timeout = 30, per_minute = {PER_MINUTE}"


def spans(times: list[float]) -> Iterator[tuple[int, int]]:
    """Of each moment, the places of the first and the last request of the minute that begins there."""
    end = 0
    for start, first in enumerate(times):
        while end < len(times) and times[end] < first + 60:
            end += 1
        yield start, end


def many_cases(folder: Path, count: int) -> Path:
    """The project with its cases again and again, each with a fact of its own."""
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    with (folder / "cases.jsonl").open("w") as file:
        for number in range(count):
            row = rows[number % len(rows)]
            file.write(
                json.dumps({**row, "id": f"c{number}", "given": {**row.get("given", {}), "number": number}}) + "\n"
            )
    prompt = folder / "tasks/sort/prompts/v2.toml"
    prompt.write_text(prompt.read_text().replace('ask = """', 'ask = """\nNumber {{ number }}. ', 1))
    return folder


@pytest.mark.long
def test_ctrl_c_waits_for_what_the_workers_of_this_machine_have_under_way(
    drovik: Drovik, start_standin: Start
) -> None:
    """A terminal sends it to every process of the command; a worker that ended by it would lose what was paid for."""
    standin = start_standin("--slow", "0.5")
    folder = demo_on_port(drovik.folder, standin.port, cases=24)
    process = subprocess.Popen(
        [PROGRAM, *WORDS, "--cluster", "local:2", "--json"], cwd=folder, env=drovik.environment, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True,
    )  # fmt: skip
    wait_until(lambda: len(standin.entries()) > 4, 60)
    os.killpg(process.pid, signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "Traceback" not in err
    assert json.loads(out)["store"]["may_have_been_billed"] == 0
    assert len(standin.entries()) == json.loads(out)["answered"] < 24 * 4
