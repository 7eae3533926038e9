"""A new project out of what is there: `check` accepts it, and it can be sent and scored."""

from __future__ import annotations

import json
import os
import pty
import shutil
import subprocess
import tomllib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, good
from hypothesis import given
from hypothesis import strategies as st

from drovik.demo.copying import copy_demo
from drovik.errors import Problem
from drovik.project.cases import Case
from drovik.project.schema_inference import infer_schema
from drovik.project.tasks import MeasureTable, Task
from drovik.scoring.catalogue import check_cases, measures_of
from drovik.scoring.drafted_measure import drafted_measure

Serve = Callable[..., FakeService]


@pytest.fixture
def pictures(drovik: Drovik, tmp_path: Path) -> list[Path]:
    """Eight pictures that are somebody's own."""
    copy_demo(tmp_path / "demo")
    return sorted((tmp_path / "demo/images").glob("*.jpg"))[:8]


def put(picture: Path, place: Path) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(picture, place)


def cases_of(project: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in (project / "cases.jsonl").read_text().splitlines()]


def accepted(drovik: Drovik, project: str, *words: str) -> dict[str, Any]:
    """The project that was made, once `check` has found nothing wrong with it."""
    made = drovik("new", project, "--json", *words)
    assert made.code == 0, made.err
    checked = Drovik(drovik.folder / project, Path(drovik.environment["HOME"]))("check")
    assert checked.code == 0, checked.out
    return dict(json.loads(made.out))


def test_a_folder_for_each_label_becomes_a_task_that_is_sent_and_scored(
    drovik: Drovik, serve: Serve, pictures: list[Path]
) -> None:
    for number, picture in enumerate(pictures):
        put(picture, drovik.folder / "mine" / ("cap" if number % 2 else "hat") / picture.name)
    made = accepted(drovik, "p", "--from", "mine")
    assert (made["task"], made["cases"], made["with_expected"]) == ("sort", 8, 8)
    project = drovik.folder / "p"
    assert {one["expected"]["sort"]["label"] for one in cases_of(project)} == {"cap", "hat"}
    assert {one["id"] for one in cases_of(project)} == {one.stem for one in pictures}, (
        "a case is called as its picture"
    )
    question = (project / "tasks/sort/question.toml").read_text()
    assert 'labels = ["cap", "hat"]' in question
    port = serve(lambda n, body: good('{"label": "cap"}')).port
    toml = project / "drovik.toml"
    toml.write_text(toml.read_text().replace("127.0.0.1:8765", f"127.0.0.1:{port}"))
    inside = Drovik(project, Path(drovik.environment["HOME"]))
    sent = inside("send")
    assert sent.code == 0, sent.out
    (score,) = json.loads(inside("score", "--json").out)["tasks"]["sort"]
    assert score["measures"][0]["score"] == 0.5


def test_files_beside_pictures_say_what_is_right(drovik: Drovik, pictures: list[Path]) -> None:
    for number, picture in enumerate(pictures):
        put(picture, drovik.folder / "json" / picture.name)
        value = {"vessel": ["Tern", "Eider"][number % 2], "deck": number, "day": f"2026-03-0{number + 1}"}
        (drovik.folder / "json" / f"{picture.stem}.json").write_text(json.dumps(value))
        put(picture, drovik.folder / "txt" / picture.name)
        (drovik.folder / "txt" / f"{picture.stem}.txt").write_text(
            f"SKERRY LINE\nNo. SK-{1000 + number}\nVessel Tern, deck {number}, left on the bench\n"
        )
    assert accepted(drovik, "p", "--from", "json")["task"] == "extract"
    schema = json.loads((drovik.folder / "p/tasks/extract/answer.schema.json").read_text())
    assert schema["properties"]["vessel"]["enum"] == ["Eider", "Tern"]
    assert schema["properties"]["deck"] == {"type": "integer"}
    assert 'day = { rule = "date" }' in (drovik.folder / "p/tasks/extract/question.toml").read_text()
    assert accepted(drovik, "q", "--from", "txt")["task"] == "read"
    assert cases_of(drovik.folder / "q")[0]["expected"]["read"].startswith("SKERRY LINE\nNo. SK-1000")


