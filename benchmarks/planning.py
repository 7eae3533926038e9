"""How long `drovik send` takes to find that a hundred thousand cases are answered already.

    python benchmarks/planning.py [CASES]

Each case has a picture of its own, whose digest is cached; their answers are put into the store by hand. The
first run fills the caches and is not counted. Beside it stands the time of the same command on one case, and that of the
same command again, which finds that neither files nor store have changed.
"""

from __future__ import annotations

import argparse
import os
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sending import make_project

DROVIK = str(Path(sys.executable).with_name("drovik"))


def answered_project(work: Path, count: int) -> Path:
    """A project whose cases are all answered."""
    from PIL import Image

    from drovik.cli.arguments import open_project
    from drovik.store.answer_store import Store
    from drovik.store.database import transaction
    from drovik.workflow.sending_plan import Selection, make_plan

    (work / "pictures").mkdir(parents=True)
    Image.new("RGB", (64, 64), "gray").save(work / "one.jpg")
    data = (work / "one.jpg").read_bytes()
    for number in range(count):
        (work / f"pictures/p{number:05d}.jpg").write_bytes(data + str(number).encode())
    folder = work / "project"
    make_project(folder, 1, count)
    project = open_project(folder)
    with Store(project.store_path) as store:
        plan = make_plan(project, store, Selection()).plan
        asks = [ask for asks in plan.to_send.values() for ask in asks]
        attempts = [(number, ask.identity) for number, ask in enumerate(asks, 1)]
        with transaction(store.connection):
            store.connection.executemany(
                "INSERT INTO attempts (id, identity, round, try, endpoint, started, outcome, concluded)"
                " VALUES (?, ?, 1, 1, 'e', '2026-11-23', 'answered', 1)",
                attempts,
            )
            store.connection.executemany(
                "INSERT INTO replies (attempt, at, http_status, body) VALUES (?, '2026-11-23', 200, '{}')",
                [(number,) for number, _ in attempts],
            )
    return folder


def seconds(folder: Path, forget: bool = False) -> float:
    """Of the command; where it forgets what it printed before, it plans."""
    if forget:
        with sqlite3.connect(folder / ".drovik/answers.sqlite") as store:
            store.execute("DELETE FROM outputs")
        store.close()
    started = time.perf_counter()
    done = subprocess.run([DROVIK, "send"], cwd=folder, capture_output=True, text=True, check=True)
    assert "Nothing to send" in done.stdout, done.stdout
    return time.perf_counter() - started


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="?", type=int, default=100_000)
    count = parser.parse_args().cases
    with tempfile.TemporaryDirectory() as name:
        many = answered_project(Path(name) / "many", count)
        one = answered_project(Path(name) / "one", 1)
        seconds(many)
        best = min(seconds(many, forget=True) for _ in range(4))
        start = min(seconds(one, forget=True) for _ in range(4))
        time.sleep(2.1)  # what has just changed is not kept
        seconds(many)
        again = min(seconds(many) for _ in range(4))
        print(f"{count} cases planned and found answered: {best:.2f} s; one case: {start:.2f} s (aim: under 3)")
        print(f"found so again, nothing having changed: {again:.2f} s (aim: under 1.5)")


if __name__ == "__main__":
    os.environ.setdefault("NO_COLOR", "1")
    main()
