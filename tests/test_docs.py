"""The worked examples in docs/ come out as they say, and the README speaks of what there is."""

from __future__ import annotations

import base64
import json
import re
import tomllib
from pathlib import Path

import pytest

from drovik.cli.main import COMMANDS
from drovik.dialects.dialect_checks import check_reply_form, check_request_form
from drovik.dialects.request import Conversation, PicturePart, RequestWriter, TextPart, Turn
from drovik.dialects.response import parse_reply
from drovik.images.layout import layout_of
from drovik.images.prepare import Prepared
from drovik.project.arms import arms_of
from drovik.project.cases import Case
from drovik.project.dialects import Dialect, LeftHeaders
from drovik.project.models import Model
from drovik.project.preps import Prep
from drovik.project.prompts import Prompt
from drovik.project.settings import Endpoint, ProjectFile
from drovik.project.tasks import MeasureTable, Task
from drovik.project.token_rules import PictureTokens
from drovik.scoring.catalogue import (
    MEASURES,
    check_cases,
    measure_class,
    measures_of,
    measures_with_expectations,
)
from drovik.scoring.causes.cause_table import CAUSES
from drovik.scoring.measure import AnswerContext, expected_at
from drovik.scoring.measures.function import Function
from drovik.scoring.measures.judge import Judge
from drovik.standin.faults import read_fault_plan

ROOT = Path(__file__).resolve().parent.parent


def blocks(name: str, kind: str) -> list[str]:
    return re.findall(rf"^```json {kind}\n(.*?)^```", (ROOT / "docs" / name).read_text(), flags=re.M | re.S)


def pages() -> list[str]:
    return sorted(f"measures/{path.name}" for path in (ROOT / "docs/measures").glob("*.md"))


EXAMPLES = [(name, json.loads(one)) for name in pages() for one in blocks(name, "example")]


@pytest.mark.parametrize(("page", "example"), EXAMPLES, ids=lambda one: one if isinstance(one, str) else "")
def test_the_worked_examples_of_measures(page: str, example: dict, tmp_path: Path) -> None:
    for file, text in example.get("module", {}).items():
        (tmp_path / file).write_text(text)
    table = dict(example["measure"])
    task = Task("t", "", "json", None, "m", (MeasureTable("m", table.pop("type"), table),), ())
    cases = [
        Case(str(n), (), {}, {"t": one["expected"]}, None, "tune", frozenset(), "")
        for n, one in enumerate(example["cases"])
    ]
    problems: list = []
    measures = measures_of(task, problems)
    assert not problems + check_cases(task, measures, cases, "cases")
    (measure,) = measures_with_expectations(measures, task, cases)
    if isinstance(measure, Function):
        measure = measure.trusted(tmp_path)
    if isinstance(measure, Judge):
        measure = measure.heard(example["verdicts"], {})
    expected = [expected_at(measure, task, case) for case in cases]
    scores = [
        measure.per_case(one["answer"], wanted, AnswerContext(str(one["answer"]), case=str(n), arm="gull/v2"))
        for n, (one, wanted) in enumerate(zip(example["cases"], expected, strict=True))
    ]
    assert measure.combine(scores) == pytest.approx(example["score"], abs=1e-6)
    figures = measure.figures(measure.rows(scores).sum(axis=0))
    for name, value in example["figures"].items():
        assert figures[name] == pytest.approx(value, abs=1e-6), name
    assert [finding.cause for score in scores for finding in score.findings] == example["causes"]
    assert set(example["causes"]) <= set(CAUSES)
    assert measure.combine([measure.best(one) for one in expected]) == 1
    assert measure.combine([measure.worst(one, "why") for one in expected]) <= 0


def test_there_is_a_page_with_a_table_and_a_worked_example_for_each_type_of_measure() -> None:
    assert {name.removeprefix("measures/").removesuffix(".md") for name in pages()} == set(MEASURES)
    assert [measure_class(kind).kind for kind in MEASURES] == list(MEASURES)
    for name in pages():
        kind = name.removeprefix("measures/").removesuffix(".md")
        assert kind in {example["measure"]["type"] for page, example in EXAMPLES if page == name}
        for table in tomls(name, "measure"):
            written = {one: dict(made) for one, made in table["measures"].items()}
            tables = tuple(MeasureTable(one, made.pop("type"), made) for one, made in written.items())
            problems: list = []
            assert measures_of(Task("t", "", "json", None, "m", tables, ()), problems)[0].kind == kind
            assert not problems


