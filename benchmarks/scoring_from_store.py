"""How long `drovik score` takes on answers in the store, beside a bare loop that does the same work, in one run.

    python benchmarks/scoring_from_store.py [CASES]

Four arms, and the labels, ten fields and texts of benchmarks/scoring.py. The bare loop reads the cases, looks at each
picture's file, reads the replies out of the same store, finds the answers in them, and compares and counts; it makes no
interval and finds no causes. `score` is the whole command on replies that were read before and on pairs that were never
judged; `first` reads the replies too; `pairs kept` is with what the pairs came to already kept, `one changed` with
another expected output of one case, `again` without any change. CPU of all processes, by the system; seconds of the clock.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any, NamedTuple

from deciding import answered_project, measured
from scoring import FIELDS, LABELS, MAKERS, bare

AIMS = {"label": 4.0, "fields": 8.0, "text": 2.5}
TABLES = {
    "label": f'type = "label"\nat = "/kind"\nlabels = {json.dumps(LABELS)}\n',
    "fields": 'type = "fields"\n[measures.m.fields]\n'
    + "".join(
        f"{name} = {{ {', '.join(f'{k} = {json.dumps(v)}' for k, v in rule.items())} }}\n"
        for name, rule in FIELDS.items()
    ),
    "text": 'type = "text"\n',
}


class Took(NamedTuple):
    cpu: float
    clock: float


def bare_loop(kind: str, folder: Path) -> None:
    cases = {}
    with (folder / "cases.jsonl").open() as file:
        for line in file:
            row = json.loads(line)
            for picture in row["images"]:
                os.stat(folder / picture)
            cases[row["id"]] = row["expected"]["sort"]
    store = sqlite3.connect(folder / ".drovik/answers.sqlite")
    of = {identity: (case, arm) for identity, case, arm in store.execute("SELECT identity, case_id, name FROM asked")}
    pairs: dict[str, list[tuple[Any, Any]]] = {}
    query = "SELECT identity, body FROM attempts a JOIN replies r ON r.attempt = a.id WHERE a.concluded = 1"
    for identity, body in store.execute(query):
        case, arm = of[identity]
        answer = json.loads(body)["answer"]
        pairs.setdefault(arm, []).append((cases[case], answer if kind == "text" else json.loads(answer)))
    for every in pairs.values():
        bare(kind, every)


def timed(words: list[str], folder: Path) -> Took:
    before, started = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(words, cwd=folder, stdout=subprocess.DEVNULL, check=True)
    now = resource.getrusage(resource.RUSAGE_CHILDREN)
    return Took(now.ru_utime + now.ru_stime - before.ru_utime - before.ru_stime, time.perf_counter() - started)


def forget(folder: Path, *tables: str) -> None:
    store = sqlite3.connect(folder / ".drovik/answers.sqlite")
    for table in tables:
        store.execute(f"DELETE FROM {table}")
    store.commit()
    store.close()


def change_one(kind: str, folder: Path, chance: random.Random) -> None:
    cases = folder / "cases.jsonl"
    first, _, others = cases.read_text().partition("\n")
    row = json.loads(first)
    row["expected"]["sort"] = MAKERS[kind][0](chance)
    cases.write_text(f"{json.dumps(row)}\n{others}")


def one_kind(kind: str, count: int, folder: Path) -> None:
    one_of, said = MAKERS[kind]
    form = "text" if kind == "text" else "json"
    answered_project(
        folder, count, 2, f'[answer]\nform = "{form}"\n[measures.m]\n{TABLES[kind]}',
        lambda _, chance: one_of(chance),
        lambda expected, _, chance: said(expected, chance) if kind == "text" else json.dumps(said(expected, chance)),
    )  # fmt: skip
    drovik = [str(Path(sys.executable).with_name("drovik")), "score"]
    first = timed(drovik, folder)
    forget(folder, "judged", "outputs")
    loops, scores = [], []
    for _ in range(2):
        loops.append(timed([sys.executable, __file__, "--bare", kind, str(folder)], folder))
        scores.append(timed(drovik, folder))
        forget(folder, "judged", "outputs")
    _, peak = measured(folder, "score")
    forget(folder, "outputs")
    kept = timed(drovik, folder)
    again = timed(drovik, folder)
    change_one(kind, folder, random.Random(9))
    changed = timed(drovik, folder)
    loop, score = min(loops), min(scores)
    print(
        f"{kind:7} bare loop {loop.cpu:5.1f} s  score {score.cpu:5.1f} s, {score.cpu / loop.cpu:4.1f} times"
        f" (aim: {AIMS[kind]:g}); {score.clock:5.1f} s of the clock, {score.clock / loop.clock:4.1f} times; {peak} MB\n"
        f"        of the clock: first {first.clock:.1f} s, pairs kept {kept.clock:.1f} s, one changed"
        f" {changed.clock:.1f} s, again {again.clock:.2f} s (aim: 2)", flush=True,
    )  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="?", type=int, default=100_000)
    parser.add_argument("--bare", nargs=2, help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.bare:
        bare_loop(arguments.bare[0], Path(arguments.bare[1]))
        return
    print(f"{arguments.cases} cases by 4 arms, from the store")
    for kind in MAKERS:
        with tempfile.TemporaryDirectory() as name:
            one_kind(kind, arguments.cases, Path(name) / "project")


if __name__ == "__main__":
    main()
