"""Answers judged by a second process beside the first: the same scores, and nothing is lost where that one is."""

from __future__ import annotations

import pickle
import subprocess
import sys
import time
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik

from drovik.evaluation import judged_elsewhere, second_process
from drovik.evaluation.gathering import TaskView, gather
from drovik.evaluation.judged_elsewhere import JudgedPart, JudgesElsewhere, Pair, judge_pair
from drovik.evaluation.second_process import LocalJudges, SecondProcess
from drovik.parsing.answer_text import Answer, Reader
from drovik.parsing.status import Status
from drovik.project.cases import Case
from drovik.project.reading import read_project
from drovik.project.tasks import MeasureTable, Task
from drovik.scoring.catalogue import measures_of
from drovik.scoring.judged_pairs import Judged
from drovik.scoring.measure import Measure
from drovik.store.answer_store import Store


def started() -> SecondProcess:
    with pytest.MonkeyPatch.context() as patch:  # in which what it writes would leave at once
        patch.delenv("PYTHONUNBUFFERED", raising=False)
        second = SecondProcess()
    until = time.monotonic() + 30
    while not second.is_up and time.monotonic() < until:
        time.sleep(0.01)
    assert second.is_up, "no second process came up"
    return second


@pytest.fixture(scope="module")
def second() -> Iterator[SecondProcess]:
    found = started()
    yield found
    found.end()


@pytest.fixture
def judges(second: SecondProcess) -> LocalJudges:
    """Judges whose second process is up, be there little to do."""
    found = LocalJudges()
    found._second = second
    return found


def gathered(project: Any, judges: JudgesElsewhere | None) -> list[TaskView]:
    with Store(project.store_path) as store:
        store.connection.execute("DELETE FROM judged")  # what was judged before would not be judged again
        return gather(project, store, None, ["gull", "fulmar"], "all", judges=judges)


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


