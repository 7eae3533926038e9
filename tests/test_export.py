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

import pyarrow
import pyarrow.parquet
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
        done = drovik("export", f"out/{kind}", "--as", kind, *SORT, "--json")
        counts = done.json["files"]
        found[kind] = {table: rows_of(drovik.folder / "out" / kind, kind, table) for table in _COLUMNS}
        assert sum(counts.values()) == sum(map(len, found[kind].values()))
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


@pytest.mark.parametrize("kind", ["csv", "jsonl", "parquet", "arrow", "sqlite"])
def test_a_table_takes_the_place_of_nothing_but_its_like(drovik: Drovik, serve: Serve, kind: str) -> None:
    """Whoever has an own answers.csv still has it."""
    demo_on_port(drovik.folder, serve(lambda n, body: good("x")).port, cases=2)
    name = "drovik.sqlite" if kind == "sqlite" else f"answers.{kind}"
    own = drovik.folder / "out" / name
    own.parent.mkdir()
    if kind == "sqlite":
        link = sqlite3.connect(own)
        link.execute("CREATE TABLE answers (mine)")
        link.close()
    else:
        own.write_text('{"mine": 1}\n')
    before = own.read_bytes()
    refused = drovik("export", "out", "--as", kind)
    assert (refused.code, refused.err) == (
        2, f"out/{name}: is there already, and is not such a table; name another folder, or give --force to write over it\n"
    )  # fmt: skip
    assert own.read_bytes() == before
    assert list(own.parent.iterdir()) == [own], "nothing else is written either"
    assert drovik("export", "out", "--as", kind, "--force").code == 0
    assert rows_of(own.parent, kind, "cases")
    assert drovik("export", "out", "--as", kind).code == 0, "an earlier export is written over"
    if kind == "csv":  # of an older version, which had fewer columns; two may be anybody's
        for head, code in (("task,arm,case", 0), ("task,arm", 2)):
            own.write_text(f"{head}\n")
            assert drovik("export", "out").code == code
    own.unlink()
    own.symlink_to(drovik.folder / f"elsewhere.{kind}")
    assert drovik("export", "out", "--as", kind).code == 0
    assert not (drovik.folder / f"elsewhere.{kind}").exists(), "no link is followed"


def test_an_export_never_takes_the_place_of_the_projects_own_files(drovik: Drovik, serve: Serve) -> None:
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good("x")).port, cases=2)
    cases = (folder / "cases.jsonl").read_bytes()
    for force in ((), ("--force",)):
        found = drovik("export", ".", "--as", "jsonl", *force)
        assert (found.code, "cases.jsonl: is the project's own; name another folder" in found.err) == (2, True)
    assert (folder / "cases.jsonl").read_bytes() == cases
    (folder / "pictures").symlink_to(folder / "images")
    before = sorted((folder / "images").iterdir())
    found = drovik("export", ".", "--pictures", "--force")
    assert (found.code, "holds the project's own pictures; name another folder" in found.err) == (2, True)
    assert sorted((folder / "images").iterdir()) == before


def test_what_cannot_be_exported_is_said(drovik: Drovik, serve: Serve) -> None:
    demo_on_port(drovik.folder, serve(lambda n, body: good("x")).port, cases=2)
    (drovik.folder / "file").write_text("x")
    for words, said in (
        (("export",), "give a folder for tables, or --bundle FILE"),
        (("export", "out", "--table", "anwers"), "there is no table 'anwers'; did you mean 'answers'?"),
        (
            ("export", "file"),
            "file/answers.csv: cannot be written: a file is where its folder would be; check its folder",
        ),
        (("export", "out", "--bundle", "b.zip"), "give a folder for tables, or --bundle FILE"),
    ):
        found = drovik(*words)
        assert (found.code, said in found.err) == (2, True), found.err
        assert len(found.err.splitlines()) == 1
    assert drovik("export", "out").code == 0, "nothing sent is empty tables"
    assert (drovik.folder / "out/answers.csv").read_text().count("\n") == 1


def other_project(folder: Path, serve: Serve, cases: int = 5) -> Path:
    """Somebody else's, with the same tasks."""
    return demo_on_port(folder, serve(lambda n, body: good('{"kind": "cap"}')).port, cases=cases)


def mine(drovik: Drovik, *words: str) -> list[Any]:
    return [json.loads(line) for line in (drovik.folder / "cases.jsonl").read_text().splitlines()]


