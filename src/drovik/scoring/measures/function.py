"""The measure `own`: a Python function of the project, in a process of its own.

It is code of whoever wrote the project, so that it runs only where a person says `--trust`: without the keys or
anything else of the environment, with a time limit for each answer. What it raises, or how long it takes, is its own
failure and no miss of the arm: such an answer is not scored.
"""

from __future__ import annotations

import contextlib
import json
import os
import selectors
import signal
import subprocess
import sys
import time
import weakref
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from pydantic import Field, field_validator
from typing_extensions import override

from drovik.errors import Problem
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import BELOW_THE_WANTED_SCORE
from drovik.scoring.json_pointer import ABSENT, Pointer, shown, value_at_pointer
from drovik.scoring.measure import UNTOLD, AnswerContext, CannotScore, CaseScore, Finding, MeanMeasure

if TYPE_CHECKING:
    pass

_MOST_BYTES = 1_000_000
"""Of one reply of a project's function."""
_RUNNER = """
import importlib, json, os, sys
out = os.fdopen(os.dup(1), "w", encoding="utf-8")
os.dup2(2, 1)  # what the function prints goes where errors go
sys.path.insert(0, sys.argv[1])
name, _, function = sys.argv[2].partition(":")
call = None
for line in sys.stdin:
    asked = json.loads(line)
    try:
        if call is None:
            call = getattr(importlib.import_module(name), function)
        made = call(*asked["given"])
        told = {"number": asked["number"], "made": made if isinstance(made, dict) else {"score": made}}
        text = json.dumps(told)
    except BaseException as error:
        text = json.dumps({"number": asked["number"], "failed": f"{type(error).__name__}: {error}"[:300]})
    out.write(text + "\\n")
    out.flush()
"""


class FunctionTable(Frozen):
    """The table in question.toml for a function of the project.

    `call` is `module:function`, from the project's folder. The function is given the answer and the expected output,
    and gives a number from 0 to 1, true or false, or {"score": …, "findings": [{"where", "expected", "got",
    "cause"}]}.
    """

    call: str
    at: Pointer = ""
    seconds: float = Field(default=10.0, gt=0, le=600)

    @field_validator("call")
    @classmethod
    def _is_proper(cls, text: str) -> str:
        module, colon, function = text.partition(":")
        if not colon or not all(part.isidentifier() for part in (*module.split("."), function)):
            raise ValueError(f"'{text}' names no function; write it like checks:has_colour")
        return text


