"""Half of the arms scored by a second process: the same scores, and nothing is lost where that process is."""

from __future__ import annotations

import os
import signal
from collections.abc import Sequence
from typing import Any

import pytest
from conftest import Drovik

from drovik.evaluation import halves, second_process
from drovik.evaluation.chosen_arms import all_arms
from drovik.evaluation.gathering import TaskView, gather
from drovik.evaluation.halves import scoring_process
from drovik.evaluation.second_process import SecondProcess
from drovik.project.reading import read_project
from drovik.store.answer_store import Store

TWO = ["sort", "copy-tag"]


def gathered(project: Any, second: SecondProcess | None, tasks: list[str] | None = None) -> list[TaskView]:
    with Store(project.store_path) as store:
        return gather(project, store, tasks, ["gull", "fulmar"], "all", second=second)


def told(views: Sequence[TaskView]) -> list[Any]:
    """All that a view says of its arms, with cases and measures by what they are called."""

    def case(one: Any) -> Any:
        return one.case.id, one.answer, one.score, one.as_read, tuple(map(case, one.repeats)), one.note

    return [
        (
            view.task.name, view.identities, view.answers,
            [
                (arm.arm, arm.statuses, arm.costs, arm.unsent, arm.agreement, arm.second and arm.second.asked, [
                    (one.measure.name, list(map(case, one.cases)), one.value, one.bounds, one.totals.tolist())
                    for one in (*arm.measures, *(arm.second.measures if arm.second else ()))
                ])
                for arm in view.scores
            ],
        )
        for view in views
    ]  # fmt: skip


@pytest.fixture
def two_cores(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(halves, "MANY", 1)
    monkeypatch.setattr(second_process, "_cores", lambda: 2)


@pytest.mark.usefixtures("two_cores")
def test_two_processes_score_as_one_does(answered_demo: Drovik, monkeypatch: pytest.MonkeyPatch) -> None:
    project = read_project(answered_demo.folder)[0]
    done = []
    unpacked = halves.unpacked
    monkeypatch.setattr(halves, "unpacked", lambda *those: done.append(unpacked(*those)) or done[-1])
    with scoring_process(project) as second:
        assert second is not None
        by_two = told(gathered(project, second))
    assert {arm.arm.split("/")[0] for half in done for arm in half.scores} == {"gull"}, "it took part"
    assert by_two == told(gathered(project, None))


@pytest.mark.usefixtures("two_cores")
def test_what_a_second_process_cannot_do_is_done_by_the_first(
    answered_demo: Drovik, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = read_project(answered_demo.folder)[0]
    alone = told(gathered(project, None, TWO))

    def broken(*_: object) -> bytes:
        raise MemoryError

    with monkeypatch.context() as patched:
        patched.setattr(halves, "packed", broken)
        with scoring_process(project) as second:
            assert told(gathered(project, second, TWO)) == alone
    with monkeypatch.context() as patched:
        patched.setattr(halves, "packed", lambda _: os.kill(os.getpid(), signal.SIGKILL))
        with scoring_process(project) as second:
            assert told(gathered(project, second, TWO)) == alone, "killed in the middle of the first task, for all"


def test_few_cases_or_one_core_start_no_second_process(
    answered_demo: Drovik, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = read_project(answered_demo.folder)[0]
    assert project is not None
    # One that comes after another, or judges it, has to know of that one, and is scored by one process.
    alone = [task for task in project.tasks if task.after is None and task.judges is None]
    many = sum(len(all_arms(project, task)) for task in alone) * len(project.cases)
    for least, cores, is_there in ((many, 2, True), (many + 1, 2, False), (many, 1, False)):
        monkeypatch.setattr(halves, "MANY", least)
        monkeypatch.setattr(second_process, "_cores", lambda cores=cores: cores)
        with scoring_process(project) as second:
            assert (second is not None) == is_there, (least, cores)
