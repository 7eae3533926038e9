"""A person's own table: pictures by a column, answers into empty cells, and nothing else of the file touched."""

from __future__ import annotations

import csv
import json
import shutil
import signal
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, Reply
from test_ask import IMAGES, text_of
from test_endpoint import reply, set_up

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]


@pytest.fixture
def desk(drovik: Drovik, serve: Serve) -> FakeService:
    """A service that says which question it got, as two fields where it is asked for JSON."""

    def answer(number: int, body: dict[str, Any]) -> Reply:
        asked = text_of(body)
        if "JSON" in asked:
            return reply(
                {
                    "answer": json.dumps(
                        {"company": f"Company, {number + 1}", "street": None if number == 1 else "=Quay 3"}
                    )
                }
            )
        return reply({"answer": f"Answer to {asked}"})

    service = serve(answer)
    set_up(drovik, f"http://127.0.0.1:{service.port}", more="limits = { concurrency = 1 }")
    (drovik.folder / "cards").mkdir()
    for name in ("lp-001.jpg", "lp-002.jpg", "lp-003.png"):
        shutil.copy(IMAGES / name, drovik.folder / "cards" / name)
    return service


def test_only_empty_cells_are_filled_and_all_else_stays_as_it_was(drovik: Drovik, desk: FakeService) -> None:
    before = '\ufeffno;photo;"company";street\r\n7;cards/lp-001.jpg;;\r\n"8";cards/lp-002.jpg;"Mine; ""own""";\r\n9;;;\r\n10;cards/lp-003.png;There;Too\r\n'
    table = drovik.folder / "t.csv"
    table.write_bytes(before.encode())
    done = drovik("ask", "--rows", "t.csv", "--picture", "photo", "--fill", "company,street", "Read the card.")
    assert done.code == 0, done.err
    assert "2 cells filled" in done.out
    assert table.read_bytes().decode() == before.replace("lp-001.jpg;;", "lp-001.jpg;Company, 1;'=Quay 3")
    assert len(desk.requests) == 2  # what is full, and what has no picture, is not asked about
    assert not list(drovik.folder.glob(".t.csv*"))


def test_other_columns_are_in_the_question_and_a_new_table_leaves_the_old_one_alone(
    drovik: Drovik, desk: FakeService
) -> None:
    table = drovik.folder / "t.tsv"
    table.write_text("photo\tkind\ncards/lp-001.jpg\tcap\ncards/lp-002.jpg\that\nnowhere.jpg\tbag\n")
    words = (
        "ask",
        "--rows",
        "t.tsv",
        "--picture",
        "photo",
        "--fill",
        "seen",
        "--into",
        "new.tsv",
        "Is it a {{ kind }}?",
    )
    done = drovik(*words)
    assert "row 4: nowhere.jpg: no such picture" in done.err
    assert "seen" not in table.read_text()
    assert (drovik.folder / "new.tsv").read_text() == (
        "photo\tkind\tseen\ncards/lp-001.jpg\tcap\tAnswer to Is it a cap?\ncards/lp-002.jpg\that\tAnswer to Is it a hat?\n"
        "nowhere.jpg\tbag\t\n"
    )
    drovik(*words)
    assert len(desk.requests) == 2  # it goes on with the new table
    assert "a column 'kin'" in drovik(*words[:-1], "Is it a {{ kin }}?").err


def test_a_kill_loses_nothing_that_came(drovik: Drovik, serve: Serve) -> None:
    killed = threading.Event()

    def slow(number: int, body: dict[str, Any]) -> Reply:
        if number == 2:
            killed.wait(30)
        return reply({"answer": f"Answer {number + 1}"})

    service = serve(slow)
    set_up(drovik, f"http://127.0.0.1:{service.port}", more="limits = { concurrency = 1 }")
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "a.jpg")
    before = "photo,who,says\na.jpg,x,\na.jpg,y,\na.jpg,x,\na.jpg,z,\n"
    table = drovik.folder / "t.csv"
    table.write_text(before)
    words = [PROGRAM, "ask", "--rows", "t.csv", "--picture", "photo", "--fill", "says", "Is it {{ who }}?"]
    running = subprocess.Popen(words, env=drovik.environment, cwd=drovik.folder)
    journal = drovik.folder / ".t.csv.answers"
    gives_up = time.monotonic() + 20
    while time.monotonic() < gives_up and not (journal.exists() and len(journal.read_text().splitlines()) == 3):
        time.sleep(0.05)
    running.send_signal(signal.SIGKILL)
    running.wait(10)
    killed.set()
    assert table.read_text() == before
    done = drovik(*words[1:])
    assert done.code == 0, done.err
    rows = list(csv.DictReader(table.open()))
    first, second, third, last = (row["says"] for row in rows)
    assert (first, second, third) == ("Answer 1", "Answer 2", "Answer 1")  # the same is asked once
    assert last.startswith("Answer ")
    assert not journal.exists()


