"""Scores that are kept from one run to the next: never those of something else than what is there today."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, demo_on_port, good

from drovik.scoring.judged_pairs import Judged, JudgedPairs
from drovik.scoring.measure import CaseScore, Finding
from drovik.store.answer_store import Store
from drovik.store.kept_scores import KeptOutput, KeptScores
from drovik.workflow import kept_outputs
from drovik.workflow.kept_outputs import OutputKeeper

Serve = Callable[..., FakeService]
SORT = ("--task", "sort", "--arm", "gull/v2")
OLD = "what was printed before"


@pytest.fixture
def answered(drovik: Drovik, serve: Serve) -> Drovik:
    """Six cases, each answered by a cap."""
    demo_on_port(drovik.folder, serve(lambda number, body: good('{"kind": "cap"}')).port, cases=6)
    assert drovik("send", *SORT).code == 0
    return drovik


def change(folder: Path, statement: str, *values: Any) -> None:
    with sqlite3.connect(folder / ".drovik/answers.sqlite") as store:
        store.execute(statement, values)
    store.close()


def rows(folder: Path, query: str) -> list[tuple[Any, ...]]:
    store = sqlite3.connect(folder / ".drovik/answers.sqlite")
    found = store.execute(query).fetchall()
    store.close()
    return found


def edit(path: Path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))


def test_the_same_is_printed_again_without_being_worked_out(answered: Drovik) -> None:
    """Each of two colourings, details and tasks for itself; what it is told beside its results is told each time."""
    edit(answered.folder / "cases.jsonl", '"id": "lp-001"', '"split": "held_out", "id": "lp-001"')
    time.sleep(2.1)  # what was changed just now may be changed again without looking so
    first = answered("score", *SORT)
    assert first.code == 0
    change(answered.folder, "UPDATE outputs SET output = ?", f"{OLD}\n")
    assert answered("score", *SORT).out == f"{OLD}\n"
    assert answered("score", "--project", str(answered.folder), *SORT).out == f"{OLD}\n"
    assert OLD not in answered("score", *SORT, "--details").out
    assert OLD not in answered("score", "--task", "sort").out
    assert OLD not in answered("score", *SORT, "--trust").out
    looks = [answered("score", *SORT, "--split", "all", "--json").json["held_out_looks"]["sort"] for _ in range(2)]
    assert looks[1] == looks[0] + 1, "looks at held-out cases are counted each time"
    assert answered("score", *SORT).out == f"{OLD}\n"
    edit(answered.folder / "cases.jsonl", '"sort": {"kind": "', '"sort": {"kind":  "')
    assert answered("score", *SORT).out == first.out
    (answered.folder / "drovik.toml").write_text("broken")
    assert answered("score", *SORT).code == 2, "an error is no output to be printed again"


def _another_case(folder: Path) -> None:
    edit(folder / "cases.jsonl", "lp-001", "lp-901")


def _another_prompt(folder: Path) -> None:
    edit(folder / "tasks/sort/prompts/v1.toml", "Which kind", "What kind")


def _another_measure(folder: Path) -> None:
    edit(folder / "tasks/sort/question.toml", "[measures", "\n[measures")


def _same_size_another_picture(folder: Path) -> None:
    picture = next((folder / "images").iterdir())
    looks = picture.stat()
    data = bytearray(picture.read_bytes())
    data[-1] ^= 1
    picture.write_bytes(bytes(data))
    os.utime(picture, ns=(looks.st_atime_ns, looks.st_mtime_ns))  # as some copying programs do


def _a_picture_gone(folder: Path) -> None:
    next((folder / "images").iterdir()).unlink()


def _a_picture_outside(folder: Path) -> None:
    (folder.parent / "elsewhere" / "one.jpg").write_bytes(b"another")


def _a_judgement(folder: Path) -> None:
    (folder / "reviews.jsonl").write_text(
        '{"task": "sort", "case": "lp-001", "arm": "gull/v2", "verdict": "right"}\n'
    )


def _an_answer(folder: Path) -> None:
    change(folder, "UPDATE replies SET body = ? WHERE id = 1", b"{}")


def _an_attempt(folder: Path) -> None:
    change(folder, "INSERT INTO attempts (identity, round, try, endpoint, started) VALUES ('a', 1, 1, 'e', '')")


def _an_arm(folder: Path) -> None:
    change(folder, "UPDATE asked SET name = 'another'")


def _what_was_sent(folder: Path) -> None:
    change(folder, "INSERT INTO prepared VALUES ('s', 'p', 'd', '[]')")


CHANGES = (
    _another_case, _another_prompt, _another_measure, _same_size_another_picture, _a_picture_gone, _a_picture_outside,
    _a_judgement, _an_answer, _an_attempt, _an_arm, _what_was_sent,
)  # fmt: skip


def test_whatever_scores_are_made_of_may_not_change(answered: Drovik, monkeypatch: pytest.MonkeyPatch) -> None:
    """Or a table of yesterday would be read as today's."""
    folder = answered.folder
    (folder.parent / "elsewhere").mkdir()
    (folder.parent / "elsewhere/one.jpg").write_bytes(b"one")
    edit(folder / "drovik.toml", "[endpoints", '[pictures]\nfrom = ["../elsewhere"]\n[endpoints')
    monkeypatch.setattr(kept_outputs, "_SETTLED_SECONDS", -3600.0)

    def keeper() -> OutputKeeper:
        return OutputKeeper(folder, {"words": "score"})

    for step in CHANGES:
        first = keeper()
        assert first.known() is None, step.__name__
        first.keep(OLD)
        assert keeper().known() == OLD
        assert OutputKeeper(folder, {"words": "score --json"}).known() is None
        step(folder)
        assert keeper().known() is None, step.__name__
    first = keeper()
    first.known()
    _an_attempt(folder)  # another program sends while this one scores
    first.keep(OLD)
    assert keeper().known() is None


