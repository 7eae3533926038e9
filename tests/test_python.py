"""The package from Python: what docs/python.md shows runs as it stands, also within a running event loop."""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, change, demo_on_port, good

import drovik as package
from drovik import workflow

DOCS = Path(__file__).parents[1] / "docs" / "python.md"
Start = Callable[..., Any]
Serve = Callable[..., FakeService]


def examples() -> str:
    """All of the page's code, as one script."""
    return "\n".join(re.findall(r"```python\n(.*?)```", DOCS.read_text(), re.DOTALL))


@pytest.fixture
def folder(tmp_path: Path, start_standin: Start, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    return demo_on_port(tmp_path / "demo", start_standin().port)


def test_the_examples_of_the_page_run(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    project = package.open(folder)
    project.send_now(project.plan(task="sort", arm="gull/v2"))
    code = compile(examples(), str(DOCS), "exec")
    exec(code, {"folder": folder})
    printed = capsys.readouterr().out
    assert f"48 {sorted(path.name for path in (folder / 'tasks').iterdir())}\n" in printed
    assert "12 to send, 0 answered before" in printed
    assert printed.count(" answered\n") == 12
    assert "on kind (accuracy): " in printed
    assert "\n['gull/v2'] ['gull/v2'] {" in printed
    assert "'gull/v1': '36 of 48 cases not sent'" in printed


def test_sending_works_where_a_loop_is_running(folder: Path) -> None:
    """A notebook has one: whoever pastes the examples there must not be told that it cannot be called."""

    async def cell() -> tuple[int, int]:
        project = package.open(folder)
        plan = project.plan(task="sort", arm="gull/v1", sample=6)
        first = project.send_now(plan)
        second = await project.send(project.plan(task="sort", arm="gull/v2", sample=6))
        answer = package.ask(folder / "images/lp-001.jpg", "Which kind?", model="gull", project=folder)
        assert answer.status == "ok"
        return first.answered, second.answered

    assert asyncio.run(cell()) == (6, 6)


def test_a_plan_sent_twice_buys_nothing_twice(folder: Path) -> None:
    project = package.open(folder)
    plan = project.plan(task="sort", arm="gull/v1", sample=5)
    assert project.send_now(plan).attempts == 5
    assert project.send_now(plan).attempts == 0


@pytest.mark.long
def test_rows_say_what_the_commands_print(answered_demo: Drovik) -> None:
    project = package.open(answered_demo.folder)
    scores = project.evaluate()
    printed = answered_demo("score", "--json").json["tasks"]
    rows = {(row["task"], row["arm"], row["measure"]): row for row in scores.rows()}
    for task, arms in printed.items():
        for arm in arms:
            for one in arm["measures"]:
                row = rows.pop((task, arm["arm"], one["measure"]))
                assert {key: row[key] for key in ("score", "low", "high", "cases")} == {
                    key: one[key] for key in ("score", "low", "high", "cases")
                }
    assert rows == {}
    compared = answered_demo("compare", "--json").json["tasks"]
    ranked = package.rank(scores)
    assert {task: one["ranking"] for task, one in ranked.items()} == {
        task: one["ranking"] for task, one in compared.items()
    }
    frame = scores.to_frame("findings")
    assert len(frame) == len(scores.rows("findings")) > 50
    assert {"cut short", "axes swapped"} <= set(frame["cause"])


def test_what_is_wrong_is_an_error_of_the_tree(drovik: Drovik, folder: Path) -> None:
    with pytest.raises(package.ProjectError, match=r"drovik\.toml"):
        package.open(drovik.folder)
    project = package.open(folder)
    with pytest.raises(package.UsageError, match="no arm"):
        project.plan(arm="gul")
    with pytest.raises(package.UsageError, match="unknown task 'sorted'"):
        project.evaluate().arm("sorted", "gull/v1")
    with pytest.raises(package.UsageError, match="there are no rows of 'case'"):
        project.evaluate().rows("case")  # type: ignore[arg-type]
    with pytest.raises(package.UsageError, match="no such picture"):
        package.ask(folder / "images/none.jpg", "What?", project=folder)
    with pytest.raises(package.UsageError, match="budget 'much' is not an amount of money"):
        project.send_now(project.plan(task="sort", arm="gull/v1"), budget="much")


def test_all_that_is_listed_is_there() -> None:
    """It is loaded at its first use: a name that leads nowhere would be found by a user, in a notebook."""
    assert len(set(package.__all__)) == len(package.__all__) > 20
    for module in (package, workflow):
        for name in module.__all__:
            assert getattr(module, name) is not None
    with pytest.raises(AttributeError, match="has no attribute 'sends'"):
        package.sends  # noqa: B018


def test_a_question_with_a_schema_tells_the_model_of_it(folder: Path, tmp_path: Path, serve: Serve) -> None:
    schema = {"type": "object", "properties": {"kind": {"type": "string"}}, "required": ["kind"]}
    service = serve(lambda n, body: good('Well: {"kind": "cap"}' if n else '{"colour": "red"}'))
    asked = demo_on_port(tmp_path / "asked", service.port)
    first = package.ask(asked / "images/lp-001.jpg", "What is it?", model="gull", schema=schema, project=asked)
    second = package.ask(asked / "images/lp-001.jpg", "What is it?", model="gull", schema=schema, project=asked)
    assert (first.status, first.errors[0].rule) == ("off_schema", "required")
    assert (second.status, second.how, second.value) == ("ok", "in_prose", {"kind": "cap"})
    assert service.requests[0]["talk"][0]["parts"][-1]["words"].endswith(json.dumps(schema))
    with pytest.raises(package.UsageError, match="not a valid JSON Schema"):
        package.ask(asked / "images/lp-001.jpg", "What?", model="gull", schema={"type": "thing"}, project=asked)


def test_an_agreement_is_never_asked_for_here(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A script must not wait for a yes that nobody can give, nor send a key where nobody said that it may go."""
    change(folder / "drovik.toml", "http://127.0.0.1", "https://service.invalid")
    project = package.open(folder)
    with pytest.raises(package.ConsentError, match=r"service\.invalid"):
        project.send_now(project.plan(task="sort", arm="gull/v1", sample=1))
