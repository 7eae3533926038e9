"""Measures, field rules and causes of other packages: docs/extending.md, as a package beside the program."""

from __future__ import annotations

import json
import os
import re
import time
import tomllib
from pathlib import Path

import pytest
from conftest import Drovik, change

PAGE = Path(__file__).parent.parent / "docs" / "extending.md"


def package(folder: Path, broken: str = "") -> Path:
    """The page's package as pip would install it into a folder."""
    blocks = re.findall(r"```(toml|python)\n(.*?)```", PAGE.read_text("utf-8"), re.DOTALL)
    project = tomllib.loads(blocks[0][1])["project"]
    (folder / "ferry_measures.py").write_text(broken or blocks[1][1], encoding="utf-8")
    info = folder / "ferry_measures-1.0.dist-info"
    info.mkdir(parents=True)
    (info / "METADATA").write_text(
        f"Metadata-Version: 2.1\nName: {project['name']}\nVersion: 1.0\n", encoding="utf-8"
    )
    groups = "".join(
        f"[{group}]\n" + "".join(f"{name} = {value}\n" for name, value in entries.items()) + "\n"
        for group, entries in project["entry-points"].items()
    )
    (info / "entry_points.txt").write_text(groups, encoding="utf-8")
    return folder


def add_path(program: Drovik, folder: Path) -> None:
    """Have the program see a folder's packages first, as if they were installed."""
    program.environment["PYTHONPATH"] = os.pathsep.join([str(folder), os.environ.get("PYTHONPATH", "")])


@pytest.fixture
def extended(answered_demo: Drovik, tmp_path: Path) -> Drovik:
    (tmp_path / "packages").mkdir()
    add_path(answered_demo, package(tmp_path / "packages"))
    question = answered_demo.folder / "tasks/sort/question.toml"
    measure = '\n[measures.brief]\ntype = "length"\nat = "/kind"\nmost = 0\n'
    fields = '\n[measures.decks]\ntype = "fields"\n[measures.decks.fields]\nkind = { rule = "deck" }\n'
    question.write_text(question.read_text("utf-8") + measure + fields, encoding="utf-8")
    return answered_demo


def test_a_packages_measure_rule_and_cause_are_used_like_our_own(extended: Drovik) -> None:
    done = extended.installed("score", "--task", "sort", "--arm", "gull/v2", "--causes", "--json")
    assert done.code == 0, done.err
    found = json.loads(done.out)
    measures = {one["measure"]: one for one in found["tasks"]["sort"][0]["measures"]}
    assert measures["brief"]["score"] == 0.0, "every answer has a word, and none is allowed"
    assert measures["decks"]["score"] > measures["kind"]["score"], (
        "no kind has a number, so all are the same to the rule"
    )
    causes = {one["cause"]: one for row in found["causes"]["sort"] for one in row["causes"]}
    assert causes["too wordy"]["remedy"] == "ask for one sentence"
    assert causes["too wordy"]["owner"] == "prompt"


def test_nothing_of_a_package_is_taken_from_before_for_its_code_may_have_changed(
    extended: Drovik, tmp_path: Path
) -> None:
    def scores() -> dict[str, float]:
        done = extended.installed("score", "--task", "sort", "--arm", "gull/v2", "--json")
        return {one["measure"]: one["score"] for one in json.loads(done.out)["tasks"]["sort"][0]["measures"]}

    time.sleep(2.1)  # or what has just changed would not be kept anyway
    before = [scores(), scores()]
    assert before[0] == before[1]
    change(tmp_path / "packages/ferry_measures.py", "count <= self._table.most", "count > self._table.most")
    change(tmp_path / "packages/ferry_measures.py", "_number(expected) == _number(got)", "False")
    now = scores()
    assert (now["brief"], now["kind"]) == (1.0, before[0]["kind"])
    assert now["decks"] < before[0]["decks"]


@pytest.mark.parametrize("other", ["class Length: pass", "Length = 7"])
def test_a_package_that_adds_no_measure_where_one_belongs_is_one_line(
    other: str, extended: Drovik, tmp_path: Path
) -> None:
    (tmp_path / "other").mkdir()
    add_path(extended, package(tmp_path / "other", broken=f"{other}\ndeck = too_wordy = None\n"))
    done = extended.installed("check")
    assert done.code == 2
    assert "'length' in drovik.measures is not a Measure" in done.err
    assert len(done.err.splitlines()) == 1


def test_a_package_that_cannot_be_loaded_is_one_line(extended: Drovik, tmp_path: Path) -> None:
    (tmp_path / "broken").mkdir()
    add_path(extended, package(tmp_path / "broken", broken="raise OSError('no licence')\n"))
    done = extended.installed("check")
    assert done.code == 2
    assert "ferry-measures adds 'length' to drovik.measures, and it cannot be loaded: OSError: no licence" in done.err
    assert len(done.err.splitlines()) == 1


def test_without_the_package_the_name_is_unknown_and_the_known_ones_are_said(answered_demo: Drovik) -> None:
    change(answered_demo.folder / "tasks/sort/question.toml", 'type = "label"', 'type = "length"')
    done = answered_demo("check")
    assert done.code in (1, 2)
    assert "there is no measure of type 'length'" in done.out + done.err