def test_what_changed_just_now_is_not_kept(answered: Drovik) -> None:
    """A file system may tell the time in seconds, and a file may be changed twice within one."""
    folder = answered.folder
    (folder / "cases.jsonl").touch()
    one = OutputKeeper(folder, {})
    one.known()
    one.keep(OLD)
    assert OutputKeeper(folder, {}).known() is None


def test_nothing_is_kept_of_pictures_at_addresses(answered: Drovik, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept_outputs, "_SETTLED_SECONDS", -3600.0)
    edit(answered.folder / "drovik.toml", "[endpoints", '[pictures]\nfrom = ["s3://pictures"]\n[endpoints')
    one = OutputKeeper(answered.folder, {})
    one.known()
    one.keep(OLD)
    assert OutputKeeper(answered.folder, {}).known() is None


def test_a_changed_expected_output_has_its_own_case_judged_anew_and_no_other(answered: Drovik) -> None:
    """What is kept is made wrong on purpose here, so that it is seen where it is used."""
    folder = answered.folder
    before = answered("score", *SORT, "--json").json["tasks"]["sort"][0]["measures"][0]
    assert 0 < before["score"] < 1
    kept = rows(folder, "SELECT measure, pair, came_to FROM judged")
    for measure, pair, came_to in kept:
        score, as_read = json.loads(came_to)
        wrong = json.dumps([[score[0], 0.25, score[2]], as_read])
        change(folder, "UPDATE judged SET came_to = ? WHERE measure = ? AND pair = ?", wrong, measure, pair)
    cases = folder / "cases.jsonl"
    every = [json.loads(line) for line in cases.read_text().splitlines()]
    label = next(one["expected"]["sort"]["kind"] for one in every if one["expected"]["sort"]["kind"] != "cap")
    known = {one["expected"]["sort"]["kind"] for one in every}
    another = next(one for one in ("bottle", "holdall", "flask", "mitten", "hat", "glove") if one not in known)
    edit(cases, f'"sort": {{"kind": "{label}"', f'"sort": {{"kind": "{another}"')
    assert answered("score", *SORT).code == 0
    shown = {
        one["id"]: answered("show", one["id"], *SORT, "--json").json["tasks"]["sort"]["arms"]["gull/v2"]
        for one in every
    }
    assert len(shown) == 6
    now = rows(folder, "SELECT came_to FROM judged")
    fresh = [one for (one,) in now if json.loads(one)[0][1] != 0.25]
    assert len(now) == len(kept) + 1
    assert len(fresh) == 1
    edit(folder / "tasks/sort/question.toml", "same_as = {", 'same_as = { kepi = "cap",')
    honest = answered("score", *SORT, "--json").json["tasks"]["sort"][0]["measures"][0]
    assert honest["score"] == before["score"], "another measure asks for itself"


