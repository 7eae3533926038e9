"""Preparing a 12-megapixel JPEG to 1,024 pixels, beside bare Pillow loops, in one run.

    python benchmarks/pictures.py [PICTURES]

Bare are: open, draft mode, resize, save; and the same with full decoding. Both use the same filter and
quality as the prep. CPU seconds are the process's own, on one thread; throughput is measured with one thread
and with two. Each is taken several times by turns, and the ratio is of the bests.
"""

from __future__ import annotations

import argparse
import io
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from drovik.images.prepare import prepare
from drovik.project.preps import Prep
from drovik.store.prepared_pictures import PreparedPictures

SIDE, QUALITY = 1024, 85
PREP = Prep(fit=SIDE, quality=QUALITY)


def photograph(number: int) -> bytes:
    """A JPEG of 4000 by 3000 pixels with the detail of a photograph: soft shapes and some noise."""
    import numpy as np
    from PIL import Image, ImageFilter

    chance = np.random.default_rng(number)
    coarse = Image.fromarray(chance.integers(0, 255, (60, 80, 3), dtype=np.uint8)).resize((4000, 3000))
    grain = Image.fromarray(chance.integers(0, 40, (750, 1000, 3), dtype=np.uint8)).resize((4000, 3000))
    out = io.BytesIO()
    Image.blend(coarse, grain, 0.3).filter(ImageFilter.GaussianBlur(1)).save(out, "JPEG", quality=88)
    return out.getvalue()


def bare(data: bytes, draft: bool) -> bytes:
    from PIL import Image

    with Image.open(io.BytesIO(data)) as picture:
        if draft:
            picture.draft(None, (SIDE, SIDE * picture.height // picture.width))
        share = SIDE / max(picture.size)
        size = (round(picture.width * share), round(picture.height * share))
        small = picture.convert("RGB").resize(size, Image.Resampling.LANCZOS)
    out = io.BytesIO()
    small.save(out, "JPEG", quality=QUALITY)
    return out.getvalue()


def ours(data: bytes) -> bytes:
    return prepare(data, PREP, "p", 10**9)[0].data


def cpu(work: Callable[[bytes], bytes], pictures: list[bytes]) -> float:
    started = time.process_time()
    for data in pictures:
        work(data)
    return (time.process_time() - started) / len(pictures)


def cpu_of_kept(folder: Path, pictures: list[bytes]) -> float:
    kept = PreparedPictures(folder, 10**10)
    started = time.process_time()
    for number in range(len(pictures)):
        kept.made(str(number), "prep", tuple)
    return (time.process_time() - started) / len(pictures)


def rate(threads: int, pictures: list[bytes]) -> float:
    started = time.perf_counter()
    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(ours, pictures))
    return len(pictures) / (time.perf_counter() - started)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("pictures", nargs="?", type=int, default=24)
    count = parser.parse_args().pictures
    made = [photograph(number) for number in range(4)]
    pictures = (made * (-(-count // 4)))[:count]
    print(f"{count} JPEGs of 4000 x 3000 pixels, {sum(map(len, made)) / 4e6:.1f} MB each, to {SIDE} pixels")
    works = {"drovik": ours, "draft": lambda data: bare(data, True), "full": lambda data: bare(data, False)}
    for work in works.values():
        work(pictures[0])
    best = dict.fromkeys(works, float("inf"))
    for _ in range(4):
        for name, work in works.items():
            best[name] = min(best[name], cpu(work, pictures))
    told = ", ".join(f"{name} {seconds * 1000:.0f} ms" for name, seconds in best.items())
    print(f"CPU for a picture: {told}")
    print(
        f"beside bare Pillow in draft mode: {best['drovik'] / best['draft']:.2f} (aim: at most 0.9 with simplejpeg, 1.2 without)"
    )
    print(f"beside bare Pillow decoding fully: {best['drovik'] / best['full']:.2f} (aim: at most 0.4)")
    with tempfile.TemporaryDirectory() as name:
        kept = PreparedPictures(Path(name), 10**10)
        for number, data in enumerate(pictures):
            kept.made(str(number), "prep", lambda data=data: prepare(data, PREP, "p", 10**9))
        again = min(cpu_of_kept(Path(name), pictures) for _ in range(4))
    print(f"taken from what the run before kept: {again / best['drovik']:.3f} of the CPU of preparing it")
    one = max(rate(1, pictures) for _ in range(3))
    two = max(rate(2, pictures) for _ in range(3))
    print(f"a second: {one:.1f} with one thread, {two:.1f} with two: {two / one:.2f} (aim: at least 1.8)")


if __name__ == "__main__":
    main()
