"""A Dask cluster of this machine for tests: a scheduler and workers as processes, each of which may be killed."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

DASK = str(Path(sys.executable).with_name("dask"))


def free_port() -> int:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        return int(taken.getsockname()[1])


class DaskCluster:
    def __init__(self, folder: Path, workers: int) -> None:
        self.folder, self.port = folder, free_port()
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.workers: list[subprocess.Popen[bytes]] = []
        self.log = folder / "cluster.log"
        self.start_scheduler()
        for _ in range(workers):
            self.start_worker()

    def _start(self, *words: str) -> subprocess.Popen[bytes]:
        environment = {**os.environ, "DASK_TEMPORARY_DIRECTORY": str(self.folder), "PYTHONWARNINGS": "ignore"}
        with self.log.open("ab") as log:
            return subprocess.Popen(
                [DASK, *words], cwd=self.folder, env=environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log
            )

    def start_scheduler(self) -> None:
        self.scheduler = self._start("scheduler", "--host", "127.0.0.1", "--port", str(self.port), "--no-dashboard")
        for _ in range(600):
            with socket.socket() as there:
                if there.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.1)
        raise AssertionError(self.log.read_text())

    def start_worker(self) -> None:
        self.workers.append(
            self._start(
                "worker", self.address, "--host", "127.0.0.1", "--nthreads", "1", "--no-nanny", "--no-dashboard"
            )
        )

    def kill_worker(self, number: int = 0) -> None:
        worker = self.workers.pop(number)
        worker.send_signal(signal.SIGKILL)
        worker.wait()

    def kill_scheduler(self) -> None:
        self.scheduler.send_signal(signal.SIGKILL)
        self.scheduler.wait()

    def close(self) -> None:
        for process in (*self.workers, self.scheduler):
            process.kill()
            process.wait()
