"""Exports: every kind of file has the same rows, spreadsheets take no formula from a model, a bundle has no key."""

from __future__ import annotations

import base64
import csv
import io
import json
import re
import sqlite3
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, demo_on_port, good

from drovik.workflow.export_tables import _COLUMNS

Serve = Callable[..., FakeService]
SORT = ("--task", "sort", "--arm", "gull/v1")
DOCS = Path(__file__).parent.parent / "docs/columns.md"


def rows_of(path: Path, kind: str, table: str) -> list[dict[str, Any]]:
    if kind == "sqlite":
        link = sqlite3.connect(path / "drovik.sqlite")
        link.row_factory = sqlite3.Row
        return [dict(row) for row in link.execute(f'SELECT * FROM "{table}"')]
    file = path / f"{table}.{kind}"
    if kind == "csv":
        return list(csv.DictReader(io.StringIO(file.read_text())))
    if kind == "jsonl":
        return [json.loads(line) for line in file.read_text().splitlines()]
    if kind == "parquet":
        import pyarrow.parquet as pq

        return list(pq.read_table(file).to_pylist())
    import pyarrow as pa

    return list(pa.ipc.open_file(str(file)).read_all().to_pylist())


def test_every_kind_of_file_has_the_same_rows_and_they_are_those_of_the_scores(drovik: Drovik, serve: Serve) -> None:
    said = ['{"kind": "cap"}', "=1+1", 'Here: {"kind": "hat"}', "\ud83d half"]
    demo_on_port(drovik.folder, serve(lambda n, body: good(said[n % 4], count={"in": 10, "out": 3})).port, cases=8)
    drovik("send", *SORT)
    found = {}
    for kind in ("csv", "jsonl", "parquet", "arrow", "sqlite"):
        assert drovik("export", f"out/{kind}", "--as", kind, *SORT).code == 0
        found[kind] = {table: rows_of(drovik.folder / "out" / kind, kind, table) for table in _COLUMNS}
    plain = found["jsonl"]
    for kind, tables in found.items():
        for table, rows in tables.items():
            assert list(rows[0]) == [name for name, _ in _COLUMNS[table]], (kind, table)
            assert len(rows) == len(plain[table])
            if kind not in ("csv", "jsonl"):
                same = [name for name, sort in _COLUMNS[table] if sort != "text"]
                assert [[row[n] for n in same] for row in rows] == [[row[n] for n in same] for row in plain[table]]
    scores = json.loads(drovik("score", *SORT, "--json").out)["tasks"]["sort"][0]["measures"][0]
    (measure,) = plain["measures"]
    assert (measure["score"], measure["low"], measure["cases"]) == (scores["score"], scores["low"], scores["cases"])
    assert sum(row["score"] for row in plain["scores"]) / 8 == pytest.approx(scores["score"])
    assert sum(row["money"] for row in plain["attempts"]) == pytest.approx(plain["money"][0]["money"])
    assert len(plain["attempts"]) == len(plain["answers"]) == 8
    texts = {row["text"] for row in found["csv"]["answers"]}
    assert "'=1+1" in texts
    assert not any(one.startswith(("=", "+", "@")) for one in texts)


def test_the_columns_are_those_of_the_page_about_them() -> None:
    for section in re.split(r"^## ", DOCS.read_text(), flags=re.M)[1:]:
        name = section.split()[0]
        told = [
            one
            for row in re.findall(r"^\| ([a-z_, ]+) \|", section, flags=re.M)
            for one in row.split(", ")
            if one != "column"
        ]
        assert told == [column for column, _ in _COLUMNS[name]], name
    assert len(_COLUMNS) == len(re.findall(r"^## ", DOCS.read_text(), flags=re.M))


def test_a_bundle_opens_elsewhere_with_its_answers_and_without_keys(
    drovik: Drovik, serve: Serve, tmp_path: Path
) -> None:
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good('{"kind": "cap"}')).port, cases=3)
    drovik("send", *SORT)
    (folder / "private notes.txt").write_text("nobody's business")
    (folder / "private.py").write_text("")
    (folder / "mine.py").write_text("def score(answer, expected):\n    return 1.0\n")
    (folder / "data").mkdir()
    (folder / "cases.jsonl").rename(folder / "data/cases.jsonl")
    toml, question = folder / "drovik.toml", folder / "tasks/sort/question.toml"
    toml.write_text(toml.read_text().replace('"cases.jsonl"', '"data/cases.jsonl"'))
    question.write_text(question.read_text() + '\n[measures.mine]\ntype = "function"\ncall = "mine:score"\n')
    told = json.loads(drovik("export", "--bundle", str(tmp_path / "b.zip"), "--json").out)
    with zipfile.ZipFile(tmp_path / "b.zip") as bundle:
        names = bundle.namelist()
        assert len(names) == told["files"]
        bundle.extractall(tmp_path / "theirs")
    assert not any(".env" in one or "private" in one for one in names)
    assert {"mine.py", "data/cases.jsonl"} <= set(names)
    key = (folder / ".env").read_text().split("=", 1)[1].strip().strip('"')
    assert not any(key.encode() in path.read_bytes() for path in (tmp_path / "theirs").rglob("*") if path.is_file())
    theirs = Drovik(tmp_path / "theirs", tmp_path / "config")
    scores = [json.loads(one("score", *SORT, "--json").out)["tasks"] for one in (drovik, theirs)]
    assert scores[0] == scores[1]
    notes = folder / "tasks/sort/notes.txt"
    notes.write_text(f"the key is {key}")
    refused = drovik("export", "--bundle", str(tmp_path / "c.zip"))
    assert (refused.code, "tasks/sort/notes.txt holds a key" in refused.err) == (2, True)
    assert not (tmp_path / "c.zip").exists()
    assert list(tmp_path.glob("*.part")) == []


def test_pictures_are_written_as_they_were_sent(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    toml = folder / "drovik.toml"
    toml.write_text(toml.read_text() + "\n[preps.tiny]\nfit = 64\n")
    drovik("send", "--task", "sort", "--arm", "gull/v1")
    told = json.loads(drovik("export", "out", "--pictures", "--json", "--task", "sort").out)
    written = {path.read_bytes() for path in (folder / "out/pictures").iterdir()}
    assert told["pictures"] == len(written) == 6, "three pictures by two preps"
    sent = {
        base64.b64decode(one)
        for body in service.requests
        for one in re.findall(r'"[A-Za-z0-9+/]{400,}=*"', json.dumps(body))
    }
    assert written == sent


def test_what_cannot_be_exported_is_said(drovik: Drovik, serve: Serve) -> None:
    demo_on_port(drovik.folder, serve(lambda n, body: good("x")).port, cases=2)
    (drovik.folder / "file").write_text("x")
    for words, said in (
        (("export",), "give a folder for tables, or --bundle FILE"),
        (("export", "out", "--table", "anwers"), "there is no table 'anwers'; did you mean 'answers'?"),
        (("export", "file"), "file: cannot be written"),
        (("export", "out", "--bundle", "b.zip"), "give a folder for tables, or --bundle FILE"),
    ):
        found = drovik(*words)
        assert (found.code, said in found.err) == (2, True), found.err
        assert len(found.err.splitlines()) == 1
    assert drovik("export", "out").code == 0, "nothing sent is empty tables"
    assert (drovik.folder / "out/answers.csv").read_text().count("\n") == 1
