"""How long `drovik --version` takes, beside `python -c "import argparse"`, by turns in one run.

python benchmarks/starting.py
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 40


def seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - started


def main() -> None:
    program = [str(Path(sys.executable).with_name("drovik")), "--version"]
    bare = [sys.executable, "-c", "import argparse"]
    seconds(program), seconds(bare)
    pairs = [(seconds(bare), seconds(program)) for _ in range(ROUNDS)]
    first, second = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"import argparse {first * 1000:.0f} ms, drovik --version {second * 1000:.0f} ms (medians of {ROUNDS})")
    print(f"ratio: {second / first:.2f} (aim: at most 2)")


if __name__ == "__main__":
    main()