NAMES = st.sampled_from(["kind", "of what", "Größe", "a/b~c", 'a"b', "box", "boxes", "", "1", "day"])
TEXTS = st.sampled_from(["cap", "Cap", "", "2026-02-31", "2026-02-28", "1,5", '"', "a\nb", "\x7f"]) | st.text(
    max_size=5
)
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.sampled_from([0.5, 1e9]) | TEXTS,
    lambda below: st.lists(below, max_size=3) | st.dictionaries(NAMES, below, max_size=3),
    max_leaves=8,
)


@given(st.lists(VALUES, min_size=1, max_size=5) | st.lists(st.fixed_dictionaries({"kind": TEXTS}), min_size=4))
def test_the_measure_that_is_drafted_takes_every_example(values: list[Any]) -> None:
    """Else `check` would find fault with what `new` has just made."""
    blank = Task("sort", "", "json", infer_schema(values), None, (), ())
    drafted = tomllib.loads(drafted_measure(blank, values))["measures"]
    measures = tuple(MeasureTable(name, table.pop("type"), table) for name, table in drafted.items())
    made, problems = replace(blank, measures=measures), list[Problem]()
    cases = [Case(str(n), (), {}, {"sort": one}, None, "tune", frozenset(), "") for n, one in enumerate(values)]
    found = measures_of(made, problems)
    problems += check_cases(made, found, cases, "cases.jsonl")
    assert found
    assert not problems


@pytest.mark.parametrize(
    ("values", "asked"),
    [
        ([{"kind": "cap"}, {"kind": None}] * 4, "kind is one of: cap, null."),
        ([{"kind": "{{ x }}"}, {"kind": "{% if %}"}] * 4, "{{ '{{' }} x }}"),
        ([["cap"], 7], "in JSON with: the answer."),
        ([{"said": "on the pier " * 20}, {"said": "no"}], "What is written in the picture?"),
    ],
)
def test_whatever_is_right_check_accepts_it(
    drovik: Drovik, pictures: list[Path], values: list[Any], asked: str
) -> None:
    for picture, value in zip(pictures, values, strict=False):
        put(picture, drovik.folder / "mine" / picture.name)
        (drovik.folder / "mine" / f"{picture.stem}.json").write_text(json.dumps(value))
    task = accepted(drovik, "p", "--from", "mine")["task"]
    assert asked in (drovik.folder / f"p/tasks/{task}/prompts/v1.toml").read_text()