def test_kept_pairs_come_to_what_they_came_to(tmp_path: Path) -> None:
    miss = CaseScore(
        (1.0, 0, 2.5),
        0.1 + 0.2,
        (Finding("/a", "1 \ud83d", "\x00ü", "another value", ((0, -1.0), (2, 0.1)), "note"),),
    )
    judged = {
        ("answers 1", "ok", "bare", "a"): Judged(CaseScore((1.0,), 1.0), None, ""),
        ("answers 1", "ok", "bare", "b \ud83d"): Judged(miss, CaseScore((0.5,), 0.5), ""),
        ("answers 1", "ok", "bare", "c"): Judged(None, None, "the measure's own failure"),
    }
    pairs = JudgedPairs()
    for key, one in judged.items():
        pairs.add(key, one)
    with Store(tmp_path / ".drovik/answers.sqlite") as store:
        assert pairs.fresh == 3
        store.kept_scores.keep_pairs("m", 3, pairs.take_fresh())
        assert (pairs.fresh, list(pairs.take_fresh())) == (0, [])
        assert store.kept_scores.pairs("another") == {}
        store_digests = store.kept_scores.pairs("m")
        again = JudgedPairs(dict(store_digests))
    found = {key: again.find(key) for key in judged}
    assert found == {**judged, ("answers 1", "ok", "bare", "c"): None}
    assert again.find(("answers 1", "ok", "bare a", "")) is None
    for damaged in ("", "{", "[]", "[1, 2]", "[[1, 2], null]", "[[[1], 1, [5]], null]", "null"):
        assert JudgedPairs(dict.fromkeys(store_digests, damaged)).find(("answers 1", "ok", "bare", "a")) is None