class Function(MeanMeasure):
    """The mean of what a function of the project says of each answer. The worst: 0."""

    kind: ClassVar[str] = "function"
    table_type: ClassVar[type[FunctionTable]] = FunctionTable
    is_repeatable: ClassVar[bool] = False

    def __init__(self, name: str, table: FunctionTable, process: _Process | None = None) -> None:
        super().__init__(name, f"function {table.call}", binary=False)
        self._table, self._process = table, process

    @override
    @classmethod
    def make(
        cls, name: str, table: FunctionTable, task: Task, place: str, problems: list[Problem]
    ) -> Function | None:
        return cls(name, table)

    def trusted(self, folder: Path) -> Function:
        """The measure that may run, from the project's folder."""
        return Function(self.name, self._table, _Process(folder, self._table.call, self._table.seconds))

    @property
    def may_run(self) -> bool:
        """Whether a person said that it may."""
        return self._process is not None

    @override
    def expected_of(self, expected: Any) -> Any:
        return value_at_pointer(expected, self._table.at)

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """That is the function's own affair."""
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics: what the function says, and cases.

        :raises CannotScore: where the function fails, takes too long, or says no number from 0 to 1.
        """
        if self._process is None:
            raise CannotScore("it is not trusted")
        got = value_at_pointer(answer, self._table.at)
        made = self._process.ask([None if got is ABSENT else got, expected])
        score = made.get("score")
        if not isinstance(score, bool | int | float) or not 0 <= score <= 1:
            raise CannotScore(f"{self._table.call} gave {shown(score)[:60]}, which is not a number from 0 to 1")
        told = made.get("findings")
        findings = tuple(_finding(one) for one in (told if isinstance(told, list) else ()) if isinstance(one, dict))
        if score < 1 and not findings:
            findings = (Finding(self._table.at, shown(expected), shown(got), BELOW_THE_WANTED_SCORE),)
        return CaseScore((float(score), 1.0), float(score), findings)

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        return CaseScore((0.0, 1.0), 0.0, (Finding(self._table.at, shown(expected), "nothing", why),))


def _finding(one: dict[str, Any]) -> Finding:
    where, expected, got = (str(one.get(key, "")) for key in ("where", "expected", "got"))
    return Finding(where, expected, got, str(one.get("cause") or BELOW_THE_WANTED_SCORE)[:80])


class _Process:
    """The process that a function runs in: started when first asked, and again where it did not answer in time.

    What is asked has a number, which the answer has to bear: whatever else the function, or what it calls, writes on
    the pipe would be taken for an answer, and put all that follow out of step.
    """

    def __init__(self, folder: Path, call: str, seconds: float) -> None:
        self._folder, self._call, self._seconds = folder.resolve(), call, seconds
        self._running: subprocess.Popen[bytes] | None = None
        self._number = 0

    def ask(self, given: list[Any]) -> dict[str, Any]:
        """What the function says.

        :raises CannotScore: where it says nothing, something else, or not in time.
        """
        process = self._running or self._started()
        self._number += 1
        asked = json.dumps({"number": self._number, "given": given}).encode() + b"\n"
        try:
            line = self._exchanged(process, asked, time.monotonic() + self._seconds)
        except OSError:
            line = b""
        if not line:
            self._stop()
            raise CannotScore(f"{self._call} ended without an answer")
        told = self._told(line)
        if "failed" in told:
            raise CannotScore(f"{self._call} failed: {str(told['failed'])[:300]}")
        return dict(told["made"])

    def _told(self, line: bytes) -> dict[str, Any]:
        try:
            told = json.loads(line)
            if told["number"] == self._number and ("failed" in told or isinstance(told["made"], dict)):
                return dict(told)
        except (ValueError, RecursionError, KeyError, TypeError):
            pass
        self._stop()
        raise CannotScore(f"{self._call} wrote something else on its pipe: {line[:60].decode('utf-8', 'replace')!r}")

    def _exchanged(self, process: subprocess.Popen[bytes], asked: bytes, ends: float) -> bytes:
        """Write what is asked and read one line, both in time: a function may do neither, or one of them."""
        assert process.stdin is not None
        assert process.stdout is not None
        found = b""
        with selectors.DefaultSelector() as waiting:
            waiting.register(process.stdout, selectors.EVENT_READ)
            waiting.register(process.stdin, selectors.EVENT_WRITE)
            while b"\n" not in found:
                ready = waiting.select(max(0.0, ends - time.monotonic()))
                if not ready:
                    self._stop()
                    raise CannotScore(f"{self._call} took longer than {self._seconds:g} s")
                for key, _ in ready:
                    if key.fileobj is process.stdin:
                        asked = asked[os.write(key.fd, asked[:65536]) :]
                        if not asked:
                            waiting.unregister(process.stdin)
                        continue
                    part = os.read(key.fd, 65536)
                    found += part
                    if not part or len(found) > _MOST_BYTES:
                        return b""
        return found

    def _started(self) -> subprocess.Popen[bytes]:
        # Nothing of the environment but what a program needs to start: keys are there.
        plain = {name: os.environ[name] for name in ("PATH", "LANG", "LC_ALL", "TMPDIR") if name in os.environ}
        self._running = subprocess.Popen(
            [sys.executable, "-c", _RUNNER, str(self._folder), self._call],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            cwd=self._folder,
            env={**plain, "PYTHONDONTWRITEBYTECODE": "1"},
            start_new_session=True,  # so that what it starts itself ends with it
        )
        assert self._running.stdin is not None
        os.set_blocking(self._running.stdin.fileno(), False)
        weakref.finalize(self, _end, self._running)
        return self._running

    def _stop(self) -> None:
        if self._running is not None:
            _end(self._running)
            self._running = None


def _end(process: subprocess.Popen[bytes]) -> None:
    with contextlib.suppress(OSError):
        os.killpg(process.pid, signal.SIGKILL)
    process.kill()
    process.wait()
    for stream in (process.stdin, process.stdout):
        if stream is not None:
            try:
                stream.close()
            except OSError:
                continue