def test_a_table_says_what_is_right_and_what_are_facts(drovik: Drovik, pictures: list[Path]) -> None:
    rows = ["photo,kind,vessel,price"]
    for number, picture in enumerate(pictures):
        put(picture, drovik.folder / "shots" / picture.name)
        rows.append(f"shots/{picture.name},{'cap' if number % 2 else 'hat'},Tern,{number}.5")
    (drovik.folder / "t.csv").write_text("\n".join([*rows, "shots/gone.jpg,cap,Tern,1"]) + "\n")
    made = accepted(drovik, "p", "--from", "t.csv")
    assert (made["task"], made["cases"]) == ("sort", 8)
    first = cases_of(drovik.folder / "p")[0]
    assert first["given"] == {"vessel": "Tern", "price": 0.5}
    assert first["expected"] == {"sort": {"kind": "hat"}}
    assert any("shots/gone.jpg" in line for line in made["missing"])
    assert accepted(drovik, "q", "--from", "t.csv", "--right", "vessel", "--right", "price")["task"] == "extract"
    semicolons = "\ufeffImage;Label\n" + "".join(f"shots/{pictures[0].name};{kind}\n" for kind in ("cap", "hat"))
    (drovik.folder / "semi.csv").write_text(semicolons)
    assert accepted(drovik, "s", "--from", "semi.csv")["cases"] == 2
    assert len(list((drovik.folder / "s/pictures").iterdir())) == 1, "the same picture is there once"
    tabs = f"id\tscan\tkind\t\nx\tshots/{pictures[0].name}\tcap\t\n\n" + "".join(
        f"{name}\tshots/{one.name}\that\t\n" for name, one in zip(("x", "x-2", "x"), pictures, strict=False)
    )
    (drovik.folder / "tabs.tsv").write_text(tabs)
    assert accepted(drovik, "tabs", "--from", "tabs.tsv")["cases"] == 4
    assert [one["id"] for one in cases_of(drovik.folder / "tabs")] == ["x", "x-2", "x-2-2", "x-3"], (
        "an id is given once"
    )
    (drovik.folder / "notes.csv").write_text(f"scan,kind\nshots/{pictures[0].name},a; b; c; d\n")
    accepted(drovik, "notes", "--from", "notes.csv")
    assert cases_of(drovik.folder / "notes")[0]["expected"] == {"sort": {"kind": "a; b; c; d"}}, (
        "its head says what parts cells"
    )
    whole = [{"image": f"shots/{one.name}", "expected": {"deck": n}} for n, one in enumerate(pictures)]
    (drovik.folder / "whole.jsonl").write_text("".join(json.dumps(one) + "\n" for one in whole))
    accepted(drovik, "w", "--from", "whole.jsonl")
    assert cases_of(drovik.folder / "w")[3]["expected"] == {"sort": {"deck": 3}}
    lines = [{"scan": f"shots/{one.name}", "text": "x" * 80} for one in pictures]
    (drovik.folder / "t.jsonl").write_text("".join(json.dumps(one) + "\n" for one in lines))
    assert accepted(drovik, "r", "--from", "t.jsonl", "--ask", "Read it.")["task"] == "read"
    assert 'ask = "Read it."' in (drovik.folder / "r/tasks/read/prompts/v1.toml").read_text()


def test_a_table_may_name_pictures_at_addresses(drovik: Drovik, pictures: list[Path]) -> None:
    """They stay where they are, and nothing is asked of their servers before somebody agreed to it."""
    put(pictures[0], drovik.folder / "a.jpg")
    web, store = "https://pictures.example/2026", "s3://lost-property/2026"
    named = ("a.jpg", f"{web}/a/1.jpg?size=2", f"{web}/b/2.png", f"{store}/3.jpg")
    (drovik.folder / "t.csv").write_text("photo,kind\n" + "".join(f"{one},cap\n" for one in named))
    made = drovik("new", "p", "--from", "t.csv", "--json")
    assert any("drovik check --trust" in line for line in json.loads(made.out)["missing"])
    project = drovik.folder / "p"
    assert [one["images"] for one in cases_of(project)] == [["pictures/a.jpg"], *([one] for one in named[1:])]
    assert tomllib.loads((project / "drovik.toml").read_text())["pictures"] == {"from": [f"{web}/", f"{store}/"]}
    checked = Drovik(project, Path(drovik.environment["HOME"]))("check")
    assert (checked.code, "were never agreed to" in checked.out) == (1, True)


def test_bare_pictures_become_a_project_whose_truth_is_filled_in_later(drovik: Drovik, pictures: list[Path]) -> None:
    for picture in pictures[:2]:
        put(picture, drovik.folder / "a" / picture.name)
        put(picture, drovik.folder / "a/deep" / picture.name)
    made = accepted(drovik, "p", "--from", "a")
    assert (made["task"], made["cases"], made["with_expected"]) == ("describe", 4, 0)
    assert "drovik review --fill describe" in made["missing"][1]
    names = {one.name for one in pictures[:2]}
    assert {one["id"] for one in cases_of(drovik.folder / "p")} == names | {f"deep-{one}" for one in names}
    for number, picture in enumerate(pictures[:5]):
        put(picture, drovik.folder / "few" / ("", "", "", "cap", "hat")[number] / picture.name)
    assert accepted(drovik, "few-labels", "--from", "few")["task"] == "describe", "most are in no folder of their own"
    inside = accepted(drovik, "a", "--from", "a")
    assert inside["cases"] == 4
    assert not (drovik.folder / "a/pictures").exists(), "what lies in the project stays where it is"
    again = drovik("new", "a", "--from", "a")
    assert (again.code, "a/drovik.toml: there is a project already" in again.err) == (2, True)


