"""What the tests share: the installed program, the stand-in as a process, and small projects on disk."""

from __future__ import annotations

import atexit
import contextlib
import fcntl
import functools
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from hypothesis import settings

from drovik.demo.copying import copy_demo

if TYPE_CHECKING:
    from playwright.sync_api import Browser

settings.register_profile("the same each time", derandomize=True, max_examples=50)
settings.register_profile("drawn anew", derandomize=False)


def pytest_configure(config: pytest.Config) -> None:
    """`make test` draws the same random cases each time; the long tests draw others."""
    settings.load_profile("drawn anew" if config.option.markexpr == "long" else "the same each time")
    if getattr(config.option, "numprocesses", None):
        os.environ["TESTS_FORK_FROM"] = start_forking()  # one for all workers, which inherit the name


PROGRAM = str(Path(sys.executable).with_name("drovik"))


@dataclass
class Result:
    code: int
    out: str
    err: str
    megabytes: int = 0

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def start_forking() -> str:
    """Start a process that has the program loaded and forks for each run (see forked.py); gives its socket."""
    folder = tempfile.mkdtemp(prefix="forks-")
    process = subprocess.Popen([sys.executable, str(Path(__file__).with_name("forked.py")), f"{folder}/socket"])
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    atexit.register(process.kill)
    return f"{folder}/socket"


@functools.cache
def forks() -> str:
    """The socket of a process that forks for each run, once it listens."""
    path = os.environ.get("TESTS_FORK_FROM") or start_forking()
    for _ in range(3000):
        if os.path.exists(path):
            return path
        time.sleep(0.02)
    pytest.exit("the process that the program is forked from did not start within a minute")


class Forked:
    """One run of the program in a fork of a process that has it loaded, with its streams in files."""

    def __init__(
        self, folder: Path, environment: dict[str, str], words: Sequence[str], said: str | None = None
    ) -> None:
        self.streams = Path(tempfile.mkdtemp())
        (self.streams / "in").write_text(said or "")
        places = {name: str(self.streams / name) for name in ("in", "out", "err")}
        if said is None:
            places["in"] = os.devnull
        asked = {"words": words, "folder": str(folder), "environment": environment, **places}
        self.connection = socket.socket(socket.AF_UNIX)
        self.connection.connect(forks())
        self.connection.sendall(json.dumps(asked).encode() + b"\n")
        self.lines = self.connection.makefile()
        self.pid = int(self.lines.readline())

    def __enter__(self) -> Forked:
        return self

    def __exit__(self, *_: object) -> None:
        self.lines.close()
        self.connection.close()
        shutil.rmtree(self.streams)

    def printed(self, stream: str = "out") -> str:
        """What it has printed by now."""
        path = self.streams / stream
        return path.read_text("utf-8", "replace") if path.exists() else ""

    def result(self, timeout: float) -> Result:
        """What came of it, once it has ended."""
        self.connection.settimeout(timeout)
        code, _, memory = self.lines.readline().partition(" ")
        return Result(int(code or -1), self.printed("out"), self.printed("err"), int(memory or 0))

    def stop(self) -> None:
        """Interrupt it, and wait for its end."""
        os.kill(self.pid, signal.SIGINT)
        self.result(10)


