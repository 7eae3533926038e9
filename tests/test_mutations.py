"""Twenty thousand random changes to all that strangers may write: no traceback, no hang, no memory without bound.

Run by `make test-long`; each run draws its own changes, and prints its seed and counts. MUTATIONS=N draws N in all.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, Result, demo_on_port, good

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
SECONDS, MEGABYTES = 20, 1000
COUNT = int(os.environ.get("MUTATIONS", "20000"))
SORT = ("--task", "sort", "--arm", "fulmar/v1")
TOKENS = [
    b"\0", b"\xff", b"\xed\xa0\x80", b"\xe2\x80\xae", b"\r", b"\n", b"\n\n", b"{", b"}", b"[", b"]", b'"', b"'", b"'''", b'"""', b",", b":", b"=",
    b"#", b"\\", b"\\u0000", b"\\ud800", b"1e400", b"-1", b"0", b"9" * 400, b"nan", b"inf", b"true", b"null", b"{{ x }}", b"{{", b"{% for a in b %}",
    b"{key}", b"{part.text}", b"$..*", b"$[?@.a == 1]", b"../../x", b"/dev/zero", b"*", b"2026-02-30", b"[[x]]", b"\xef\xbb\xbf", b"$ref", b"each turn",
    b"1979-05-27T07:32:00Z", b"0x7fffffffffffffffffff", b"a.b.c", b"schema", b"pattern", b"(a+)+$", b"[" * 200, b"{\"a\":" * 200, b"=1+1", b"%s", b"-" * 300,
]  # fmt: skip


def mutated(data: bytes, chance: random.Random) -> bytes:
    """Data with one to four changes in it."""
    for _ in range(chance.randint(1, 4)):
        at, length = chance.randrange(len(data) + 1), chance.choice([1, 1, 2, 4, 8, 40, 200])
        kind = chance.randrange(7)
        if kind == 0:
            data = data[:at] + data[at + length :]
        elif kind == 1:
            data = data[:at] + chance.choice(TOKENS) + data[at:]
        elif kind == 2:
            data = data[:at] + chance.choice(TOKENS) + data[at + length :]
        elif kind == 3:
            data = data[:at] + chance.randbytes(min(length, 8)) + data[at + length :]
        elif kind == 4:
            data = data[:at] + data[at : at + length] * chance.choice([2, 3, 50]) + data[at + length :]
        elif kind == 5:
            lines = data.split(b"\n")
            chance.shuffle(lines) if chance.random() < 0.2 else lines.insert(
                chance.randrange(len(lines) + 1), chance.choice(lines)
            )
            data = b"\n".join(lines)
        else:
            data = data[: at if chance.random() < 0.3 else len(data)]
    return data


class Watch:
    """Runs commands, sees that they end as they should, and counts how."""

    def __init__(self, drovik: Drovik, what: str) -> None:
        self.drovik, self.what = drovik, what
        self.seed = random.SystemRandom().randrange(10**9)
        self.chance = random.Random(self.seed)
        self.codes: Counter[int] = Counter()
        self.most = 0
        self.changes = 0

    def run(self, *words: str) -> Result:
        try:
            result = self.drovik(*words, timeout=SECONDS)
        except TimeoutError:
            raise AssertionError(f"{words} hung; {self}") from None
        assert result.code in (0, 1, 2, 3), f"{words} ended with {result.code}: {result.err}; {self}"
        assert result.code != 2 or result.err.strip() or result.out.strip(), f"{words} said nothing; {self}"
        assert result.megabytes < MEGABYTES, f"{words} took {result.megabytes} MB; {self}"
        self.most = max(self.most, result.megabytes)
        self.codes[result.code] += 1
        return result

    def __str__(self) -> str:
        runs = sum(self.codes.values())
        return f"{self.what}: {self.changes} changes, {runs} runs, exit codes {dict(self.codes)}, {self.most} MB at most, seed {self.seed}"


@contextlib.contextmanager
def watching(drovik: Drovik, what: str) -> Iterator[Watch]:
    watch = Watch(drovik, what)
    try:
        yield watch
    finally:
        print(watch, flush=True)


@pytest.fixture
def answered(drovik: Drovik, serve: Serve) -> tuple[Drovik, FakeService, Path]:
    """A small project that is answered, and a copy to go back to."""
    service = serve(lambda n, body: good('{"kind": "cap", "number": "SK-1"}'))
    limits = "concurrency = 8, timeout = 2, max_tries = 1, give_up_after = 1"
    folder = demo_on_port(drovik.folder, service.port, cases=4, limits=limits)
    assert drovik("send", *SORT).code == 0
    whole = folder.parent / "whole"
    shutil.copytree(folder, whole)
    return drovik, service, whole


def files_of(whole: Path) -> list[Path]:
    patterns = (
        "drovik.toml",
        "cases.jsonl",
        ".env",
        "dialects/*",
        "tasks/*/question.toml",
        "tasks/*/*.json",
        "tasks/*/prompts/*",
    )
    return sorted(path for pattern in patterns for path in whole.glob(pattern))


