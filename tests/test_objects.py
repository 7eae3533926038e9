"""Pictures at addresses: read once, never before somebody agreed, noticed when they change, kept within bounds."""

from __future__ import annotations

import json
import shutil
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import fsspec
import pytest
from conftest import Drovik, FakeService, change, demo_on_port, good
from fsspec.implementations.memory import MemoryFileSystem

from drovik.errors import DrovikError
from drovik.kept_files import KeptFiles
from drovik.project.object_pictures import ObjectPictures, is_object
from drovik.project.picture_files import PictureFolder

Serve = Callable[..., FakeService]
SORT = ("--task", "sort", "--arm", "gull/v2")


class Shelf(ThreadingHTTPServer):
    """A file server on a real socket that remembers what it was asked for."""

    def __init__(self, folder: Path) -> None:
        self.asked: Counter[str] = Counter()
        self.sends_on_to = ""
        shelf = self

        class Handler(SimpleHTTPRequestHandler):
            def send_head(self) -> Any:
                shelf.asked[f"{self.command} {Path(self.path).name}"] += 1
                if shelf.sends_on_to:
                    self.send_response(302)
                    self.send_header("Location", f"{shelf.sends_on_to}{self.path}")
                    self.end_headers()
                    return None
                return super().send_head()

            def end_headers(self) -> None:
                path = Path(self.translate_path(self.path))
                if path.is_file():
                    self.send_header("ETag", f'"{path.stat().st_mtime_ns}"')
                super().end_headers()

            def log_message(self, *_: object) -> None:
                pass

        super().__init__(("127.0.0.1", 0), partial(Handler, directory=str(folder)))
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}"

    def reads(self) -> int:
        found = sum(count for asked, count in self.asked.items() if asked.startswith("GET "))
        self.asked.clear()
        return found


@pytest.fixture
def shelf(tmp_path: Path) -> Iterator[Shelf]:
    (tmp_path / "shelf").mkdir()
    server = Shelf(tmp_path / "shelf")
    yield server
    server.shutdown()


def moved_to(shelf: Shelf, folder: Path, port: int, cases: int = 4) -> Path:
    """A demo project whose pictures lie on the shelf, and nowhere else; it names the shelf."""
    demo_on_port(folder, port, cases=cases)
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    for row in rows:
        row["images"] = [f"{shelf.address}/{one if isinstance(one, str) else one['path']}" for one in row["images"]]
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    shutil.move(folder / "images", folder.parent / "shelf" / "images")
    change(folder / "drovik.toml", "[endpoints", f'[pictures]\nfrom = ["{shelf.address}/images/"]\n\n[endpoints')
    return folder


