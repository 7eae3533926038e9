"""Answers judged by this process and, where there is much to judge, by a second one beside it on another core.

The second one is a Python of its own that is started once judging has taken a while. It knows no more than a task and
a measure, and is sent pairs of answer and expected output. Whatever it fails at is done here.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import select
import signal
import subprocess
import sys
import time
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice
from queue import SimpleQueue
from threading import Thread
from types import TracebackType
from typing import IO, Any

from drovik.evaluation.judged_elsewhere import JudgedPart, Pair, judge_pair
from drovik.project.tasks import Task
from drovik.scoring.judged_pairs import Judged
from drovik.scoring.measure import Measure

if sys.platform == "linux":
    import fcntl

WORTH_SECONDS = 1.0
"""Of judging, until a second process is started: that takes half a second of a core."""
_OWN, _ITS = 50, 400
"""Pairs that are judged here before the second process is looked after, and that it is given at once, at most."""
_OWN_SECONDS, _ITS_SECONDS = 0.02, 0.1
"""Of judging them, about: of a slow measure they are fewer."""
_PIPE_BYTES = 1_000_000
_ENDING_SECONDS = 2.0


class LocalJudges:
    """Judges on this machine. To be used in a `with` statement, for it may have a process to end."""

    def __init__(self) -> None:
        self._second: SecondProcess | None = None
        # On Windows no pipe can be waited for; a program that Python is built into has no Python to start.
        self._may_start = sys.platform != "win32" and bool(sys.executable) and _cores() > 1
        self._seconds = 0.0

    def __enter__(self) -> LocalJudges:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.rest()

    def rest(self) -> None:
        """Have the second process end; another one is started where judging takes a while again."""
        if self._second is not None:
            self._second.end()
            self._second, self._may_start, self._seconds = None, True, 0.0

    def judged(self, task: Task, measure: Measure, pairs: Iterable[Pair]) -> Iterator[JudgedPart]:
        """Parts of the pairs with what these come to; the second process has two of them in hand, and never waits."""
        left = iter(pairs)
        its: deque[list[Pair]] = deque()
        pace = 0.0  # seconds for each pair
        while True:
            began = time.perf_counter()
            unsent = self._give(task, measure, its, left, pace)
            own = unsent or list(islice(left, _worth(_OWN_SECONDS, pace, _OWN)))
            if own:
                judging = time.perf_counter()
                done = [judge_pair(task, measure, pair) for pair in own]
                now = time.perf_counter()
                pace = (now - judging) / len(own)
                self._seconds += now - began
                yield own, done
            if its and self._second is not None and (not own or self._second.has_answered):
                some = its.popleft()
                yield some, self._second.answer() or [judge_pair(task, measure, pair) for pair in some]
            elif not own:
                return

    def _give(
        self, task: Task, measure: Measure, its: deque[list[Pair]], left: Iterator[Pair], pace: float
    ) -> list[Pair]:
        """Give the second process something to do, where there is one; what cannot be sent comes back."""
        second = self._ready_second(task, measure)
        while second is not None and len(its) < 2 and (some := list(islice(left, _worth(_ITS_SECONDS, pace, _ITS)))):
            if not second.ask(some):
                return some
            its.append(some)
        return []

    def _ready_second(self, task: Task, measure: Measure) -> SecondProcess | None:
        """The second process, where it is up and knows the measure."""
        if self._second is None and self._may_start and self._seconds >= WORTH_SECONDS:
            self._may_start = False
            with contextlib.suppress(OSError):  # as where no more processes may be started
                self._second = SecondProcess()
        if self._second is None or not self._second.is_up or not self._second.knows(task, measure):
            return None
        return self._second


class SecondProcess:
    """The second process as the first one sees it. It hears while it judges and answers, so that neither waits."""

    def __init__(self) -> None:
        # -P: a file of the folder that somebody is in is no module of ours.
        words = [sys.executable, "-P", "-m", "drovik.evaluation.second_process"]
        pipe = subprocess.PIPE
        self._process = subprocess.Popen(words, stdin=pipe, stdout=pipe, stderr=subprocess.DEVNULL)
        for one in (self._process.stdin, self._process.stdout):
            _widen(_open(one))
        self._known: tuple[Task, Measure] | None = None
        self._is_up: bool | None = None  # None until it says so; False for ever after it failed
        self._answers = select.poll()
        self._answers.register(_open(self._process.stdout), select.POLLIN)

    @property
    def has_answered(self) -> bool:
        """Whether there is something to read, were it that it has ended."""
        return bool(self._answers.poll(0))

    @property
    def is_up(self) -> bool:
        """Whether it takes work."""
        if self._is_up is None and self.has_answered:
            self._is_up = True
            self.answer()
        return bool(self._is_up)

    def knows(self, task: Task, measure: Measure) -> bool:
        """Have it know a measure; False where that cannot be."""
        if self._known is None or self._known[0] is not task or self._known[1] is not measure:
            self._known = (task, measure) if self._send((task, measure)) else None
        return self._known is not None

    def ask(self, pairs: Sequence[Pair]) -> bool:
        """Have pairs judged; False where that cannot be."""
        return self._send([pair.packed() for pair in pairs])

    def answer(self) -> list[Judged] | None:
        """What it answers, when it does; None where it could not."""
        try:
            found = pickle.load(_open(self._process.stdout))
            return None if found is None else [Judged._make(one) for one in found]
        except Exception:  # it ended, maybe in the middle of something
            self._is_up = False
            return None

    def end(self) -> None:
        """Have it end, were it in the middle of something."""
        self._process.kill()
        for stream in (self._process.stdin, self._process.stdout):
            with contextlib.suppress(OSError):  # what was not read any more
                _open(stream).close()
        self._process.wait(_ENDING_SECONDS)

    def _send(self, something: object) -> bool:
        try:
            packed = pickle.dumps(something, protocol=5)
        except Exception:  # what somebody's own measure holds
            return False
        try:
            _open(self._process.stdin).write(packed)
            _open(self._process.stdin).flush()
        except OSError:  # it ended
            self._is_up = False
        return bool(self._is_up)


def _widen(pipe: IO[bytes]) -> None:
    """Have a pipe take all that is asked, or answered, at once: who judges meanwhile does not empty it."""
    if sys.platform == "linux":
        with contextlib.suppress(OSError):  # as where somebody else's pipes take all that they may
            fcntl.fcntl(pipe, fcntl.F_SETPIPE_SZ, _PIPE_BYTES)


def _worth(seconds: float, pace: float, most: int) -> int:
    """How many pairs are judged in some seconds, at most."""
    return max(1, min(most, int(seconds / pace))) if pace else most


def _open(stream: IO[bytes] | None) -> IO[bytes]:
    assert stream is not None
    return stream


def _cores() -> int:
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def serve(asked: IO[bytes], answered: IO[bytes]) -> None:
    """Judge what is asked for until nobody asks any more."""
    jobs: SimpleQueue[Any] = SimpleQueue()
    Thread(target=_hear, args=(asked, jobs), daemon=True).start()
    known: tuple[Task, Measure] | None = None
    done: Any = []
    while True:
        if not isinstance(done, tuple):
            answered.write(pickle.dumps(done, protocol=5))
            answered.flush()
        job = jobs.get()
        if job is None:
            return
        if isinstance(job, tuple):
            known = done = job
            continue
        try:
            assert known is not None
            done = [tuple(judge_pair(*known, Pair.unpacked(one))) for one in job]
        except Exception:  # the first process does it again, and says what is wrong
            done = None


def _hear(asked: IO[bytes], jobs: SimpleQueue[Any]) -> None:
    """Take in what is asked; None where there is no more of it that anybody could read."""
    with contextlib.suppress(Exception):
        while True:
            jobs.put(pickle.load(asked))
    jobs.put(None)


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the first process is told, and ends this one
    serve(sys.stdin.buffer, sys.stdout.buffer)