@pytest.mark.long
@pytest.mark.parametrize("part", range(4))
def test_no_change_to_a_projects_files_breaks_a_command(
    part: int, answered: tuple[Drovik, FakeService, Path]
) -> None:
    drovik, _, whole = answered
    commands = [
        ("check",), ("score", *SORT), ("quote", *SORT), ("send", *SORT, "--json"), ("show", "lp-001"), ("compare", "--task", "sort"),
        ("report",), ("pictures", "--json"), ("score", "--causes", "--json"), ("endpoint", "models", "desk"), ("check", "--json"),
    ]  # fmt: skip
    files = files_of(whole)
    with watching(drovik, "project files") as watch:
        for _ in range(COUNT // 2 // 4):
            path = watch.chance.choice(files)
            target = drovik.folder / path.relative_to(whole)
            target.write_bytes(mutated(path.read_bytes(), watch.chance))
            watch.changes += 1
            watch.run(*watch.chance.choice(commands))
            shutil.copy(path, target)


@pytest.mark.long
def test_no_reply_and_no_header_breaks_a_run(drovik: Drovik, serve: Serve) -> None:
    names = [
        "Retry-After",
        "RateLimit",
        "RateLimit-Remaining",
        "RateLimit-Reset",
        "Content-Type",
        "Location",
        "X-Odd",
    ]
    with watching(drovik, "replies and headers") as watch:
        whole = good('Here it is: ```json\n{"kind": "cap"}\n``` "quoted"', more=[{"a": 1}])[2]

        def decide(number: int, body: dict[str, Any]) -> Reply:
            headers = {}
            for name in watch.chance.sample(names, watch.chance.randint(0, 3)):
                value = mutated(watch.chance.choice([b"1", b"r=5;t=1", b"application/json", b"1m30s"]), watch.chance)
                headers[name] = value.decode("latin-1").replace("\r", "").replace("\n", "").replace("\0", "")[:3000]
            watch.changes += 1
            return (
                watch.chance.choice([200, 200, 200, 200, 400, 404, 429, 500, 302, 201]),
                headers,
                mutated(whole, watch.chance),
            )

        service = serve(decide)
        folder = demo_on_port(
            drovik.folder,
            service.port,
            cases=48,
            limits="concurrency = 8, timeout = 2, max_tries = 1, give_up_after = 1",
        )
        while watch.changes < COUNT // 4:
            watch.run("send", "--task", "sort", "--task", "describe", "--arm", "fulmar", "--json", "--quiet")
            for words in (("score", "--json"), ("show", "lp-001", "--full"), ("report",), ("score", "--causes")):
                watch.run(*words)
            shutil.rmtree(folder / ".drovik")


@pytest.mark.long
def test_no_damage_to_a_store_breaks_a_command(answered: tuple[Drovik, FakeService, Path]) -> None:
    drovik, _, whole = answered
    commands = [
        ("score", *SORT), ("show", "lp-001"), ("send", *SORT, "--json"), ("store", "check"), ("store", "repair"), ("report", *SORT), ("quote", *SORT),
    ]  # fmt: skip
    home = drovik.folder / ".drovik"
    with watching(drovik, "stores") as watch:
        for _ in range(COUNT // 8):
            shutil.rmtree(home)
            shutil.copytree(whole / ".drovik", home)
            data = bytearray((home / "answers.sqlite").read_bytes())
            for _ in range(watch.chance.choice([1, 3, 30, 300])):
                data[watch.chance.randrange(len(data))] = watch.chance.randrange(256)
            (home / "answers.sqlite").write_bytes(
                data[: watch.chance.randrange(len(data)) if watch.chance.random() < 0.2 else len(data)]
            )
            watch.changes += 1
            watch.run(*watch.chance.choice(commands))


@pytest.mark.long
def test_no_change_to_a_picture_breaks_a_command(answered: tuple[Drovik, FakeService, Path]) -> None:
    import io

    from PIL import Image

    drovik, _, whole = answered
    pictures = [next(whole.glob("images/lp-001.*")).read_bytes(), next(whole.glob("images/*.png")).read_bytes()]
    for kind in ("GIF", "WEBP", "TIFF", "BMP"):
        frames = [Image.new("RGB", (40, 30), colour) for colour in ("red", "green", "blue")]
        out = io.BytesIO()
        frames[0].save(out, kind, **({"save_all": True, "append_images": frames[1:]} if kind != "BMP" else {}))
        pictures.append(out.getvalue())
    settings = drovik.folder / "drovik.toml"
    settings.write_text(settings.read_text() + "\n[preps.moving]\nfit = 64\nframes = { every = 1 }\n")
    lines = (drovik.folder / "cases.jsonl").read_text().splitlines()
    row = json.loads(lines[0]) | {"images": ["images/it.jpg"]}
    (drovik.folder / "cases.jsonl").write_text(json.dumps(row) + "\n")
    commands = [
        ("check",),
        ("pictures", "--json"),
        ("send", "--task", "sort", "--arm", "*/v1/moving", "--json"),
        ("pictures", row["id"]),
    ]
    with watching(drovik, "pictures") as watch:
        for _ in range(COUNT // 8):
            (drovik.folder / "images/it.jpg").write_bytes(mutated(watch.chance.choice(pictures), watch.chance))
            watch.changes += 1
            watch.run(*watch.chance.choice(commands))


def test_a_few_changes_of_every_kind_break_nothing(answered: tuple[Drovik, FakeService, Path]) -> None:
    """The same each time; the many are in `make test-long`."""
    drovik, _, whole = answered
    with watching(drovik, "a few") as watch:
        watch.chance = random.Random(5)
        for _ in range(12):
            path = watch.chance.choice(files_of(whole))
            target = drovik.folder / path.relative_to(whole)
            target.write_bytes(mutated(path.read_bytes(), watch.chance))
            watch.changes += 1
            watch.run("check")
            shutil.copy(path, target)
