"""How long starting takes, by turns in one run: `drovik --version`, and one question about one picture.

python benchmarks/starting.py

The question is asked of the stand-in; what counts is its CPU time beside what importing aiohttp and Pillow takes.
"""

from __future__ import annotations

import os
import re
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

from drovik.demo.copying import copy_demo

ROUNDS = 40
QUESTIONS = 15
PROGRAM = str(Path(sys.executable).with_name("drovik"))


def seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - started


def cpu_seconds(command: list[str], folder: Path, environment: dict[str, str]) -> float:
    process = subprocess.Popen(
        command, cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, status, used = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"{' '.join(command)} ended with {status}")
    return used.ru_utime + used.ru_stime


def start() -> None:
    program = [PROGRAM, "--version"]
    bare = [sys.executable, "-c", "import argparse"]
    seconds(program), seconds(bare)
    pairs = [(seconds(bare), seconds(program)) for _ in range(ROUNDS)]
    first, second = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"import argparse {first * 1000:.0f} ms, drovik --version {second * 1000:.0f} ms (medians of {ROUNDS})")
    print(f"ratio: {second / first:.2f} (aim: at most 2)")


def question(folder: Path) -> None:
    with closing(socket.socket()) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    project = folder / "project"
    copy_demo(project)
    settings = project / "drovik.toml"
    settings.write_text(re.sub(r"127\.0\.0\.1:\d+", f"127.0.0.1:{port}", settings.read_text()))
    environment = {**os.environ, "HOME": str(folder)}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    service = subprocess.Popen([PROGRAM, "stand-in", "--port", str(port)], stdout=subprocess.DEVNULL)
    try:
        for _ in range(100):
            with closing(socket.socket()) as one:
                if one.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.1)
        ask = [PROGRAM, "ask", "images/lp-001.jpg", "What is it?", "--model", "fulmar"]
        bare = [sys.executable, "-c", "import aiohttp, PIL.Image"]
        cpu_seconds(ask, project, environment), cpu_seconds(bare, project, environment)
        pairs = [
            (cpu_seconds(bare, project, environment), cpu_seconds(ask, project, environment))
            for _ in range(QUESTIONS)
        ]
    finally:
        service.terminate()
        service.wait(10)
    first, second = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"import aiohttp and Pillow {first:.2f} s of CPU, one question {second:.2f} s (medians of {QUESTIONS})")
    print(f"beside each other: {second - first:.2f} s more (aim: at most 0.35), ratio {second / first:.2f}")


def main() -> None:
    start()
    with tempfile.TemporaryDirectory() as folder:
        question(Path(folder))


if __name__ == "__main__":
    main()