def test_every_cause_is_in_the_docs_with_its_remedy() -> None:
    told = set(re.findall(r"^\| (.*?) \| (.*?) \| (.*?) \|$", (ROOT / "docs/causes.md").read_text(), flags=re.M))
    assert {(str(one), one.owner, one.remedy) for one in CAUSES.values()} <= told


def tomls(name: str, kind: str) -> list[dict]:
    found = re.findall(rf"^```toml {kind}\n(.*?)^```", (ROOT / "docs" / name).read_text(), flags=re.M | re.S)
    assert found
    return [tomllib.loads(one) for one in found]


def test_what_the_docs_write_into_a_project_is_read(tmp_path: Path) -> None:
    for table in tomls("pictures.md", "prep"):
        for prep in table["preps"].values():
            Prep.model_validate(prep)
    model = {"endpoint": "e", "id": "m"}
    for kind, name in (("price", "price"), ("tokens", "picture_tokens")):
        for table in tomls("money.md", kind):
            Model.model_validate({**model, name: table["models"]["fulmar"][name]})
    for table in tomls("sending.md", "limits"):
        Endpoint.model_validate(table["endpoints"]["desk"])
    for table in tomls("sending.md", "left"):
        LeftHeaders.model_validate(table["left"])
    text = (ROOT / "docs/stand-in.md").read_text()
    (tmp_path / "plan.toml").write_text(text.split("```toml faults\n")[1].split("```")[0])
    assert len(read_fault_plan(tmp_path / "plan.toml").rules) == 4


def test_the_worked_examples_of_pictures_and_tokens() -> None:
    (one,) = (json.loads(block) for block in blocks("pictures.md", "map"))
    layout = layout_of(tuple(one["size"]), 1, Prep.model_validate(one["prep"]))
    assert [layout.parts[0].width, layout.parts[0].height] == one["sent"]
    assert list(layout.to_stored(0).point(*one["point"])) == one["source"]
    (one,) = (json.loads(block) for block in blocks("money.md", "tokens"))
    assert PictureTokens.model_validate(one["steps"]).of(tuple(one["size"])) == one["tokens"]


def named_blocks(kind: str) -> dict[str, str]:
    """The blocks of dialects.md of a kind, by the name of their example."""
    found = re.findall(
        rf"^```\w+ {kind} (\w+)\n(.*?)^```", (ROOT / "docs/dialects.md").read_text(), flags=re.M | re.S
    )
    return dict(found)


@pytest.mark.parametrize("name", named_blocks("dialect"))
def test_the_worked_examples_of_dialects(name: str) -> None:
    dialect = Dialect.model_validate(tomllib.loads(named_blocks("dialect")[name]))
    assert check_request_form(dialect, "d.toml") + check_reply_form(dialect, "d.toml") == []
    settings = ProjectFile.model_validate(
        {"models": {"gull": {"endpoint": "e", "id": "gull-1", "settings": {"max_output_tokens": 90}}}}
    )
    task = Task("t", "", "text", None, None, (), (Prompt("v1", "", "", "", "x", frozenset()),))
    asking = Conversation("Be short.", (Turn("user", (PicturePart(0), TextPart("What is it? {key}"))),))
    picture = Prepared(base64.b64decode("iVBORw0KGgo="), "image/png", 1, 1, True, layout_of((1, 1), 1, Prep()))
    writer = RequestWriter(Endpoint(url="http://127.0.0.1", dialect="d"), dialect, "the key")
    draft = writer.draft(arms_of(task, settings)[0], asking, [[picture]], "id")
    if name in named_blocks("request"):
        assert json.loads(writer.write(draft).body) == json.loads(named_blocks("request")[name])
    if name in named_blocks("found"):
        found = parse_reply(named_blocks("reply")[name].rstrip("\n").encode(), dialect.reply)
        wanted = json.loads(named_blocks("found")[name])
        assert {key: getattr(found, key) for key in wanted} == wanted


def test_the_readme_links_what_is_there() -> None:
    text = (ROOT / "README.md").read_text()
    linked = set(re.findall(r"\]\(([^)#:]+)\)", text))
    assert {f"docs/screenshots/{path.name}" for path in (ROOT / "docs/screenshots").iterdir()} <= linked
    for name in linked:
        assert (ROOT / name).exists(), name
    for command in re.findall(r"drovik ([a-z][a-z-]+)", text):
        assert command in COMMANDS or command in ("check", "demo"), command
