"""Twenty thousand cases over two hundred pictures: no command takes minutes or the machine's memory.

Run by `make test-long`, which prints what each took. The bounds are twice what is promised, for a busy machine.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, demo_on_port

CASES, PICTURES = 20_000, 200
PROMISED = {
    ("score", "--task", "sort"): (8, 300),
    ("score", "--suspects", "--task", "sort"): (10, 300),
    ("compare", "--task", "sort"): (10, 400),
    ("compare", "gull/v1", "gull/v2", "--task", "sort"): (10, 400),
    ("report",): (20, 500),
}  # fmt: skip
"""Seconds of processor time, and megabytes."""


def many_cases(folder: Path) -> None:
    """The demo's cases again and again, each picture in a hundred of them."""
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    rows = [row for row in rows if len(row["images"]) == 1]
    pictures = []
    for number in range(PICTURES):
        row = rows[number % len(rows)]
        copy = Path("images") / f"copy{number}{Path(row['images'][0]).suffix}"
        (folder / copy).write_bytes((folder / row["images"][0]).read_bytes() + number.to_bytes(2, "big"))
        pictures.append(row | {"images": [str(copy)]})
    made = (pictures[n % PICTURES] | {"id": f"c{n:05}"} for n in range(CASES))
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in made))


MEASURED = """
import resource, subprocess, sys
code = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode
used = resource.getrusage(resource.RUSAGE_CHILDREN)
print(code, used.ru_utime + used.ru_stime, used.ru_maxrss // 1024)
"""
"""Run by a small process: the memory of a program counts from that of the process which starts it."""


def processor_seconds(drovik: Drovik, words: tuple[str, ...]) -> tuple[float, int]:
    run = [sys.executable, "-c", MEASURED, PROGRAM, *words]
    done = subprocess.run(run, cwd=drovik.folder, env=drovik.environment, capture_output=True, text=True)
    code, seconds, megabytes = done.stdout.split()
    assert code == "0", (words, done.stderr)
    return float(seconds), int(megabytes)


@pytest.mark.long
def test_no_command_takes_minutes_at_twenty_thousand_cases(drovik: Drovik, start_standin: Callable[..., Any]) -> None:
    folder = demo_on_port(drovik.folder, start_standin().port)
    many_cases(folder)
    for arm in ("gull/v1", "gull/v2", "fulmar/v2"):
        done = drovik("send", "--task", "sort", "--arm", arm, "--quiet", timeout=600)
        assert done.code == 0, done.err
    for words, (seconds, megabytes) in PROMISED.items():
        took, memory = processor_seconds(drovik, words)
        print(f"drovik {' '.join(words)}: {took:.1f} s ({seconds} promised), {memory} MB ({megabytes})", flush=True)
        assert took < 2 * seconds, words
        assert memory < megabytes, words
