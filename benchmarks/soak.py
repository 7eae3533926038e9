"""Twenty thousand requests under a harsh fault plan, with two senders and ten kills; the books must agree.

    python benchmarks/soak.py [REQUESTS] [KILLS]

The stand-in resets, stalls, cuts, drips, repeats and spoils its replies, sends storms of 429 and runs of 503. Two
senders share one store; now and then one of them is killed and another takes its place. In the end every case
has one answer, every request in the stand-in's ledger is an attempt in the store, and what was billed without
its reply arriving is reported: never fewer than the ledger knows.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import PROGRAM, StandInProcess, demo_on_port
from test_safety import fault_plan, see_that_the_books_agree

ARMS = 4
WORDS = ("send", "--task", "sort", "--arm", "fulmar", "--arm", "gull", "--quiet")


def make_cases(folder: Path, count: int) -> None:
    """This many cases, each with a picture of its own: those of the demo with a number put behind them."""
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    rows = [row for row in rows if len(row["images"]) == 1]
    made = []
    for number in range(count):
        row = rows[number % len(rows)]
        path = f"images/soak-{number}{Path(row['images'][0]).suffix}"
        (folder / path).write_bytes((folder / row["images"][0]).read_bytes() + str(number).encode())
        expected = {"sort": row["expected"]["sort"]}
        made.append({**row, "id": f"s{number}", "images": [path], "expected": expected})
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in made))


def started_standin(work: Path) -> StandInProcess:
    plan, ledger = fault_plan(work / "plan.toml"), work / "ledger.jsonl"
    command = [PROGRAM, "stand-in", "--port", "0", "--ledger", str(ledger), "--faults", str(plan)]
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, text=True, env={**os.environ, "PYTHONUNBUFFERED": "1"}
    )
    assert process.stdout is not None
    found = re.search(r"127\.0\.0\.1:(\d+)", process.stdout.readline())
    assert found is not None
    return StandInProcess(process, int(found[1]), ledger)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("requests", nargs="?", type=int, default=20_000)
    parser.add_argument("kills", nargs="?", type=int, default=10)
    arguments = parser.parse_args()
    chance = random.Random(7)
    with tempfile.TemporaryDirectory() as name:
        work = Path(name)
        environment = {**os.environ, "HOME": name, "XDG_CONFIG_HOME": name, "XDG_STATE_HOME": name}
        standin = started_standin(work)
        folder = demo_on_port(work / "project", standin.port, limits="concurrency = 16, timeout = 3, max_tries = 9")
        make_cases(folder, arguments.requests // ARMS)

        def sender() -> subprocess.Popen[bytes]:
            return subprocess.Popen(
                [PROGRAM, *WORDS], cwd=folder, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
            )

        begun, kills, both = time.monotonic(), 0, [sender(), sender()]
        steps = [arguments.requests * (number + 1) // (arguments.kills + 2) for number in range(arguments.kills)]
        while any(one.poll() is None for one in both):
            if kills < arguments.kills and sum(1 for _ in standin.ledger.open()) >= steps[kills]:
                which = chance.randrange(2)
                both[which].send_signal(signal.SIGKILL)
                both[which].communicate()
                both[which] = sender()
                kills += 1
            time.sleep(0.2)
        endings = [one.communicate()[0].decode() for one in both]
        last = subprocess.run(
            [PROGRAM, *WORDS, "--json"], cwd=folder, env=environment, capture_output=True, text=True, check=False
        )
        seconds = time.monotonic() - begun
        if json.loads(last.stdout)["failed"] or json.loads(last.stdout)["left"]:
            print(*endings, last.stdout, sep="\n")
        figures = see_that_the_books_agree(folder, standin, arguments.requests)
        standin.process.send_signal(signal.SIGINT)
        print(f"{arguments.requests} asks, two senders, {kills} kills: {seconds:.0f} s")
        print(f"in the ledger {figures['ledger']} requests; in the store {figures['attempts']} attempts")
        print(f"answered once each: {arguments.requests} of {arguments.requests}")
        without, told = figures["billed_without_reply"], figures["told"]
        print(f"billed without a reply that can be read: {without}; told as may have been billed: {told}")


if __name__ == "__main__":
    main()