def test_pictures_at_addresses_are_sent_and_each_is_read_once(drovik: Drovik, shelf: Shelf, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = moved_to(shelf, drovik.folder, service.port)
    refused = drovik("check")
    assert (refused.code, len(refused.err.splitlines())) == (1, 0)
    assert f"pictures from {shelf.address}/images/, outside of the project, were never agreed to" in " ".join(
        refused.out.split()
    )
    assert not shelf.asked, "the shelf was asked before anybody agreed"
    checked = drovik("check", "--trust")
    assert checked.code == 0, checked.out
    assert shelf.reads() == 4
    sent = drovik("send", *SORT)
    assert (sent.code, len(service.requests)) == (0, 4), sent.err
    assert shelf.reads() == 0, "what was read is kept on this machine"
    copied = drovik("export", "out", "--table", "cases", "--as", "jsonl")
    assert copied.code == 0, copied.err
    taken = drovik("import", "out/cases.jsonl")
    assert (taken.code, "4" in taken.out) == (0, True), taken.err
    shutil.rmtree(folder / ".drovik" / "objects")
    assert drovik("report", "--out", "page.html").code == 0
    assert "lp-001" in (folder / "page.html").read_text()
    picture = next((folder.parent / "shelf" / "images").glob("lp-002*"))
    picture.write_bytes(next((folder.parent / "shelf" / "images").glob("lp-010*")).read_bytes())
    again = drovik("send", *SORT)
    assert (again.code, len(service.requests)) == (0, 5), "one picture is another one now, and is asked about"


def test_an_address_that_is_not_named_or_gone_is_one_line_and_nothing_is_sent(
    drovik: Drovik, shelf: Shelf, serve: Serve
) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = moved_to(shelf, drovik.folder, service.port)
    assert drovik("check", "--trust").code == 0
    whole = (folder / "cases.jsonl").read_text()
    for wrong, said in (
        (f"{shelf.address}/elsewhere/a.jpg", "lies outside of the project"),
        (f"{shelf.address}/images/../secret.jpg", "is no address that pictures are read from"),
        ("file:///etc/passwd", "is no address that pictures are read from"),
        (f"simplecache::{shelf.address}/images/lp-001.jpg", "such picture"),
        (f"{shelf.address}/images/gone.jpg", "no such picture"),
        ("nosuch://bucket/a.jpg", "lies outside of the project"),
    ):
        row = json.loads(whole.splitlines()[0]) | {"images": [wrong]}
        (folder / "cases.jsonl").write_text(json.dumps(row) + "\n")
        shelf.asked.clear()
        sent = drovik("send", *SORT)
        assert sent.code == 2, wrong
        assert said in " ".join(sent.err.split()), sent.err
        assert not any("secret" in one or "a.jpg" in one for one in shelf.asked)
    assert not service.requests


def test_a_server_that_sends_on_to_another_is_not_followed(drovik: Drovik, shelf: Shelf, serve: Serve) -> None:
    """It could have what only this machine reaches read, and sent to a service, under an address that was agreed to."""
    folder = moved_to(shelf, drovik.folder, serve(lambda n, body: good('{"kind": "cap"}')).port)
    inner = Shelf(folder.parent / "shelf")
    shelf.sends_on_to = inner.address
    try:
        checked = drovik("check", "--trust")
        assert checked.code == 1
        told = " ".join(checked.out.split())
        assert f"its server sends on to {inner.address}/images/lp-001.jpg" in told
        assert "name that place too" in told
        assert not inner.asked
        change(folder / "drovik.toml", '/images/"]', f'/images/", "{inner.address}/images/"]')
        assert drovik("check").code == 1, "nobody agreed to it as yet"
        assert not inner.asked
        assert drovik("check", "--trust").code == 0
        assert inner.reads() == 4
    finally:
        inner.shutdown()


class Listed(MemoryFileSystem):
    """A store that says of each object which version it is, and counts what it is asked."""

    protocol = "shelf"
    store: dict[str, Any] = {}
    pseudo_dirs = [""]
    asked: Counter[str] = Counter()

    def _told(self, one: dict[str, Any]) -> dict[str, Any]:
        file = self.store.get(one["name"])
        return {**one, "ETag": hash(file.getvalue())} if file is not None else one

    def ls(self, path: str, detail: bool = True, **more: Any) -> Any:
        Listed.asked["list"] += 1
        return [self._told(one) for one in super().ls(path, detail=True, **more)]

    def info(self, path: str, **more: Any) -> dict[str, Any]:
        Listed.asked["info"] += 1
        return self._told(super().info(path, **more))

    def cat_file(self, path: str, start: int | None = None, end: int | None = None, **more: Any) -> bytes:
        Listed.asked["read"] += 1
        return bytes(super().cat_file(path, start, end, **more))


@pytest.fixture
def listed() -> type[Listed]:
    fsspec.register_implementation("shelf", Listed, clobber=True)
    Listed.store.clear()
    Listed.asked.clear()
    return Listed


def test_a_store_is_asked_for_lists_and_what_is_kept_stays_within_bounds(
    listed: type[Listed], tmp_path: Path
) -> None:
    files = fsspec.filesystem("shelf")
    paths = [f"shelf://lost/{folder}/{number}.jpg" for folder in ("a", "b") for number in range(50)]
    for path in paths:
        files.pipe_file(path, path.encode() * 100)
    listed.asked.clear()

    def opened() -> PictureFolder:
        kept = KeptFiles(tmp_path / "objects", 40_000, ".object")
        return PictureFolder(tmp_path, (), ObjectPictures(["shelf://lost"], lambda prefix: True, kept))

    pictures = opened()
    pictures.look_up(paths)
    states = [pictures.state(path) for path in paths]
    assert listed.asked == {"list": 2}
    assert len({(one.size, one.mtime_ns) for one in states}) == 100
    assert len(set(pictures.digests(paths))) == 100
    assert listed.asked["read"] == 100
    kept = sum(one.stat().st_size for one in (tmp_path / "objects").rglob("*") if one.is_file())
    assert 20_000 < kept <= 45_000
    last = opened()
    assert last.read(paths[-1]) == paths[-1].encode() * 100
    assert listed.asked["read"] == 100, "the last that was read is kept"
    files.pipe_file(paths[-1], b"another")
    fresh = opened()
    assert fresh.read(paths[-1]) == b"another"
    assert fresh.state(paths[-1]) != states[-1]


def test_nothing_of_a_store_is_asked_that_nobody_agreed_to(listed: type[Listed], tmp_path: Path) -> None:
    fsspec.filesystem("shelf").pipe_file("shelf://lost/a.jpg", b"a")
    listed.asked.clear()
    objects = ObjectPictures(["shelf://lost"], lambda prefix: False, KeptFiles(None, 0, ".object"))
    for attempt in (objects.state, lambda path: objects.read(path, 9)):
        with pytest.raises(DrovikError, match="never agreed to"):
            attempt("shelf://lost/a.jpg")
    with pytest.raises(DrovikError, match="outside of the project"):
        objects.state("shelf://lost-and-more/a.jpg")
    objects.look_up([f"shelf://lost/{n}.jpg" for n in range(9)])
    assert not listed.asked


def test_an_object_that_is_too_large_or_changes_all_the_time_is_not_kept(
    listed: type[Listed], tmp_path: Path
) -> None:
    fsspec.filesystem("shelf").pipe_file("shelf://lost/a.jpg", b"a" * 100)
    kept = KeptFiles(tmp_path, 10**6, ".object")
    objects = ObjectPictures(["shelf://lost/"], lambda prefix: True, kept)
    with pytest.raises(DrovikError, match="larger than"):
        objects.read("shelf://lost/a.jpg", 99)
    assert objects.read("shelf://lost/a.jpg", 100) == b"a" * 100
    (file,) = tmp_path.rglob("*.object")
    file.write_bytes(file.read_bytes()[:-1] + b"b")
    assert objects.read("shelf://lost/a.jpg", 100) == b"a" * 100, "a file that is damaged is read again"


@pytest.mark.parametrize(
    ("path", "is_one"),
    [
        ("s3://b/a.jpg", True),
        ("images/a.jpg", False),
        ("/x://y", False),
        ("C://x", False),
        ("://", False),
        ("a://", False),
    ],
)
def test_what_is_an_address_and_what_a_path(path: str, is_one: bool) -> None:
    assert is_object(path) == is_one