@pytest.mark.parametrize("kind", ["csv", "jsonl", "parquet", "arrow", "sqlite", "zip", "folder"])
def test_what_is_exported_is_imported_elsewhere_with_its_pictures(
    drovik: Drovik, serve: Serve, tmp_path: Path, kind: str
) -> None:
    """Facts, expected outputs, groups, regions and tags come along; what is there already is not added again."""
    theirs = Drovik(other_project(tmp_path / "theirs", serve), tmp_path / "config")
    rows = mine(theirs)
    rows[3] |= {"group": "=cap", "split": "held_out", "refusal": ["sort"], "regions": {"tag": [1, 2, 30, 40]}}
    address = "https://pictures.example/lp.jpg"
    rows[4]["images"] = [{"path": address, "address": address}]
    rows[3]["images"] = [{"path": rows[3]["images"][0], "tag": "front"}, {"path": rows[2]["images"][0], "page": 1}]
    (theirs.folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    source: Path = tmp_path / "theirs"
    if kind == "zip":
        source = tmp_path / "b.zip"
        theirs("export", "--bundle", str(source))
    elif kind != "folder":  # beside the pictures, or in a folder of the project's
        where = "." if kind in ("parquet", "sqlite") else "out/tables"
        assert theirs("export", where, "--as", kind, "--table", "cases", "--split", "all").code == 0
        source = theirs.folder / where / {"sqlite": "drovik.sqlite"}.get(kind, f"cases.{kind}")
    other_project(drovik.folder, serve, cases=2)
    done = drovik("import", str(source), "--json")
    assert done.code == 0, done.err
    assert json.loads(done.out) == {
        "added": [row["id"] for row in rows[2:]], "replaced": [], "same": [row["id"] for row in rows[:2]], "kept": [],
    }  # fmt: skip
    assert [row["id"] for row in mine(drovik)] == [row["id"] for row in rows]
    for got, wanted in zip(mine(drovik)[2:], rows[2:], strict=True):
        assert {**got, "images": 0} == {**wanted, "images": 0}
        for one, other in zip(got["images"], wanted["images"], strict=True):
            here, there = (image["path"] if isinstance(image, dict) else image for image in (one, other))
            if there == address:
                assert one == other
                continue
            assert (drovik.folder / here).read_bytes() == (theirs.folder / there).read_bytes()
            assert not isinstance(other, dict) or {**one, "path": 0} == {**other, "path": 0}
    assert drovik("check").code == 0
    assert json.loads(drovik("import", str(source), "--json").out)["same"] == [row["id"] for row in rows]


def test_a_case_that_differs_is_taken_or_left_as_it_is_said_and_else_nothing_is(
    drovik: Drovik, serve: Serve, tmp_path: Path
) -> None:
    theirs = Drovik(other_project(tmp_path / "theirs", serve, cases=3), tmp_path / "config")
    rows = mine(theirs)
    rows[0]["expected"]["sort"]["kind"] = "mitten"
    (theirs.folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    (theirs.folder / rows[1]["images"][0]).write_bytes((theirs.folder / rows[2]["images"][0]).read_bytes())
    other_project(drovik.folder, serve, cases=2)
    before = (drovik.folder / "cases.jsonl").read_bytes()
    refused = drovik("import", str(theirs.folder))
    assert (refused.code, len(refused.err.splitlines())) == (2, 1)
    assert "theirs: differs from your 2 cases lp-001, lp-002; take theirs" in refused.err, "a label, and a picture"
    assert (drovik.folder / "cases.jsonl").read_bytes() == before
    alone = json.loads(drovik("import", str(theirs.folder), "--keep", "--task", "find", "--json").out)
    assert alone["added"] == [rows[2]["id"]]
    assert list(mine(drovik)[2]["expected"]) == ["find"]
    (drovik.folder / "cases.jsonl").write_bytes(before)
    kept = drovik("import", str(theirs.folder), "--keep")
    assert kept.out.splitlines()[0] == "cases.jsonl: 1 case added, 2 cases left as yours are."
    assert (drovik.folder / "cases.jsonl").read_bytes().startswith(before)
    replaced = json.loads(drovik("import", str(theirs.folder), "--replace", "--json").out)
    assert replaced["replaced"] == [row["id"] for row in rows[:2]]
    assert [row["expected"] for row in mine(drovik)] == [row["expected"] for row in rows]


def test_cases_go_into_a_table_as_far_as_it_has_columns(drovik: Drovik, serve: Serve, tmp_path: Path) -> None:
    theirs = Drovik(other_project(tmp_path / "theirs", serve, cases=4), tmp_path / "config")
    rows = mine(theirs)
    for row in rows:
        row["expected"] = {name: row["expected"][name] for name in ("sort", "copy-tag")}
        row["split"], row["regions"] = "held_out", {"tag": [0.25, 0.5, 0.75, 1]}
    more = {"refusal": ["sort"]}, {"given": {"deck": 3}}, {"expected": {"describe": {"must": [["blue"]]}}}

    def write(*those: dict[str, Any]) -> None:
        (theirs.folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in those))

    write(*rows)
    other_project(drovik.folder, serve, cases=1)
    toml, table = drovik.folder / "drovik.toml", drovik.folder / "cases.csv"
    toml.write_text(toml.read_text().replace('"cases.jsonl"', '"cases.csv"'))
    table.write_text("id,image,given.vessel\nmine,images/lp-001.jpg,Tern\n")
    assert drovik("import", str(theirs.folder)).out.startswith("cases.csv: 4 cases added.")
    assert json.loads(drovik("import", str(theirs.folder), "--json").out)["same"] == [row["id"] for row in rows]
    before = table.read_bytes()
    for one in more:
        write({**rows[0], "id": "new", **one})
        refused = drovik("import", str(theirs.folder))
        said = "cases.csv: case 'new' has what a CSV file has no column or no type for"
        assert (refused.code, said in refused.err) == (2, True), one
    assert table.read_bytes() == before


def test_what_cannot_be_imported_is_said_and_nothing_is_written(drovik: Drovik, serve: Serve, tmp_path: Path) -> None:
    other_project(drovik.folder, serve, cases=2)
    before = (drovik.folder / "cases.jsonl").read_bytes()
    with zipfile.ZipFile(tmp_path / "out.zip", "w") as bundle:
        bundle.writestr("drovik.toml", 'cases = "cases.jsonl"')
        bundle.writestr("../escaped.txt", "x")
    with zipfile.ZipFile(tmp_path / "other.zip", "w") as bundle:
        bundle.writestr("notes.txt", "x")
    (tmp_path / "broken.zip").write_bytes(b"PK\x03\x04 and no more")
    (tmp_path / "empty").mkdir()
    (tmp_path / "a.png").write_bytes(b"")
    (tmp_path / "unknown.jsonl").write_text('{"id": "a", "images": ["a.png"], "expected": {"sotr": {}}}\n')
    for name, path in (("private", "../secret"), ("absolute", "/etc/passwd"), ("linked", "linked.jpg")):
        (tmp_path / f"{name}.jsonl").write_text(json.dumps({"id": "a", "images": [path]}) + "\n")
    (tmp_path.parent / "secret").write_text("x")
    (tmp_path / "linked.jpg").symlink_to("/etc/passwd")
    (tmp_path / "none.jsonl").write_text('{"id": "a", "images": ["a.jpg"]}\n')
    (tmp_path / "cells.csv").write_text('id,images\na,"[""a.jpg"\n')
    (tmp_path / "notes.txt").write_text("x")
    written = pyarrow.table({"id": ["a", "b"], "images": ['["a.png"]', '["b.png']})
    pyarrow.parquet.write_table(written, tmp_path / "rows.parquet")
    with sqlite3.connect(tmp_path / "rows.sqlite") as table:
        table.execute("CREATE TABLE cases (id TEXT, images TEXT)")
        table.executemany("INSERT INTO cases VALUES (?, ?)", [("a", '["a.png"]'), ("b", '["b.png')])
    for source, said in (
        ("out.zip", "holds a file that would lie elsewhere: ../escaped.txt"),
        ("broken.zip", "cannot be unpacked"),
        ("empty", "holds no project that can be read"),
        ("other.zip", "other.zip: holds no project that can be read"),
        ("unknown.jsonl", "has expected outputs for tasks that this project does not have: sotr; add those tasks"),
        ("none.jsonl", "line 1: the picture a.jpg is not there"),
        ("private.jsonl", "line 1: the picture ../secret lies outside of the folder of the cases"),
        ("absolute.jsonl", "line 1: the picture /etc/passwd lies outside of the folder of the cases"),
        ("linked.jsonl", "line 1: the picture linked.jpg lies outside of the folder of the cases"),
        ("cells.csv", "line 2: a cell is not JSON"),
        ("rows.sqlite", "row 2: a cell is not JSON"),
        ("rows.parquet", "row 2: a cell is not JSON"),
        ("notes.txt", "is not a table"),
        ("nothing", "nothing: this file does not exist"),
        ("nothing.csv", "nothing.csv: no such file"),
    ):
        found = drovik("import", str(tmp_path / source))
        assert (found.code, said in found.err) == (2, True), found.err
        assert len(found.err.splitlines()) == 1
    assert (drovik.folder / "cases.jsonl").read_bytes() == before
    assert not (tmp_path.parent / "escaped.txt").exists()
