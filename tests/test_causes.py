"""Why answers are wrong, as a user sees it: causes, what to fix first, suspect expected outputs, own measures."""

from __future__ import annotations

import json
import re
import sqlite3
import statistics
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, Result, StandInProcess, demo_on_port
from PIL import Image

from drovik.images.inspection import print_of
from drovik.scoring.causes.cause_table import CAUSES
from drovik.scoring.language.detecting import language_of

BENCHMARK = Path(__file__).parents[1] / "benchmarks" / "causes.py"


def test_planted_errors_are_told_for_what_they_are() -> None:
    done = subprocess.run([sys.executable, str(BENCHMARK), "--json"], capture_output=True, text=True, check=True)
    told = json.loads(done.stdout)
    assert told["planted"] > 1000
    assert told["right"] == told["planted"]
    by_cause = {one["planted"]: one for one in told["causes"]}
    for kind in ("(of an unknown kind)", "(nothing is wrong)"):
        assert by_cause[kind]["right"] == by_cause[kind]["answers"] > 20
    never = set(CAUSES) - set(by_cause)
    assert never == {
        "another value", "other words", "label left out", "label too many", "off the schema", "another way of writing", "should have declined",
        "no reply", "wrong count of lines or items", "below the wanted score", "judged wrong", "beyond comparing",
    }  # fmt: skip


def causes_of(drovik: Drovik, task: str, arm: str) -> dict[str, Any]:
    found = drovik("score", "--causes", "--json", "--task", task, "--arm", arm).json["causes"][task]
    return {one["cause"]: one for one in found[0]["causes"]}


def test_the_score_without_a_cause_is_the_score_of_answers_that_do_not_have_it(answered_demo: Drovik) -> None:
    causes = causes_of(answered_demo, "sort", "gull/v1")
    plural = causes["plural of the label"]
    question = answered_demo.folder / "tasks/sort/question.toml"
    question.write_text(question.read_text() + "fold_plural = true\n")
    folded = answered_demo("score", "--json", "--task", "sort", "--arm", "gull/v1").json["tasks"]["sort"][0]
    assert folded["measures"][0]["score"] == pytest.approx(plural["score_if_fixed"])
    assert plural["score"] < plural["score_if_fixed"]
    assert plural["owner"] == "measure"
    assert re.fullmatch(r"6 of 29 misses are plurals: .*fold_plural = true", plural["line"])
    shown = answered_demo("score", "--causes", "--task", "sort", "--arm", "fulmar/v2").out
    assert "4 of 4 misses are labels taken for another" in shown


def suspects_of(drovik: Drovik) -> list[dict[str, Any]]:
    return drovik("score", "--suspects", "--json").json["suspects"]["against_the_models"]


@pytest.mark.long
def test_an_expected_output_that_models_agree_against_is_in_doubt(answered_demo: Drovik) -> None:
    (planted, _) = sorted(suspects_of(answered_demo), key=lambda one: -len(one["agreeing"]))
    assert (planted["case"], planted["expected"], planted["said"]) == ("lp-031", "hat", "cap")
    assert {"fulmar/v1", "fulmar/v2", "gull/v2"} <= set(planted["agreeing"]), "the one that is wrong in the demo"
    assert "No two models agree" in answered_demo("score", "--suspects", "--task", "find").out
    cases = answered_demo.folder / "cases.jsonl"
    rows = [json.loads(line) for line in cases.read_text().splitlines()]
    rows[4]["expected"]["read-tag"]["vessel"] = "Heron"
    picture = Image.open(answered_demo.folder / rows[1]["images"][0])
    picture.save(answered_demo.folder / "images/again.jpg", quality=60)
    rows.append(
        {
            "id": "again",
            "images": ["images/again.jpg"],
            "given": {"vessel": "Tern"},
            "expected": {"sort": {"kind": "flask"}},
        }
    )
    cases.write_text("".join(json.dumps(row) + "\n" for row in rows))
    found = answered_demo("score", "--suspects", "--json").json["suspects"]
    (suspect,) = (one for one in found["against_the_models"] if one["task"] == "read-tag")
    assert (suspect["case"], suspect["where"], suspect["expected"]) == (rows[4]["id"], "/vessel", '"Heron"')
    assert suspect["share"] == 1
    assert [sorted((one["first"], one["second"])) for one in found["nearly_the_same_picture"]] == [
        ["again", "lp-002"]
    ]
    assert {"fulmar/v2", "gull/v1"} <= {one["arm"] for one in found["across_tasks"]}
    by_arm = answered_demo("score", "--causes", "--json", "--task", "read-tag").json["causes"]["read-tag"]
    (causes,) = (one["causes"] for one in by_arm if one["arm"] == "fulmar/v2")
    assert [one["owner"] for one in causes if one["cause"] == "another value"] == ["expected output"]
    assert rows[4]["id"] in answered_demo("score", "--suspects").out


def test_prints_hold_when_a_picture_is_saved_anew_and_differ_where_a_colour_does(
    finished_demo: tuple[Drovik, Result], tmp_path: Path
) -> None:
    folder = finished_demo[0].folder / "images"
    first = print_of((folder / "lp-001.jpg").read_bytes(), "a", 10**8)
    Image.open(folder / "lp-001.jpg").convert("RGB").resize((320, 240)).save(tmp_path / "b.webp", quality=50)
    assert first.is_nearly(print_of((tmp_path / "b.webp").read_bytes(), "b", 10**8))
    others = [
        print_of(path.read_bytes(), path.name, 10**8)
        for path in sorted(folder.glob("*.*"))
        if path.name != "lp-001.jpg"
    ]
    assert not any(first.is_nearly(one) for one in others)


