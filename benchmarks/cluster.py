"""Sending from the workers of a cluster beside sending from one process, on this machine, in one run.

    python benchmarks/cluster.py [REQUESTS] [LARGE] [--workers N]

First the overhead: pictures of some 200 KB that need no preparing, to a service that answers at once. Seconds per request
are of the clock, and of the CPU of the program with all of its workers (`local:N`), the time of one case taken off.
Then what a cluster is for: JPEGs of 12 megapixels that are shrunk to 1,024 pixels, beside one process with one thread
that prepares them and sends nothing, and beside `drovik send`, which prepares in two threads.
"""

from __future__ import annotations

import argparse
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from pictures import PREP, SIDE, photograph
from sending import SERVICE, make_pictures, make_project

from drovik.images.prepare import prepare

PROGRAM = str(Path(sys.executable).with_name("drovik"))


def timed(words: list[str], folder: Path) -> tuple[float, float]:
    """Seconds of the clock and of the CPU of a program with all that it starts."""
    shutil.rmtree(folder / ".drovik", ignore_errors=True)
    before, started = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    done = subprocess.run([PROGRAM, *words], cwd=folder, capture_output=True, text=True, check=False)
    wall, after = time.perf_counter() - started, resource.getrusage(resource.RUSAGE_CHILDREN)
    assert done.returncode == 0, done.stderr + done.stdout
    return wall, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def per_request(folder: Path, count: int, more: list[str]) -> tuple[float, float]:
    cases = (folder / "cases.jsonl").read_text()
    (folder / "cases.jsonl").write_text(cases.splitlines()[0] + "\n")
    one = timed(["send", "--quiet", *more], folder)
    (folder / "cases.jsonl").write_text(cases)
    every = timed(["send", "--quiet", *more], folder)
    return (every[0] - one[0]) / (count - 1), (every[1] - one[1]) / (count - 1)


def overhead(folder: Path, port: int, count: int, workers: int) -> None:
    make_pictures(folder.parent / "pictures", count)
    make_project(folder, port, count)
    own = per_request(folder, count, [])
    there = per_request(folder, count, ["--cluster", f"local:{workers}"])
    print(f"{count} requests with a picture of 200 KB, {workers} workers on this machine")
    for name, (wall, cpu) in (("drovik send", own), ("with --cluster", there)):
        print(f"  {name}: {1000 * wall:.2f} ms of the clock a request, {1000 * cpu:.2f} ms of CPU")
    print(f"  overhead of the cluster: {1000 * (there[1] - own[1]):.2f} ms of CPU a request")


def write_large(folder: Path, count: int) -> None:
    """Large JPEGs; a comment of its own makes each another picture, for the same is prepared once."""
    folder.mkdir()
    made = [photograph(number) for number in range(8)]
    for number in range(count):
        data, mark = made[number % len(made)], f"{number:08d}".encode()
        (folder / f"p{number:05d}.jpg").write_bytes(data[:2] + b"\xff\xfe\x00\x0a" + mark + data[2:])


def large(folder: Path, port: int, count: int, workers: int) -> None:
    write_large(folder.parent / "pictures", count)
    make_project(folder, port, count)
    toml = folder / "drovik.toml"
    toml.write_text(f"{toml.read_text()}\n[preps.small]\nfit = {SIDE}\nquality = {PREP.quality}\n")
    started = time.perf_counter()
    for path in sorted((folder / "pictures").iterdir()):
        prepare(path.read_bytes(), PREP, path.name, 10**9)
    alone = (time.perf_counter() - started) / count
    own, _ = per_request(folder, count, [])
    there, _ = per_request(folder, count, ["--cluster", f"local:{workers}"])
    print(f"{count} JPEGs of 12 megapixels to {SIDE} pixels")
    print(f"  one thread that prepares, and sends nothing: {1000 * alone:.0f} ms a picture")
    print(f"  drovik send: {1000 * own:.0f} ms, {alone / own:.2f} times as many")
    print(f"  with --cluster local:{workers}: {1000 * there:.0f} ms, {alone / there:.2f} times as many")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("requests", nargs="?", type=int, default=1000)
    parser.add_argument("large", nargs="?", type=int, default=200)
    parser.add_argument("--workers", type=int, default=2)
    given = parser.parse_args()
    service = subprocess.Popen([sys.executable, "-c", SERVICE], stdout=subprocess.PIPE, text=True)
    assert service.stdout is not None
    port = int(service.stdout.readline())
    try:
        with tempfile.TemporaryDirectory() as name:
            overhead(Path(name) / "project", port, given.requests, given.workers)
        with tempfile.TemporaryDirectory() as name:
            large(Path(name) / "project", port, given.large, given.workers)
    finally:
        service.kill()


if __name__ == "__main__":
    main()