def test_the_caches_stay_within_bounds(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("drovik.store.kept_scores.MOST_PAIRS", 3)
    monkeypatch.setattr("drovik.store.kept_scores.MOST_OUTPUTS", 2)
    with Store(tmp_path / ".drovik/answers.sqlite") as store:
        kept: KeptScores = store.kept_scores
        assert kept.keep_pairs("m", 2, [(b"1", "[]"), (b"2", "[]")]) == 2
        assert kept.keep_pairs("n", 1, [(b"1", "[]")]) == 1
        assert kept.keep_pairs("m", 4, [(b"3", "[]"), (b"4", "[]")]) == 2, "those of before are dropped"
        assert set(kept.pairs("m")) == {b"3", b"4"}
        assert set(kept.pairs("n")) == {b"1"}
        for name in ("a", "b", "c"):
            kept.keep_output(name, kept.revision(), KeptOutput("files", name))
        assert [kept.output(name) for name in ("a", "b", "c")] == [None, ("files", "b"), ("files", "c")]


def test_a_store_that_cannot_be_written_is_scored_all_the_same(answered: Drovik) -> None:
    before = answered("score", *SORT, "--json").json
    change(answered.folder, "DELETE FROM judged")
    shutil.copytree(answered.folder / ".drovik", answered.folder / "kept")
    change(answered.folder, "CREATE TRIGGER full BEFORE INSERT ON judged BEGIN SELECT RAISE(FAIL, 'full'); END")
    assert answered("score", *SORT, "--json").json == before


def test_what_is_answered_is_found_so_again_without_planning_it(drovik: Drovik, serve: Serve) -> None:
    """And whatever is new is sent all the same."""

    def answer(number: int, body: Any) -> Any:
        time.sleep(2 if number < 2 else 0)
        return good('{"kind": "cap"}')

    service = serve(answer)
    folder = demo_on_port(drovik.folder, service.port, cases=4)
    time.sleep(2.1)
    assert "2 of 2 answered" in drovik("send", *SORT, "--sample", "2").out
    assert rows(folder, "SELECT output FROM outputs") == [("Nothing to send; answers that are there: 2.\n",)]
    change(folder, "UPDATE outputs SET output = ?", f"{OLD}\n")
    assert drovik("send", *SORT, "--sample", "2").out == f"{OLD}\n", "who sends for long has planned the next time"
    assert drovik("send", *SORT).code == 0
    told = [drovik("send", *SORT) for _ in range(3)]
    assert [one.code for one in told] == [0, 0, 0]
    assert "Nothing to send" in told[0].out
    assert told[0].out == told[2].out
    change(folder, "UPDATE outputs SET output = ?", f"{OLD}\n")
    assert drovik("send", *SORT).out == f"{OLD}\n"
    assert drovik("send", *SORT, "--recheck", "2", "--json").json["requests"] == 2
    assert len(service.requests) == 6
    edit(folder / "cases.jsonl", "images/lp-001.jpg", "images/lp-009.jpg")
    shutil.copy(folder / "images/lp-002.jpg", folder / "images/lp-009.jpg")
    (folder / "images/lp-009.jpg").write_bytes((folder / "images/lp-009.jpg").read_bytes() + b"\0")
    assert drovik("send", *SORT, "--json").json["requests"] == 1


def test_a_report_beside_a_project_does_not_make_it_another_one(
    answered: Drovik, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Or whoever sends, scores and reports in a row waits each time for what has not changed."""
    monkeypatch.setattr(kept_outputs, "_SETTLED_SECONDS", -3600.0)
    folder = answered.folder
    one = OutputKeeper(folder, {})
    one.known()
    one.keep(OLD)
    assert answered("report", *SORT).code == 0
    assert (folder / "report.html").exists()
    (folder / "send.log").touch()
    assert OutputKeeper(folder, {}).known() == OLD
    for name in ("words.txt", "images/lp-090.html"):
        (folder / name).touch()
        assert OutputKeeper(folder, {}).known() is None, name
        (folder / name).unlink()
        assert OutputKeeper(folder, {}).known() == OLD, name
    # The cases are read, whatever they are called.
    (folder / "cases.jsonl").rename(folder / "cases.log")
    edit(folder / "drovik.toml", "cases.jsonl", "cases.log")
    two = OutputKeeper(folder, {})
    two.known()
    two.keep(OLD)
    assert OutputKeeper(folder, {}).known() == OLD
    os.utime(folder / "cases.log", ns=(1, 1))
    assert OutputKeeper(folder, {}).known() is None


def test_what_another_program_sends_or_rescued_replies_hold_is_not_taken_for_nothing_to_send(
    answered: Drovik, monkeypatch: pytest.MonkeyPatch
) -> None:
    """That one may be killed, and its replies may be in a file: the next send asks, or takes them in."""
    monkeypatch.setattr(kept_outputs, "_SETTLED_SECONDS", -3600.0)
    folder = answered.folder
    change(folder, "INSERT INTO senders VALUES (7, 'elsewhere', 1, '', 1)")
    one = OutputKeeper(folder, {})
    assert one.known() is None
    one.keep(OLD)
    change(folder, "DELETE FROM senders")
    two = OutputKeeper(folder, {})
    assert two.known() is None
    two.keep(OLD)
    assert OutputKeeper(folder, {}).known() == OLD
    (folder / ".drovik/rescued-1.jsonl").touch()
    assert OutputKeeper(folder, {}).known() is None


def test_a_project_among_very_many_files_of_others_is_not_looked_through(
    answered: Drovik, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Or every command would go through the whole of a home folder."""
    monkeypatch.setattr(kept_outputs, "_SETTLED_SECONDS", -3600.0)
    monkeypatch.setattr(kept_outputs, "_OTHERS", 60)
    (answered.folder / "others/deep").mkdir(parents=True)
    cases = (answered.folder / "cases.jsonl").stat().st_size // 20
    for added, known in ((0, OLD), (cases + 61, None)):
        for number in range(added):
            (answered.folder / f"others/deep/{number}").touch()
        one = OutputKeeper(answered.folder, {})
        one.known()
        one.keep(OLD)
        assert OutputKeeper(answered.folder, {}).known() == known