def test_a_list_in_the_answer_becomes_rows(drovik: Drovik, serve: Serve) -> None:
    answer = {"courses": [{"name": "Soup", "price": {"amount": 4.5}}, {"name": "Bread", "with": ["salt"]}]}
    service = serve(lambda n, b: reply({"answer": json.dumps(answer)}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "a.jpg")
    (drovik.folder / "t.csv").write_text("id,photo\n1,a.jpg\n")
    done = drovik(
        "ask",
        "--rows",
        "t.csv",
        "--picture",
        "photo",
        "--explode",
        "/courses",
        "--into",
        "c.csv",
        "--json-answer",
        "Read it.",
    )
    assert done.code == 0, done.err
    rows = list(csv.DictReader((drovik.folder / "c.csv").open()))
    assert rows == [
        {"id": "1", "photo": "a.jpg", "name": "Soup", "price.amount": "4.5", "with": ""},
        {"id": "1", "photo": "a.jpg", "name": "Bread", "price.amount": "", "with": '["salt"]'},
    ]


def test_a_workbook_is_filled_too(drovik: Drovik, desk: FakeService) -> None:
    import openpyxl

    book = openpyxl.Workbook()
    book.active.append(["photo", "company", "street"])
    book.active.append(["cards/lp-001.jpg", None, None])
    book.save(drovik.folder / "t.xlsx")
    assert drovik("ask", "--rows", "t.xlsx", "--picture", "photo", "--fill", "company,street", "Read.").code == 0
    sheet = openpyxl.load_workbook(drovik.folder / "t.xlsx").active
    assert [cell.value for cell in sheet[2]] == ["cards/lp-001.jpg", "Company, 1", "'=Quay 3"]


@pytest.mark.parametrize(
    ("content", "words", "line"),
    [
        ("photo,a\nx.jpg,\n", ("--picture", "pic", "--fill", "a"), "there is no column 'pic'; known here: photo, a"),
        ("photo,a\nx.jpg,\n", ("--fill", "a"), "--rows needs the column of the picture"),
        ("", ("--picture", "photo", "--fill", "a"), "is empty"),
        ('photo,a\n"x.jpg,\n', ("--picture", "photo", "--fill", "a"), "line 2: a quote is not closed"),
        ("photo,a\nx.jpg,1,2\n", ("--picture", "photo", "--fill", "a"), "row 2: has 3 cells"),
        ("photo,a\nx.jpg,\n", ("--picture", "photo", "--explode", "/a"), "--explode makes rows"),
        ("photo,a\nx.jpg,\n", ("--picture", "photo", "--fill", "a", "--keep", "a/b"), "--rows and --keep both"),
        ("photo,a\nx.jpg,\n", ("--picture", "photo", "--fill", "a"), "no row has a picture that can be had"),
    ],
)  # fmt: skip
def test_what_cannot_be_filled_is_one_line_and_the_table_stays(
    drovik: Drovik, desk: FakeService, content: str, words: tuple[str, ...], line: str
) -> None:
    (drovik.folder / "t.csv").write_text(content)
    done = drovik("ask", "--rows", "t.csv", *words, "What is it?")
    assert done.code == 2
    assert line in done.err
    assert (drovik.folder / "t.csv").read_text() == content
    assert desk.requests == []


def test_a_table_that_changed_meanwhile_is_not_written_over(drovik: Drovik, serve: Serve) -> None:
    table = drovik.folder / "t.csv"

    def meddling(number: int, body: dict[str, Any]) -> Reply:
        if number == 0:
            table.write_text("photo,says,more\na.jpg,,x\n")
        return reply({"answer": "A cap."})

    service = serve(meddling)
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "a.jpg")
    table.write_text("photo,says\na.jpg,\n")
    words = ("ask", "--rows", "t.csv", "--picture", "photo", "--fill", "says", "What is it?")
    refused = drovik(*words)
    assert "was changed meanwhile, so nothing was written" in refused.err
    assert Path(table).read_text() == "photo,says,more\na.jpg,,x\n"
    assert drovik(*words).code == 0
    assert "A cap." in table.read_text()
