"""How long `drovik compare` takes with effects, frontier and levels, on six arms, and how that grows with the cases.

    python benchmarks/deciding.py [CASES ...]

Each case has a small picture of its own, and a label as its expected output; the answers of all arms are put into the
store by hand, right in 60 to 90 of 100. The first run reads the answers and is told apart from the second, which finds
them read.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import random
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

DROVIK = str(Path(sys.executable).with_name("drovik"))
LABELS = ["cap", "hat", "glove", "mitten"]
PROJECT = """\
title = "Six arms"
[endpoints.desk]
url = "http://127.0.0.1:1"
dialect = "plain"
[models.gull]
endpoint = "desk"
id = "gull-1"
price = { currency = "EUR", input = 0.2, output = 0.7 }
picture_tokens = { count = { flat = 100 } }
[models.fulmar]
endpoint = "desk"
id = "fulmar-2"
price = { currency = "EUR", input = 1.8, output = 6.3 }
picture_tokens = { count = { flat = 100 } }
"""
DIALECT = """\
[request]
path = "/a"
body = '{"of": "{model}", "talk": [{"each turn": [{"each part": [{"when part.text": "{part.text}"}, {"when part.picture": "{part.base64}"}]}]}]}'
[reply]
text = "$.answer"
input_tokens = "$.in"
output_tokens = "$.out"
"""
TASK = """\
[answer]
form = "json"
[measures.kind]
type = "label"
at = "/kind"
labels = ["cap", "hat", "glove", "mitten"]
"""


def a_label(number: int, chance: random.Random) -> Any:
    """The expected output of a case."""
    return {"kind": LABELS[number % len(LABELS)]}


def another_label(expected: Any, share: float, chance: random.Random) -> str:
    """An answer, right in a share of them."""
    right = expected["kind"]
    return json.dumps(
        {"kind": right if chance.random() < share else chance.choice([one for one in LABELS if one != right])}
    )


def answered_project(
    folder: Path,
    count: int,
    prompts: int = 3,
    task: str = TASK,
    expected: Callable[[int, random.Random], Any] = a_label,
    said: Callable[[Any, float, random.Random], str] = another_label,
) -> Path:
    """A project of two models and some prompts, all of whose cases are answered.

    :param said: gives an answer for an expected output, right in a share of them.
    """
    from PIL import Image

    from drovik.cli.arguments import open_project
    from drovik.store.answer_store import Store
    from drovik.store.database import transaction
    from drovik.workflow.sending_plan import Selection, make_plan

    chance = random.Random(1)
    (folder / "dialects").mkdir(parents=True)
    (folder / "tasks/sort/prompts").mkdir(parents=True)
    (folder / "drovik.toml").write_text(PROJECT)
    (folder / "dialects/plain.toml").write_text(DIALECT)
    (folder / "tasks/sort/question.toml").write_text(task)
    for number, words in enumerate(("Which", "What", "Say which")[:prompts], 1):
        (folder / f"tasks/sort/prompts/v{number}.toml").write_text(f'ask = "{words} kind is it?"\n')
    (folder / "pictures").mkdir()
    Image.new("RGB", (64, 64), "gray").save(folder / "one.jpg")
    data = (folder / "one.jpg").read_bytes()
    with (folder / "cases.jsonl").open("w") as file:
        for number in range(count):
            (folder / f"pictures/p{number:06d}.jpg").write_bytes(data + str(number).encode())
            row = {"id": f"c{number:06d}", "images": [f"pictures/p{number:06d}.jpg"]}
            row |= {"given": {"ship": f"s{number % 9}"}, "expected": {"sort": expected(number, chance)}}
            file.write(json.dumps(row) + "\n")
    project = open_project(folder)
    with Store(project.store_path) as store:
        plan = make_plan(project, store, Selection()).plan
        asks = [ask for asks in plan.to_send.values() for ask in asks]
        price = json.dumps({"currency": "EUR", "input": "0.2", "output": "0.7"})
        attempts, replies, asked = [], [], []
        for number, ask in enumerate(asks, 1):
            share = 0.6 + 0.1 * (int(ask.arm.prompt_name[1]) - 1) + 0.1 * (ask.arm.model_name == "fulmar")
            answer = said(ask.case.expected["sort"], share, chance)
            body = json.dumps({"answer": answer, "in": 130, "out": 6})
            attempts.append((number, ask.identity))
            replies.append((number, body.encode(), price))
            asked.append((ask.arm.digest, ask.case.id, ask.arm.name, ask.identity))
        with transaction(store.connection):
            store.connection.executemany(
                "INSERT INTO attempts (id, identity, round, try, endpoint, started, outcome, concluded, seconds)"
                " VALUES (?, ?, 1, 1, 'desk', '2026-11-23', 'answered', 1, 0.5)",
                attempts,
            )
            store.connection.executemany(
                "INSERT INTO replies (attempt, at, http_status, body, input_tokens, output_tokens, price)"
                " VALUES (?, '2026-11-23', 200, ?, 130, 6, ?)",
                replies,
            )
            store.connection.executemany(
                "INSERT INTO asked VALUES ('sort', ?, ?, 1, 1, 0, ?, ?, '2026-11-23')", asked
            )
    return folder


def measured(folder: Path, *words: str) -> tuple[float, int]:
    """Seconds of a command, and the peak of memory in MB: of all its processes, what several share counted once."""
    started = time.perf_counter()
    process = subprocess.Popen([DROVIK, *words], cwd=folder, stdout=subprocess.DEVNULL)
    peak = 0
    while process.poll() is None:
        asked = time.perf_counter()
        peak = max(peak, _proportional(process.pid))
        # To add up the pages of gigabytes holds the program up: it may do so for a fiftieth of the time.
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(max(1.0, 50 * (time.perf_counter() - asked)))
    assert process.returncode == 0, words
    return time.perf_counter() - started, peak // 1024


def _proportional(pid: int) -> int:
    """The proportional set size of a process and its children, in KB (Linux: /proc/PID/smaps_rollup)."""
    try:
        rollup = Path(f"/proc/{pid}/smaps_rollup").read_text()
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:  # it has ended
        return 0
    own = next((int(line.split()[1]) for line in rollup.splitlines() if line.startswith("Pss:")), 0)
    return own + sum(_proportional(int(child)) for child in children)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="*", type=int, default=[1_000, 10_000, 100_000])
    print("cases x 6 arms   first run   --effects   with frontier and levels   peak memory")
    for count in parser.parse_args().cases:
        with tempfile.TemporaryDirectory() as name:
            folder = answered_project(Path(name) / "project", count)
            first, _ = measured(folder, "compare", "--effects")
            effects, peak = measured(folder, "compare", "--effects")
            every, more = measured(folder, "compare", "--effects", "--frontier", "--by", "given.ship")
            print(
                f"{count:14d} {first:10.1f} s {effects:9.1f} s {every:24.1f} s {max(peak, more):10d} MB", flush=True
            )
    print("aim: 100000 cases with effects under 20 s and 1500 MB")


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    main()
