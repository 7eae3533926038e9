"""How planning, checking and scoring grow with the cases: time and memory of whole commands, from the store.

    python benchmarks/growth.py [CASES ...]

Each project has a small picture for each case, two models with one prompt, and all answers: `check` reads it, `quote`
finds that nothing is to be sent, `score` reads the answers, and scores them again. Beside each time is how much longer it
took than for the number of cases before, over how many more those are: above 1 it grows faster than the cases.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

from deciding import answered_project, measured

COMMANDS = {"check": ("check",), "quote": ("quote",), "score": ("score",), "score again": ("score",)}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="*", type=int, default=[1_000, 10_000, 100_000])
    print("cases     command      seconds   beside the cases   peak memory")
    before: dict[str, tuple[int, float]] = {}
    for count in parser.parse_args().cases:
        with tempfile.TemporaryDirectory() as name:
            folder = answered_project(Path(name) / "project", count, prompts=1)
            for command, words in COMMANDS.items():
                seconds, peak = measured(folder, *words)
                many, took = before.get(command, (0, 0.0))
                growth = f"{seconds / took / (count / many):16.2f}" if many else " " * 16
                print(f"{count:8d}  {command:11s} {seconds:8.1f} {growth} {peak:12d} MB", flush=True)
                before[command] = count, seconds
    print("aim: check of 100000 cases in 5 s; none above 1")


if __name__ == "__main__":
    main()
