"""How long `drovik report` takes, how large its page is, and how soon a browser shows it, for more and more cases.

    python benchmarks/report.py [CASES ...]

Each case has a picture of 640 x 480 pixels with grain, as a photograph has, and a label as its expected output. Four
arms answer all of them, right in 60 to 90 of 100. The page is opened in Debian's Chromium: the time to its first view
is until its last part is drawn; to filter or step is from the key or the choice until the next picture is drawn.
"""

from __future__ import annotations

import argparse
import os
import resource
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from deciding import DROVIK, answered_project

ARMS = 4
STEPS = 12
DRAWN = (
    "() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now()))))"
)


def grainy(folder: Path, count: int) -> None:
    """Pictures with as much in them as a photograph, each file of its own; twenty in all, again and again."""
    import io

    import numpy as np
    from PIL import Image, ImageFilter

    chance = np.random.default_rng(1)
    made = []
    for _ in range(20):
        rough = chance.integers(0, 256, (12, 16, 3), dtype=np.uint8)
        smooth = Image.fromarray(rough).resize((640, 480), Image.Resampling.BICUBIC)
        grain = np.asarray(smooth, dtype=np.int16) + chance.normal(0, 12, (480, 640, 1)).astype(np.int16)
        picture = Image.fromarray(np.clip(grain, 0, 255).astype(np.uint8)).filter(ImageFilter.SMOOTH)
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=88)
        made.append(out.getvalue())
    for number in range(count):
        (folder / f"pictures/p{number:06d}.jpg").write_bytes(made[number % 20] + str(number).encode())


def measured(folder: Path) -> tuple[float, int, int]:
    """Seconds, the page's size in bytes, and the peak of memory in MB."""
    started = time.perf_counter()
    process = subprocess.Popen(
        [DROVIK, "report", "--out", "page.html", "--force"], cwd=folder, stdout=subprocess.DEVNULL
    )
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    return time.perf_counter() - started, (folder / "page.html").stat().st_size, usage.ru_maxrss // 1024


def opened(page_file: Path) -> tuple[float, float, float]:
    """Milliseconds to the first view, to filter, and to step, the last two as medians."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(page_file.as_uri(), wait_until="commit")
        page.wait_for_selector("nav a[aria-current=page]")
        first = float(page.evaluate(DRAWN))
        page.evaluate("location.hash = '#/cases'")
        page.evaluate(DRAWN)
        change = """([name, value]) => { const field = document.querySelector(`[name=${name}]`);
            const at = performance.now(); field.value = value; field.dispatchEvent(new Event("input", { bubbles: true }));
            return new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now() - at)))); }"""
        step = """() => { const at = performance.now(); dispatchEvent(new KeyboardEvent("keydown", { key: "j" }));
            return new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now() - at)))); }"""
        choices = [
            ("outcome", "wrong"),
            ("label", "hat"),
            ("order", "loss"),
            ("label", ""),
            ("outcome", ""),
            ("text", "glove"),
        ]
        filters = [page.evaluate(change, list(one)) for one in choices * 2]
        steps = [page.evaluate(step) for _ in range(STEPS)]
        browser.close()
    return first, statistics.median(filters), statistics.median(steps)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="*", type=int, default=[500, 5_000, 100_000])
    print(f"cases x {ARMS} arms   made in    size       memory   first view   filter    step")
    for count in parser.parse_args().cases:
        with tempfile.TemporaryDirectory() as name:
            folder = answered_project(Path(name) / "project", count, prompts=ARMS // 2)
            grainy(folder, count)
            seconds, size, memory = measured(folder)
            first, filtered, stepped = opened(folder / "page.html")
            print(
                f"{count:14d} {seconds:8.1f} s {size / 1e6:7.1f} MB {memory:8d} MB {first:9.0f} ms {filtered:6.0f} ms {stepped:5.0f} ms",
                flush=True,
            )
    print("aims: 5000 cases under 25 MB, first view 1500 ms, filter and step 100 ms; 100000 in 60 s and 1500 MB")


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_NOFILE, (4096, 4096))
    main()
