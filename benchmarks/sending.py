"""CPU per request of `drovik send`, beside two loops that people write, with the same HTTP library, in one run.

    python benchmarks/sending.py [CASES]

Both send the same JPEG pictures of about 200 KB, which need no preparing, eight at once, to a service
on this machine that reads the request and answers the same words. The plain loop reads each picture,
encodes it, posts it, and keeps the replies in a list. The quick one is the best that we know: base64 by
pybase64, spliced as bytes into a body that was written before, and nothing kept. CPU is the process's own, user
and system, with the time of starting up (measured on one case) taken off. Peak memory is that of the whole process.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import random
import resource
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from pathlib import Path

AT_ONCE = 8
SERVICE = """
import asyncio, sys
REPLY = b'{"answer": "a glove", "ended": "done", "count": {"in": 300, "out": 5}}'
HEAD = b"HTTP/1.1 200 OK\\r\\nContent-Type: application/json\\r\\nContent-Length: %d\\r\\n\\r\\n" % len(REPLY)
class Service(asyncio.Protocol):
    def connection_made(self, transport):
        self.transport, self.left, self.head = transport, 0, b""
    def data_received(self, data):
        while data:
            if self.left:
                taken = min(self.left, len(data)); self.left -= taken; data = data[taken:]
            else:
                self.head += data; data = b""
                end = self.head.find(b"\\r\\n\\r\\n")
                if end < 0:
                    return
                lines = self.head[:end].lower().split(b"\\r\\n")
                self.left = next(int(one[15:]) for one in lines if one.startswith(b"content-length:"))
                data, self.head = self.head[end + 4:], b""
                if self.left and not data:
                    return
                continue
            if not self.left:
                self.transport.write(HEAD + REPLY)
