"""Whoever waits sees that something is done, and how far it is; results and logs are not disturbed by it."""

from __future__ import annotations

import io
import os
import pty
import select
import threading
import time

import pytest

from drovik.cli import signs_of_life
from drovik.cli.signs_of_life import SignsOfLife, step_line
from drovik.following import Step, followed, following, listening


def test_what_is_done_within_other_work_is_told_in_its_place() -> None:
    seen: list[Step | None] = []
    with listening(seen.append):
        with following("scoring", 2) as tell:
            assert list(followed("judging", "ab", 2)) == ["a", "b"]
            tell(1)
        assert list(followed("writing", "c")) == ["c"]
    assert list(followed("unheard", "d")) == ["d"]
    assert seen == [
        Step("scoring", 0, 2), Step("judging", 0, 2), Step("judging", 0, 2), Step("judging", 1, 2), Step("scoring", 0, 2),
        Step("scoring", 1, 2), None, Step("writing"), Step("writing"), None,
    ]  # fmt: skip


def test_work_that_is_given_up_or_is_another_threads_leaves_no_step_behind() -> None:
    seen: list[Step | None] = []
    with listening(seen.append):
        given_up = followed("reading", "ab", 2)
        with following("scoring") as tell:
            next(given_up)
            tell(1)
            given_up.close()
            with pytest.raises(ZeroDivisionError), following("dividing"):
                raise ZeroDivisionError
            before = len(seen)
            thread = threading.Thread(target=lambda: list(followed("elsewhere", "ab")))
            thread.start()
            thread.join()
            assert len(seen) == before
    assert seen[-2:] == [Step("scoring", 1, 0), None]


@pytest.mark.parametrize(
    ("step", "line"),
    [
        (Step("judging"), "judging"),
        (Step("judging", 1200), "judging: 1200"),
        (Step("judging", 1200, 4000), "judging: 1200 of 4000 (30 %)"),
        (Step("judging \x1b[2J" + "x" * 99, 1, 2), f"judging [2J{'x' * 38}…: 1 of 2 (50 %)"),
    ],
)
def test_a_step_is_one_line_that_fits_and_steers_no_terminal(step: Step, line: str) -> None:
    assert step_line(step, 65) == line


def work(seconds: float) -> None:
    with SignsOfLife(), following("counting", 4) as tell:
        tell(1)
        time.sleep(seconds)


def test_on_a_terminal_the_line_is_gone_in_the_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(signs_of_life, "_FIRST_SECONDS", 0.1)
    monkeypatch.setattr(signs_of_life, "_DRAWN_SECONDS", 0.05)
    theirs, ours = pty.openpty()
    with os.fdopen(ours, "w") as terminal:
        monkeypatch.setattr("sys.stderr", terminal)
        work(0.0)
        print("nothing of what is quick", file=terminal, flush=True)
        work(0.4)
        seen = ""
        while select.select([theirs], [], [], 0.5)[0]:  # a terminal gives it bit by bit
            seen += os.read(theirs, 4000).decode()
    quick, _, slow = seen.partition("\r\n")
    assert quick == "nothing of what is quick"
    assert "counting: 1 of 4 (25 %)" in slow
    assert slow.endswith("\r\x1b[2K"), "the last that is done is to wipe it"
    os.close(theirs)


def test_in_a_log_it_is_a_line_now_and_then(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(signs_of_life, "_LOG_SECONDS", 0.2)
    log = io.StringIO()
    monkeypatch.setattr("sys.stderr", log)
    work(0.5)
    assert set(log.getvalue().splitlines()) == {"counting: 1 of 4 (25 %)"}
    assert 1 <= len(log.getvalue().splitlines()) <= 2
    with SignsOfLife(), following("counting") as tell:
        log.close()  # nobody reads it any more, and the work is done all the same
        time.sleep(0.3)
        tell(1)