def test_nothing_that_is_there_is_written_over(drovik: Drovik, pictures: list[Path]) -> None:
    """A table that happens to be called cases.jsonl is not lost to the project that is made of it."""
    row = json.dumps({"photo": pictures[0].name, "kind": "cap", "note": "my own"})
    for name in ("cases.jsonl", "mine.jsonl"):
        (drovik.folder / name).write_text(row)
    put(pictures[0], drovik.folder / pictures[0].name)
    (drovik.folder / ".gitignore").write_text("*.pyc\n.env")
    for name in ("cases.jsonl", "tasks/sort/question.toml", "dialects/plain.toml"):
        own = drovik.folder / name
        own.parent.mkdir(parents=True, exist_ok=True)
        own.write_text(row)
        refused = drovik("new", ".", "--from", "mine.jsonl")
        assert (
            refused.code,
            ": is there already, and belongs to no project; name another folder" in refused.err,
        ) == (2, True)
        assert own.read_text() == row
        assert not (drovik.folder / "drovik.toml").exists()
        own.unlink()
        shutil.rmtree(drovik.folder / "tasks", ignore_errors=True)
    accepted(drovik, ".", "--from", "mine.jsonl")
    assert (drovik.folder / ".gitignore").read_text() == "*.pyc\n.env\n.drovik/\n"


def test_on_a_terminal_it_asks(drovik: Drovik, pictures: list[Path]) -> None:
    for picture in pictures[:2]:
        put(picture, drovik.folder / "mine" / picture.name)
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [PROGRAM, "new", "p"], cwd=drovik.folder, env={**os.environ, **drovik.environment}, stdin=theirs, stdout=theirs,
        stderr=theirs,
    )  # fmt: skip
    os.write(ours, b"mine\nWhat lies there?\n")
    assert process.wait(timeout=30) == 0
    assert 'ask = "What lies there?"' in (drovik.folder / "p/tasks/describe/prompts/v1.toml").read_text()


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--from", "nothing"), "there is no such folder or table"),
        (("--from", "empty"), "there is no picture in it"),
        (("--from", "notes.txt"), "is neither a folder nor a table"),
        (("--from", "plain.csv"), "no column of it names pictures"),
        (("--from", "plain.csv", "--right", "x"), "no column of it names pictures"),
        (("--from", "list.json"), "its rows are not objects"),
        (("--from", "more.csv"), "more.csv: line 3: has more cells than the table has columns"),
        (("--from", "broken.jsonl"), "broken.jsonl: line 2: "),
        (("--from", "twice.csv"), "twice.csv: the column 'photo' is there twice"),
        (("--from", "long.csv"), "long.csv: line 2: cannot be read: field larger than field limit"),
        ((), "there is nothing to make it from"),
    ],
)
def test_what_no_project_can_be_made_of_is_said(drovik: Drovik, words: tuple[str, ...], said: str) -> None:
    (drovik.folder / "empty").mkdir()
    for name, text in {
        "notes.txt": "x", "plain.csv": "a,b\n1,2\n", "list.json": "[1, 2]", "more.csv": "photo,b\n\na.jpg,cap,more\n",
        "broken.jsonl": '{"photo": "a.jpg"}\n{"photo": \n', "twice.csv": "photo,photo\na.jpg,b.jpg\n", "long.csv": f"photo,b\na.jpg,{'x' * 200_000}\n",
    }.items():  # fmt: skip
        (drovik.folder / name).write_text(text)
    found = drovik("new", "p", *words)
    assert (found.code, said in found.err) == (2, True), found.err
    assert len(found.err.splitlines()) == 1
    assert not (drovik.folder / "p/drovik.toml").exists()