class Drovik:
    """The program, run in a folder with a configuration folder of its own."""

    def __init__(self, folder: Path, config: Path) -> None:
        self.folder = folder
        self.environment = {**os.environ, "XDG_CONFIG_HOME": str(config), "HOME": str(config), "NO_COLOR": "1"}

    def __call__(self, *words: str, said: str | None = None, timeout: float = 120) -> Result:
        with Forked(self.folder, self.environment, words, said) as run:
            done = run.result(timeout)
        assert "Traceback" not in done.err, done.err
        assert "should not have happened" not in done.err, done.err
        return done

    def installed(self, *words: str) -> Result:
        """The installed program itself, from the start of Python on."""
        done = subprocess.run(
            [PROGRAM, *words], cwd=self.folder, env=self.environment, capture_output=True, text=True, timeout=120
        )
        assert "Traceback" not in done.stderr, done.stderr
        return Result(done.returncode, done.stdout, done.stderr)

    def start(self, *words: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [PROGRAM, *words], cwd=self.folder, env=self.environment, text=True,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    """Debian's Chromium, started once for all tests that use it."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        yield driver.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])


@pytest.fixture
def drovik(tmp_path: Path) -> Drovik:
    """The program in an empty folder."""
    (tmp_path / "config").mkdir()
    (tmp_path / "here").mkdir()
    return Drovik(tmp_path / "here", tmp_path / "config")


ON_THE_DEMO = {"finished_demo", "answered_demo"}


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Tests on the answered demo come last; where several workers run, it is made while the others are.

    Behind them those in a browser: its driver has a loop of its own running, beside which no other can.
    """
    fixtures = [set(getattr(one, "fixturenames", ())) for one in items]
    on_it = [bool(ON_THE_DEMO & names) for names in fixtures]
    order = sorted(range(len(items)), key=lambda n: ("browser" in fixtures[n], on_it[n]))
    items[:] = [items[n] for n in order]
    if any(on_it) and os.environ.get("PYTEST_XDIST_WORKER") == "gw0":
        factory = config._tmp_path_factory  # type: ignore[attr-defined]
        subprocess.Popen([sys.executable, __file__, str(factory.getbasetemp().parent / "finished-demo")])


def make_demo(shared: Path) -> None:
    """`drovik demo`, run by whoever comes first; the others wait."""
    shared.mkdir(exist_ok=True)
    with (shared / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (shared / "printed.json").is_file():
            (shared / "config").mkdir()
            made = Drovik(shared, shared / "config").installed("demo", "project")
            (shared / "printed.json").write_text(json.dumps([made.code, made.out, made.err]))


@pytest.fixture(scope="session")
def finished_demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Drovik, Result]:
    """`drovik demo`, run once for all workers, and what it printed; each works on in a copy of the project."""
    shared = tmp_path_factory.getbasetemp()
    shared = (shared.parent if "PYTEST_XDIST_WORKER" in os.environ else shared) / "finished-demo"
    make_demo(shared)
    base = tmp_path_factory.mktemp("demo")
    shutil.copytree(shared / "project", base / "project")
    (base / "config").mkdir()
    return Drovik(base / "project", base / "config"), Result(*json.loads((shared / "printed.json").read_text()))


@pytest.fixture
def answered_demo(finished_demo: tuple[Drovik, Result], tmp_path: Path) -> Drovik:
    """A copy of the answered demo project, to edit."""
    done, _ = finished_demo
    shutil.copytree(done.folder, tmp_path / "project")
    (tmp_path / "config").mkdir()
    return Drovik(tmp_path / "project", tmp_path / "config")


@dataclass
class StandInProcess:
    port: int
    ledger: Path

    def entries(self) -> list[dict[str, Any]]:
        return [json.loads(line) for line in self.ledger.read_text().splitlines()]


@contextlib.contextmanager
def stand_in_on_a_port(folder: Path, *words: str) -> Iterator[int]:
    """The port of a stand-in that is stopped afterwards."""
    with Forked(folder, dict(os.environ), ["stand-in", "--port", "0", *words]) as run:
        while not (found := re.search(r"127\.0\.0\.1:(\d+)", run.printed())):
            os.kill(run.pid, 0)
            time.sleep(0.01)
        yield int(found[1])
        run.stop()


@pytest.fixture
def start_standin(tmp_path: Path) -> Iterator[Callable[..., StandInProcess]]:
    """Starts stand-ins; they are stopped after the test."""
    with contextlib.ExitStack() as running:

        def start(*words: str) -> StandInProcess:
            ledger = tmp_path / f"ledger{len(list(tmp_path.glob('ledger*')))}.jsonl"
            ledger.touch()
            port = running.enter_context(stand_in_on_a_port(tmp_path, "--ledger", str(ledger), *words))
            return StandInProcess(port, ledger)

        yield start


def demo_on_port(folder: Path, port: int, cases: int = 48, limits: str = "concurrency = 8, timeout = 30") -> Path:
    """A demo project whose endpoint is at a port: its five larger tasks with two versions, its first this many cases."""
    copy_demo(folder)
    shutil.rmtree(folder / "tasks/safe")
    (folder / "tasks/sort/prompts/v3.toml").unlink()
    settings = folder / "drovik.toml"
    text = settings.read_text().partition("[variants.small]")[0].replace("127.0.0.1:8765", f"127.0.0.1:{port}")
    settings.write_text(text.replace("concurrency = 8, timeout = 30", limits))
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()[:cases]]
    for row in rows:
        del row["expected"]["safe"]
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    return folder


def change(path: Path, old: str, new: str) -> None:
    """Change the first place in a file where a text is, which has to be there."""
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))


Reply = tuple[int, dict[str, str], bytes]


@dataclass
class FakeService:
    """A service whose every reply the test decides, on a real socket; remembers what it was asked.

    With `raw` the bodies of its requests need not be JSON.
    """

    decide: Callable[[int, dict[str, Any]], Reply | None]
    requests: list[dict[str, Any]] = field(default_factory=list)
    headers: list[dict[str, str]] = field(default_factory=list)
    under_way: int = 0
    most_under_way: int = 0
    times: list[float] = field(default_factory=list)
    paths: list[str] = field(default_factory=list)
    bodies: list[bytes] = field(default_factory=list)
    raw: bool = False

    def __post_init__(self) -> None:
        service, lock = self, threading.Lock()

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_POST(self) -> None:
                data = self.rfile.read(int(self.headers["Content-Length"]))
                body = {} if service.raw else json.loads(data)
                with lock:
                    service.paths.append(self.path)
                    service.bodies.append(data)
                    number = len(service.requests)
                    service.requests.append(body)
                    service.headers.append(dict(self.headers))
                    service.times.append(time.monotonic())
                    service.under_way += 1
                    service.most_under_way = max(service.most_under_way, service.under_way)
                reply = service.decide(number, body)
                with lock:
                    service.under_way -= 1
                if reply is None:
                    self.close_connection = True
                    return
                status, headers, data = reply
                self.send_response(status)
                for name, value in {"Content-Type": "application/json", **headers}.items():
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_: object) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()


@pytest.fixture
def serve() -> Iterator[Callable[..., FakeService]]:
    """Starts services whose replies the test decides."""
    running: list[FakeService] = []

    def start(decide: Callable[[int, dict[str, Any]], Reply | None]) -> FakeService:
        running.append(FakeService(decide))
        return running[-1]

    yield start
    for one in running:
        one.close()


def good(answer: str, ended: str = "done", **more: Any) -> Reply:
    """A reply in the demo's dialect."""
    tree = {"answer": answer, "ended": ended, "model": "m", "count": {"in": 1000, "out": 10}, **more}
    return 200, {}, json.dumps(tree).encode()


def bad(status: int, words: str, **headers: str) -> Reply:
    """An error in the demo's dialect."""
    return (
        status,
        {name.replace("_", "-"): value for name, value in headers.items()},
        json.dumps({"problem": words}).encode(),
    )


if __name__ == "__main__":
    make_demo(Path(sys.argv[1]))