def test_two_processes_score_as_one_does(
    answered_demo: Drovik, judges: LocalJudges, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = read_project(answered_demo.folder)[0]
    alone = told(gathered(project, None))
    monkeypatch.setattr(second_process, "_OWN", 2)
    monkeypatch.setattr(second_process, "_ITS", 20)
    monkeypatch.setattr(LocalJudges, "rest", lambda _: None)  # what is up is of the other tests too
    done: list[int] = []
    answer = SecondProcess.answer
    monkeypatch.setattr(SecondProcess, "answer", lambda one: done.append(len(found := answer(one) or [])) or found)
    assert told(gathered(project, judges)) == alone
    assert sum(done) > 50, "it took part"
    assert all(done), "none had to be done again"


def test_what_was_judged_elsewhere_is_not_judged_again(answered_demo: Drovik) -> None:
    """Else all that other machines did would be done here once more; here they say that all is wrong."""

    class Severe(LocalJudges):
        def judged(self, task: Task, measure: Measure, pairs: Iterable[Pair]) -> Iterator[JudgedPart]:
            for pair in pairs:
                yield [pair], [Judged(measure.worst(pair.expected, "severe"), None, "")]

    project = read_project(answered_demo.folder)[0]
    views = {view.task.name: view for view in gathered(project, Severe())}
    measures = [arm.measure("kind") for arm in views["sort"].scores]
    assert [one.value for one in measures if one] == [0.0] * len(measures)
    gathered(project, None)  # or the next test would find these kept


def test_what_is_judged_is_kept_meanwhile_and_each_pair_is_judged_once(
    answered_demo: Drovik, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Who is interrupted after an hour of judging has not lost the hour."""

    class Interrupted:
        def __init__(self) -> None:
            self.taken: list[Any] = []

        def judged(self, task: Task, measure: Measure, pairs: Iterable[Pair]) -> Iterator[JudgedPart]:
            taken = list(pairs)  # before one of them is known
            self.taken += [(task.name, measure.name, pair.key) for pair in taken]
            yield taken, [judge_pair(task, measure, pair) for pair in taken]
            raise KeyboardInterrupt

    monkeypatch.setattr(judged_elsewhere, "_KEPT_AT_ONCE", 5)
    project, judges = read_project(answered_demo.folder)[0], Interrupted()
    with pytest.raises(KeyboardInterrupt):
        gathered(project, judges)
    with Store(answered_demo.folder / ".drovik/answers.sqlite") as store:
        ((kept,),) = store.connection.execute("SELECT COUNT(*) FROM judged")
    assert len(set(judges.taken)) == len(judges.taken) == kept > 5


def test_a_second_process_is_there_only_while_there_is_something_to_judge(monkeypatch: pytest.MonkeyPatch) -> None:
    """Its memory would be added to that of the scores, which take the most when all is judged."""
    monkeypatch.setattr(second_process, "WORTH_SECONDS", 0.0)
    task, measure, pairs = some_pairs(100)
    alone = [judge_pair(task, measure, pair) for pair in pairs]
    with LocalJudges() as judges:
        for _ in range(2):
            assert came_to(judges, task, measure, pairs) == alone
            second = judges._second
            assert second is not None
            judges.rest()
            assert judges._second is None
            assert second._process.poll() is not None, "it has ended"


def test_what_is_told_of_a_measure_does_not_grow_with_what_it_judged() -> None:
    """Workers know a measure by what it is: one that remembers more would be told to all of them again each time."""
    task = Task("t", "", "text", None, "m", (MeasureTable("m", "text", {}),), ())
    (measure,) = measures_of(task, [])
    told = pickle.dumps(measure)
    assert measure.per_case("one word 7", "another word 7 of many").value < 1
    assert pickle.dumps(measure) == told
    assert pickle.loads(told).per_case("a", "a").value == 1


def test_of_a_slow_measure_few_pairs_are_waited_for(judges: LocalJudges, monkeypatch: pytest.MonkeyPatch) -> None:
    """Or the last hundreds of them would be judged by one process, while the other one has nothing to do."""

    def slowly(*pair: Any) -> Judged:
        time.sleep(0.01)
        return judge_pair(*pair)

    monkeypatch.setattr(second_process, "judge_pair", slowly)
    monkeypatch.setattr(second_process, "_ITS", 30)
    task, measure, pairs = some_pairs(300)
    sizes = [len(some) for some, _ in judges.judged(task, measure, iter(pairs))]
    assert sum(sizes) == 300
    assert max(sizes) == 50, "nobody knew as yet"
    assert max(one for one in sizes if one not in (30, 50)) <= 10


def some_pairs(count: int, said: Any = "cap") -> tuple[Task, Measure, list[Pair]]:
    """A task by label, and that many answers, of which every third is right, every third invented, and some declined."""
    task = Task(
        "t", "", "json", None, "m", (MeasureTable("m", "label", {"at": "/kind", "labels": ["cap", "hat"]}),), ()
    )
    read = Reader("json").read
    pairs = []
    for number in range(count):
        text = f'Here it is: {{"kind": "{("hat", said, f"x{number}")[number % 3]}"}}'
        reading = read(text)
        answer = Answer(reading.status, reading.how, text, reading.value, model="gull", seconds=1.0)
        refusal = frozenset({"t"}) if number % 7 == 0 else frozenset()
        case = Case(f"c{number}", (), {}, {"t": {"kind": "hat"}}, None, "tune", refusal, "")
        pairs.append(Pair(case, "hat", answer if number % 5 else Answer(Status.REFUSED, text="No.")))
    return task, measures_of(task, [])[0], pairs


def came_to(judges: LocalJudges, task: Task, measure: Measure, pairs: Sequence[Pair]) -> list[Judged]:
    """What pairs come to, in their order, each once."""
    parts = list(judges.judged(task, measure, iter(pairs)))
    found = {id(pair): one for some, done in parts for pair, one in zip(some, done, strict=True)}
    assert sum(len(some) for some, _ in parts) == len(pairs)
    return [found[id(pair)] for pair in pairs]


@pytest.mark.parametrize("count", [0, 1, 50, 51, 99, 100, 449, 450, 451, 2_000])
def test_each_answer_keeps_its_place(judges: LocalJudges, count: int) -> None:
    """A score that came back beside another case's answer would be a miss where none was."""
    task, measure, pairs = some_pairs(count)
    assert came_to(judges, task, measure, pairs) == [judge_pair(task, measure, pair) for pair in pairs]


def test_what_a_second_process_cannot_do_is_done_by_the_first(monkeypatch: pytest.MonkeyPatch) -> None:
    task, measure, pairs = some_pairs(1_000)
    alone = [judge_pair(task, measure, pair) for pair in pairs]
    judges = LocalJudges()
    judges._second = second = started()
    unsent = [pairs[-1]._replace(answer=pairs[-1].answer._replace(how=lambda: "no process can send this"))]
    assert came_to(judges, task, measure, pairs[:-1] + unsent) == alone
    ask = SecondProcess.ask

    def killed(one: SecondProcess, those: Sequence[Pair]) -> bool:
        begun = ask(one, those)
        one._process.kill()
        return begun

    with monkeypatch.context() as patched:
        patched.setattr(SecondProcess, "ask", killed)
        assert came_to(judges, task, measure, pairs) == alone, "killed while it judged"
    assert came_to(judges, task, measure, pairs) == alone, "killed before"
    second.end()


def test_it_ends_with_whoever_asks_it_be_it_in_the_middle_of_a_word() -> None:
    for heard in (b"", pickle.dumps([1, 2, 3])[:-3]):
        process = subprocess.Popen(
            [sys.executable, "-m", "drovik.evaluation.second_process"], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        try:
            process.communicate(heard, timeout=30)
            assert process.returncode == 0
        finally:
            process.kill()


def test_a_measure_of_a_new_kind_of_question_is_told_to_it(judges: LocalJudges) -> None:
    """It must not go on to judge the next task by the measure of the last."""
    task, measure, pairs = some_pairs(300)
    other = Task(
        "t", "", "json", None, "m", (MeasureTable("m", "fields", {"at": "/kind", "fields": {"": "exact"}}),), ()
    )
    fields = measures_of(other, []) or [measure]
    for one_task, one in ((task, measure), (other, fields[0]), (task, measure)):
        assert came_to(judges, one_task, one, pairs) == [judge_pair(one_task, one, pair) for pair in pairs]


def test_it_is_started_where_there_is_much_to_judge_and_a_core_for_it(monkeypatch: pytest.MonkeyPatch) -> None:
    begun: list[str] = []
    monkeypatch.setattr(second_process, "SecondProcess", lambda: begun.append("one") or started())
    task, measure, pairs = some_pairs(500)
    for seconds, cores, starts in ((3_600.0, 2, 0), (0.0, 1, 0), (0.0, 2, 1)):
        monkeypatch.setattr(second_process, "WORTH_SECONDS", seconds)
        monkeypatch.setattr(second_process, "_cores", lambda cores=cores: cores)
        begun.clear()
        with LocalJudges() as judges:
            came_to(judges, task, measure, pairs)
            came_to(judges, task, measure, pairs)
        assert len(begun) == starts, (seconds, cores)


def test_a_file_in_the_folder_is_not_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Somebody else's project may hold a file that is called as a module is."""
    for name in ("drovik", "pickle", "numpy", "json"):
        (tmp_path / f"{name}.py").write_text(f"open('{name}.ran', 'w').close()\nraise SystemExit(1)\n")
    monkeypatch.chdir(tmp_path)
    started().end()
    assert not list(tmp_path.glob("*.ran"))
