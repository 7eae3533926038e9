"""A second process beside this one, so that both cores work where there is much to do.

It is forked once the project is read and before the store is opened: so it has the project without reading it again,
and opens the store for itself, for a connection must not be carried over a fork.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import sys
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection
from typing import Any

Work = Callable[[Any], bytes]
"""What is done there: a job, of plain values, → its result, packed."""
_ENDING_SECONDS = 2.0


class SecondProcess:
    """Does one job after another; the answer to a job that failed there is None, and then it is done here."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def ask(self, job: object) -> bool:
        """Have a job begun; False where the process is gone."""
        try:
            self._connection.send(job)
        except OSError:
            return False
        return True

    def answer(self) -> bytes | None:
        """The result of the job; None where it failed, whatever the reason."""
        try:
            return self._connection.recv_bytes() or None
        except (EOFError, OSError):
            return None


def _serve(work: Work, theirs: Connection, ours: Connection) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the first process is told, and closes the connection
    ours.close()
    with contextlib.suppress(EOFError, OSError):
        while True:
            job = theirs.recv()
            try:
                done = work(job)
            except Exception:  # the first process does it again, and says what is wrong
                done = b""
            theirs.send_bytes(done)


def _cores() -> int:
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1


@contextlib.contextmanager
def second_process(work: Work, is_worth_it: bool) -> Iterator[SecondProcess | None]:
    """A second process that does `work`; None where there is no second core for it, or it is not worth it.

    :param work: is carried over by the fork, with all that it holds.
    """
    # Elsewhere a fork is unsafe beside the system's own threads.
    if not is_worth_it or sys.platform != "linux" or _cores() < 2:
        yield None
        return
    ours, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("fork").Process(target=_serve, args=(work, theirs, ours), daemon=True)
    process.start()
    theirs.close()
    try:
        yield SecondProcess(ours)
    finally:
        ours.close()
        process.join(_ENDING_SECONDS)
        if process.is_alive():
            process.kill()