async def main():
    server = await asyncio.get_running_loop().create_server(Service, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()
asyncio.run(main())
"""
BARE = """
import asyncio, base64, json, sys, time, resource
import aiohttp
from pathlib import Path
async def main(port, folder, count):
    paths = sorted(Path(folder).glob("*.jpg"))[:count]
    waiting, replies = iter(paths), []
    async def worker(session):
        for path in waiting:
            picture = base64.b64encode(path.read_bytes()).decode()
            body = {"model": "m", "talk": [{"by": "asker", "parts": [
                {"picture": picture, "kind": "image/jpeg"}, {"words": "What lies on the tray?"}]}]}
            async with session.post(f"http://127.0.0.1:{port}/answers", json=body) as response:
                replies.append(await response.read())
    async with aiohttp.ClientSession() as session:
        await asyncio.gather(*(worker(session) for _ in range(8)))
    assert len(replies) == len(paths)
asyncio.run(main(int(sys.argv[1]), sys.argv[2], int(sys.argv[3])))
"""
QUICK = """
import asyncio, json, sys
import aiohttp, pybase64
from pathlib import Path
async def main(port, folder, count):
    paths = sorted(Path(folder).glob("*.jpg"))[:count]
    waiting, answered = iter(paths), 0
    body = {"model": "m", "talk": [{"by": "asker", "parts": [
        {"picture": "@", "kind": "image/jpeg"}, {"words": "What lies on the tray?"}]}]}
    before, after = json.dumps(body).encode().split(b"@")
    headers = {"Content-Type": "application/json"}
    async def worker(session):
        nonlocal answered
        for path in waiting:
            data = b"".join((before, pybase64.b64encode(path.read_bytes()), after))
            async with session.post(f"http://127.0.0.1:{port}/answers", data=data, headers=headers) as response:
                await response.read()
                answered += 1
    async with aiohttp.ClientSession() as session:
        await asyncio.gather(*(worker(session) for _ in range(8)))
    assert answered == len(paths)
asyncio.run(main(int(sys.argv[1]), sys.argv[2], int(sys.argv[3])))
"""


def make_pictures(folder: Path, count: int) -> None:
    """Different JPEGs of about 200 KB: noise, and a running number in the pixels."""
    import numpy as np
    from PIL import Image

    folder.mkdir()
    chance = np.random.default_rng(5)
    noise = chance.integers(0, 255, (470, 640, 3), dtype=np.uint8)
    for number in range(count):
        noise[:16, :16] = chance.integers(0, 255, (16, 16, 3), dtype=np.uint8)
        out = io.BytesIO()
        Image.fromarray(noise).save(out, "JPEG", quality=75)
        (folder / f"p{number:05d}.jpg").write_bytes(out.getvalue())


def make_project(folder: Path, port: int, count: int) -> None:
    (folder / "dialects").mkdir(parents=True)
    (folder / "tasks" / "say" / "prompts").mkdir(parents=True)
    limits = f"limits = {{ concurrency = {AT_ONCE} }}"
    (folder / "drovik.toml").write_text(
        f'[endpoints.e]\nurl = "http://127.0.0.1:{port}"\ndialect = "d"\n{limits}\n'
        '[models.m]\nendpoint = "e"\nid = "m"\n'
    )
    body = {
        "model": "{model}",
        "talk": [
            {
                "each turn": {
                    "by": "{turn.by}",
                    "parts": [
                        {
                            "each part": [
                                {"when part.picture": {"picture": "{part.base64}", "kind": "{part.media_type}"}},
                                {"when part.text": {"words": "{part.text}"}},
                            ]
                        }
                    ],
                }
            }
        ],
    }
    (folder / "dialects" / "d.toml").write_text(
        f"[request]\npath = '/answers'\nbody = '''{json.dumps(body)}'''\n[reply]\ntext = '$.answer'\n"
        "input_tokens = '$.count.in'\noutput_tokens = '$.count.out'\n"
    )
    (folder / "tasks" / "say" / "question.toml").write_text('[answer]\nform = "text"\n')
    (folder / "tasks" / "say" / "prompts" / "v1.toml").write_text('ask = "What lies on the tray?"\n')
    (folder / "pictures").mkdir()
    for number in range(count):  # pictures are sent from within a project alone; a second name takes no room
        os.link(folder.parent / f"pictures/p{number:05d}.jpg", folder / f"pictures/p{number:05d}.jpg")
    rows = ({"id": f"c{number}", "images": [f"pictures/p{number:05d}.jpg"]} for number in range(count))
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))


def measured(command: list[str], cwd: Path) -> tuple[float, float]:
    """CPU seconds and peak memory in MB of a command, run to its end."""
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{' '.join(command)} ended with {process.returncode}")
    return usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="?", type=int, default=2000)
    count = parser.parse_args().cases
    drovik = str(Path(sys.executable).with_name("drovik"))
    with tempfile.TemporaryDirectory() as temporary:
        work = Path(temporary)
        make_pictures(work / "pictures", count)
        sizes = [path.stat().st_size for path in (work / "pictures").iterdir()]
        print(f"{count} pictures of {sum(sizes) / count / 1000:.0f} KB, {AT_ONCE} requests at once")
        service = subprocess.Popen([sys.executable, "-c", SERVICE], stdout=subprocess.PIPE, text=True)
        assert service.stdout is not None
        port = int(service.stdout.readline())

        def loop(code: str, cases: int) -> tuple[float, float]:
            return measured([sys.executable, "-c", code, str(port), str(work / "pictures"), str(cases)], work)

        def ours(cases: int) -> tuple[float, float]:
            shutil.rmtree(work / "project", ignore_errors=True)
            make_project(work / "project", port, cases)
            found = measured([drovik, "send", "--quiet"], work / "project")
            with sqlite3.connect(work / "project" / ".drovik" / "answers.sqlite") as store:
                assert store.execute("SELECT COUNT(*) FROM replies").fetchone()[0] == cases, "pictures must differ"
            return found

        ways = {"plain loop": lambda n: loop(BARE, n), "quick loop": lambda n: loop(QUICK, n), "drovik send": ours}
        try:
            starts = {name: way(1)[0] for name, way in ways.items()}
            times: dict[str, list[float]] = {name: [] for name in ways}
            for _ in range(3):  # by turns, so that a slow minute of the machine meets all
                for name, way in ways.items():
                    times[name].append((way(count)[0] - starts[name]) / count)
            best = {name: min(every) for name, every in times.items()}
            print("CPU per request: " + ", ".join(f"{name} {one * 1000:.2f} ms" for name, one in best.items()))
            for name, aim in (("plain loop", 0.6), ("quick loop", 2.0)):
                ratios = [ours_ / other for ours_, other in zip(times["drovik send"], times[name], strict=True)]
                of_bests = best["drovik send"] / best[name]
                print(
                    f"drovik send beside the {name}: {min(ratios):.2f} to {max(ratios):.2f}; "
                    f"of the bests {of_bests:.2f} (aim: at most {aim})"
                )
            few = max(1, count // 10)
            small, large = ours(few)[1], ours(count)[1]
            print(f"peak memory: {small:.0f} MB at {few} cases, {large:.0f} MB at {count}: {large / small:.2f}")
        finally:
            service.kill()


if __name__ == "__main__":
    random.seed(1)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    main()