@pytest.mark.parametrize(("text", "code"), [
    ("A red cap lies on the tray, and a paper tag beside it.", "en"), ("Auf dem Tablett liegt eine rote Kappe.", "de"),
    ("Il y a une casquette rouge sur le plateau.", "fr"), ("Hay una gorra roja en la bandeja.", "es"), ("cap", None), ("SK-11 12.08.2026", None),
    ("На подносе лежит шапка", "ru"), ("", None),
])  # fmt: skip
def test_languages_are_told_by_their_little_words(text: str, code: str | None) -> None:
    assert language_of(text) == code


OWN = """
import os, time

def long(answer, expected):
    if "wait" in os.environ.get("X", "") or any("KEY" in name for name in os.environ):
        return 0
    print("this goes nowhere")
    if answer.startswith("There is no picture"):
        raise ValueError("nothing to read")
    if "bottle" in answer and "blue" in answer:
        time.sleep(30)
    return {"score": min(len(answer) / 100, 1), "findings": [] if len(answer) > 99 else [{"cause": "too short for us"}]}
"""


def test_own_measures_run_only_where_trusted_without_keys_and_in_time(answered_demo: Drovik) -> None:
    folder = answered_demo.folder
    (folder / "checks.py").write_text(OWN)
    question = folder / "tasks/describe/question.toml"
    question.write_text(
        question.read_text() + '\n[measures.mine]\ntype = "function"\ncall = "checks:long"\nseconds = 1\n'
    )
    cases = folder / "cases.jsonl"
    cases.write_text("".join(line + "\n" for line in cases.read_text().splitlines()[:8]))
    plain = answered_demo("score", "--task", "describe", "--arm", "fulmar/v2")
    assert "Not run, for it is Python code of this project: mine" in plain.out
    assert "function checks:long" not in plain.out
    trusted = answered_demo("score", "--task", "describe", "--arm", "fulmar/v2", "--trust", "--causes", "--json").json
    mine = trusted["tasks"]["describe"][0]["measures"][1]
    assert (mine["type"], mine["what"]) == ("function", "function checks:long")
    assert "too short for us" in {one["cause"] for row in trusted["causes"]["describe"] for one in row["causes"]}
    said = {
        row["id"]: answered_demo("show", row["id"], "--task", "describe", "--arm", "fulmar/v2", "--json").json
        for row in map(json.loads, cases.read_text().splitlines())
    }
    texts = [one["tasks"]["describe"]["arms"]["fulmar/v2"]["text"] for one in said.values()]
    quick = [min(len(text) / 100, 1) for text in texts if not ("bottle" in text and "blue" in text)]
    assert mine["score"] == pytest.approx(sum(quick) / len(quick))
    assert mine["failed"] == len(texts) - len(quick) > 0
    shown = answered_demo("score", "--task", "describe", "--arm", "fulmar/v2", "--trust").out
    assert f"mine could not score {len(texts) - len(quick)}: checks:long took longer than 1 s" in shown
    (folder / "checks.py").write_text("def other(): pass\n")
    gone = answered_demo("score", "--task", "describe", "--arm", "fulmar/v2", "--trust").out
    assert "mine could score nothing: checks:long failed: AttributeError" in gone


def test_boxes_of_a_shrunk_and_cropped_picture_are_scored_in_the_frame_of_the_source(
    drovik: Drovik, start_standin: Callable[..., StandInProcess]
) -> None:
    folder = demo_on_port(drovik.folder / "p", start_standin().port, cases=6)
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text() + "\n[preps.small]\nfit = 320\n")
    inside = Drovik(folder, drovik.folder)
    assert inside("send", "--task", "find", "--arm", "fulmar/v2").code == 0
    scores = {
        one["arm"]: one["measures"][0]
        for one in inside("score", "--task", "find", "--arm", "fulmar/v2", "--json").json["tasks"]["find"]
    }
    assert scores["fulmar/v2/small"]["score"] > 0.6
    assert scores["fulmar/v2/full"]["score"] > 0.6
    with sqlite3.connect(folder / ".drovik/answers.sqlite") as store:
        bodies = store.execute(
            "SELECT r.body FROM replies r JOIN attempts a ON a.id = r.attempt JOIN asked k USING (identity)"
            " WHERE k.name LIKE '%small' AND r.http_status = 200"
        ).fetchall()
    answers = [answer for (body,) in bodies if (answer := json.loads(body)["answer"]).startswith("{")]
    sides = [max(thing["box"]) for answer in answers for thing in json.loads(answer)["things"]]
    assert sides
    assert statistics.median(sides) < 330, "the answers are in the frame of the small picture"


def test_members_that_come_and_go_are_told_where_no_schema_holds_them(answered_demo: Drovik) -> None:
    question = answered_demo.folder / "tasks/read-tag/question.toml"
    question.write_text(question.read_text().replace('schema = "answer.schema.json"\n', ""))
    for prompt in question.parent.glob("prompts/*.toml"):
        if "schema" in prompt.read_text():
            prompt.unlink()
    found = answered_demo("score", "--task", "read-tag", "--arm", "gull/v1", "--json").json["tasks"]["read-tag"][0][
        "structure"
    ]
    members = {one["place"]: one["answers"] for one in found["members"]}
    assert members["/number"] == found["answers"]
    assert 0 < members["/line"] < found["answers"]
    assert "structure of" in answered_demo("score", "--task", "read-tag", "--arm", "gull/v1", "--details").out
