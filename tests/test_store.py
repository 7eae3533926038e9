"""A store that is damaged, gone, emptied, replaced, newer or read-only: one line, nothing bought again, nothing lost."""

from __future__ import annotations

import contextlib
import errno
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, StandInProcess, demo_on_port, good
from test_kill import wait_until
from test_safety import rows

from drovik.errors import StoreDamaged, StoreError, StoreFull, StoreGone, StoreLocked
from drovik.store import database
from drovik.store.database import open_database, store_error, transaction
from drovik.store.kept_scores import KeptScores
from drovik.store.pages import rows_on_pages

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]
SORT = ("--task", "sort", "--arm", "fulmar/v1")
STORE = ".drovik/answers.sqlite"


@pytest.fixture
def sent(drovik: Drovik, serve: Serve) -> tuple[Drovik, FakeService]:
    """A project of 40 cases that are answered."""
    service = serve(lambda n, body: good('{"kind": "cap"}', padding="x" * 2000))
    demo_on_port(drovik.folder, service.port, cases=40)
    assert drovik("send", *SORT).code == 0
    return drovik, service


def one_line(result: Any, code: int = 2) -> str:
    assert result.code == code, result.out + result.err
    assert len(result.err.splitlines()) == 1, result.err
    return str(result.err)


# Gone, emptied, newer.


@pytest.mark.parametrize("how", ["deleted", "emptied"])
def test_a_store_that_is_gone_is_not_bought_again_without_a_word(how: str, sent: tuple[Drovik, FakeService]) -> None:
    drovik, service = sent
    store = drovik.folder / STORE
    copy = store.read_bytes()
    for ending in ("-wal", "-shm"):
        Path(f"{store}{ending}").unlink(missing_ok=True)
    store.unlink() if how == "deleted" else store.write_bytes(b"")
    for words in (("send", *SORT), ("score",), ("quote",), ("report",)):
        assert f"{'gone' if how == 'deleted' else 'empty'}, and held answers before; restore a copy" in one_line(
            drovik(*words)
        )
    assert len(service.requests) == 40
    store.write_bytes(copy)
    assert drovik("send", *SORT, "--json").json["to_send"] == 0
    store.unlink()
    (drovik.folder / ".drovik/answers.id").unlink()
    assert drovik("send", *SORT, "--json").json["answered"] == 40


def test_a_store_of_an_older_version_is_taken_over_change_by_change(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """From the first on, which counted no looks at held-out scores, and by a made-up change to a next one."""
    path = tmp_path / ".drovik" / "answers.sqlite"
    first = open_database(path)
    for name in first.connection.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        first.connection.execute(f"DROP TRIGGER {name[0]}")
    for table in ("held_out_looks", "revision", "judged", "outputs"):
        first.connection.execute(f"DROP TABLE {table}")
    first.connection.execute("INSERT INTO requests VALUES ('a', '{}')")
    first.connection.execute("PRAGMA user_version = 1")
    first.close()
    changes = {**database.CHANGES, 4: ("ALTER TABLE requests ADD COLUMN made_up TEXT",)}
    monkeypatch.setattr(database, "VERSION", 5)
    monkeypatch.setattr(database, "CHANGES", changes)
    taken_over = open_database(path)
    assert taken_over.id == first.id
    assert taken_over.connection.execute("SELECT * FROM requests").fetchall() == [("a", "{}", None)]
    assert taken_over.connection.execute("SELECT COUNT(*) FROM held_out_looks").fetchone() == (0,)
    assert taken_over.connection.execute("PRAGMA user_version").fetchone() == (5,)
    assert KeptScores(taken_over.connection).revision() == 1
    taken_over.connection.execute(
        "INSERT INTO attempts (identity, round, try, endpoint, started) VALUES ('a', 1, 1, '', '')"
    )
    assert KeptScores(taken_over.connection).revision() == 2, "changes are counted from then on"
    taken_over.close()
    monkeypatch.setattr(database, "VERSION", 6)
    with pytest.raises(StoreError, match=r"store version 5, here 6"):
        open_database(path)


def test_a_store_of_a_newer_version_is_one_line(sent: tuple[Drovik, FakeService]) -> None:
    drovik, service = sent
    store = sqlite3.connect(drovik.folder / STORE)
    store.execute("PRAGMA user_version = 99")
    store.close()
    for words in (("send", *SORT), ("score",), ("show", "lp-001"), ("report",)):
        assert "was made by another version of Drovik (store version 99" in one_line(drovik(*words))
    assert len(service.requests) == 40


def test_a_store_deleted_while_sending_is_written_again_with_all_that_came(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        if number == 6:
            shutil.rmtree(drovik.folder / ".drovik")
        time.sleep(0.2)
        return good('{"kind": "cap"}')

    service = serve(decide)
    demo_on_port(drovik.folder, service.port, cases=30, limits="concurrency = 4, timeout = 30")
    result = drovik("send", *SORT, "--quiet")
    assert "was deleted or replaced while it was in use" in one_line(result)
    asked = len(service.requests)
    assert asked < 30
    assert len(rows(drovik.folder, "SELECT 1 FROM replies")) == asked
    assert drovik("send", *SORT, "--json").json["answered"] == 30 - asked
    assert len(service.requests) == 30


# Damaged.


def damage(path: Path, pages: list[int]) -> None:
    store = sqlite3.connect(path)
    store.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    size = store.execute("PRAGMA page_size").fetchone()[0]
    store.close()
    with path.open("r+b") as file:
        for page in pages:
            file.seek((page - 1) * size)
            file.write(os.urandom(size))


def leaf_pages(path: Path, table: str) -> list[int]:
    """The pages that hold rows of a table, as SQLite's own statistics tell; else by trying."""
    store = sqlite3.connect(path)
    root = store.execute("SELECT rootpage FROM sqlite_master WHERE name = ?", (table,)).fetchone()[0]
    size = store.execute("PRAGMA page_size").fetchone()[0]
    data = path.read_bytes()
    page = data[(root - 1) * size : root * size]
    store.close()
    assert page[0] == 5, "the table has one page only"  # an interior page of a table (SQLite's file format, 1.6)
    count = int.from_bytes(page[3:5], "big")
    cells = [int.from_bytes(page[12 + 2 * at : 14 + 2 * at], "big") for at in range(count)]
    return [int.from_bytes(page[cell : cell + 4], "big") for cell in cells]


def test_a_damaged_store_is_found_and_what_can_be_read_is_saved(sent: tuple[Drovik, FakeService]) -> None:
    drovik, service = sent
    store = drovik.folder / STORE
    whole = drovik("store", "check", "--json")
    assert whole.code == 0
    assert whole.json["rows"]["replies"] == 40
    with contextlib.closing(sqlite3.connect(store, isolation_level=None)) as connection:
        connection.execute("DELETE FROM answers WHERE identity > '8'")
    damage(store, [])
    pages = leaf_pages(store, "replies")
    damage(store, pages[3:5])
    assert "is damaged" in drovik("score", *SORT).err + drovik("send", *SORT).err
    checked = drovik("store", "check")
    assert checked.code == 1
    assert "drovik store repair" in checked.out
    repaired = drovik("store", "repair", "--json")
    assert repaired.code == 1
    lost = 40 - repaired.json["saved"]["replies"]
    assert 0 < lost < 12
    read = lost - repaired.json["to_send"]
    assert f"replies: {lost} replies could not be read" in repaired.json["missing"][0]
    kept = [f"{read} of these replies have been read: their answers are kept"] if read else []
    assert repaired.json["missing"][1:] == kept
    assert (drovik.folder / ".drovik" / repaired.json["kept"]).exists()
    assert drovik("store", "check").code == 0
    assert drovik("send", *SORT, "--json").json["answered"] == repaired.json["to_send"]
    assert len(service.requests) == 40 + repaired.json["to_send"]
    assert drovik("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"] == {"ok": 40}


def test_what_a_store_raises_is_told_by_its_class(tmp_path: Path) -> None:
    """A program that uses the package waits for a held store, and does not for a damaged one."""
    path = tmp_path / ".drovik" / "answers.sqlite"
    database = open_database(path)
    with contextlib.closing(sqlite3.connect(path, isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        database.connection.execute("PRAGMA busy_timeout = 0")
        with pytest.raises(StoreLocked), transaction(database.connection):
            pass
    database.close()
    full = OSError(errno.ENOSPC, "full")
    assert type(store_error(full)) is StoreFull
    path.write_bytes(b"something else entirely" * 50)
    with pytest.raises(StoreDamaged):
        open_database(path)
    path.unlink()
    with pytest.raises(StoreGone):
        open_database(path)


@pytest.mark.parametrize(
    "tables", [("requests",), ("replies",), ("attempts", "asked"), ("requests", "replies", "attempts")]
)
def test_rows_are_saved_whose_table_has_lost_its_root(
    tables: tuple[str, ...], sent: tuple[Drovik, FakeService]
) -> None:
    drovik, service = sent
    path = drovik.folder / STORE
    with contextlib.closing(sqlite3.connect(path)) as store:
        before = {table: set(store.execute(f"SELECT * FROM {table}")) for table in tables}
        roots = dict(store.execute("SELECT name, rootpage FROM sqlite_master WHERE type = 'table'"))
    damage(path, [roots[table] for table in tables])
    with contextlib.closing(sqlite3.connect(path)) as store, pytest.raises(sqlite3.DatabaseError):
        store.execute(f"SELECT * FROM {tables[0]}").fetchall()
    repaired = drovik("store", "repair", "--json").json
    with contextlib.closing(sqlite3.connect(path)) as store:
        after = {table: set(store.execute(f"SELECT * FROM {table}")) for table in tables}
    for table in tables:  # of a table of few bytes the root is all there is; in others it holds a row or none
        assert after[table] <= before[table]
        assert len(before[table]) - len(after[table]) <= (8 if table in ("requests", "asked") else 0), table
    assert drovik("send", *SORT, "--json").json["answered"] == repaired["to_send"] == 0
    assert len(service.requests) == 40


def test_a_page_gives_the_rows_that_sqlite_reads(tmp_path: Path) -> None:
    path = tmp_path / "any.sqlite"
    chance = random.Random(3)
    with contextlib.closing(sqlite3.connect(path)) as store:
        store.execute("CREATE TABLE numbered (id INTEGER PRIMARY KEY, a, b, c)")
        store.execute("CREATE TABLE keyed (a PRIMARY KEY, b, c) WITHOUT ROWID")
        values = [None, 0, 1, -1, 127, -129, 2**15, -(2**23) - 1, 2**40, -(2**62), 0.5, -1e300, "", "Ähre", b"\0\xff"]
        long = [chance.choice("aé") * chance.randrange(20_000) for _ in range(30)]
        for number in range(600):
            a, b, c = (chance.choice(values + long) for _ in range(3))
            store.execute("INSERT INTO numbered VALUES (?, ?, ?, ?)", (number**4 - 50, a, b, c))
            store.execute("INSERT INTO keyed VALUES (?, ?, ?)", (f"{number}{a!r}"[:5000], b, c))
        store.execute("DELETE FROM numbered WHERE id % 3 = 0")
        store.commit()
        rows = set(store.execute("SELECT * FROM numbered"))
        keyed = set(store.execute("SELECT * FROM keyed"))
    found = list(rows_on_pages(path))
    assert {(number, *values[1:]) for number, values in found if number is not None and len(values) == 4} == rows
    assert {values for number, values in found if number is None and len(values) == 3} == keyed


@pytest.mark.parametrize("content", [b"", b"no store", b"SQLite format 3\0" + b"\0" * 4000])
def test_what_is_no_store_is_one_line(content: bytes, drovik: Drovik) -> None:
    demo_on_port(drovik.folder, 1, cases=2)
    assert "there is no store here" in one_line(drovik("store", "check"))
    (drovik.folder / ".drovik").mkdir()
    (drovik.folder / STORE).write_bytes(content)
    if content:
        assert "is damaged" in drovik("send", *SORT).err
        assert drovik("store", "check").code == 1
        assert "nothing in it can be read" in one_line(drovik("store", "repair"))


# Read-only.


@pytest.fixture
def read_only(tmp_path: Path, sent: tuple[Drovik, FakeService]) -> Iterator[Drovik]:
    """The answered project on a disk that cannot be written."""
    drovik, _ = sent
    disk = tmp_path / "disk"
    disk.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=30m", "tmpfs", str(disk)], capture_output=True).returncode:
        pytest.skip("a disk cannot be mounted here")
    shutil.copytree(drovik.folder, disk / "project")
    (tmp_path / "own").mkdir()
    subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
    yield Drovik(disk / "project", tmp_path / "own")
    subprocess.run(["umount", "-l", str(disk)], check=True)


def test_somebody_elses_database_is_never_made_a_store(sent: tuple[Drovik, FakeService]) -> None:
    """Whoever copies a store from or to a wrong file still has that file as it was."""
    drovik, _ = sent
    own, notes = drovik.folder / "own.db", drovik.folder / "notes.txt"
    with contextlib.closing(sqlite3.connect(own)) as link:
        link.execute("CREATE TABLE mine (a)")
    notes.write_text("my own")
    before = own.read_bytes(), notes.read_bytes()
    for words, said in (
        (("own.db", "new.db"), "own.db: is a database, and no store of Drovik's; move it away, or name another file"),
        ((".", "own.db"), "own.db: is a database, and no store of Drovik's; move it away, or name another file"),
        (("notes.txt", "new.db"), "notes.txt: is no store, or is damaged; name another file"),
        ((".", "notes.txt"), "notes.txt: is no store, or is damaged; name another file"),
    ):
        done = drovik("store", "copy", *words)
        assert (done.code, done.err) == (2, f"{said}\n")
    assert (own.read_bytes(), notes.read_bytes()) == before
    assert not (drovik.folder / "new.db").exists()


def test_a_read_only_project_is_scored_shown_and_reported(read_only: Drovik, tmp_path: Path) -> None:
    copies = set(Path(tempfile.gettempdir()).glob("drovik-*/answers.sqlite"))  # of programs that were killed
    assert read_only("score", *SORT, "--json").json["tasks"]["sort"][0]["statuses"] == {"ok": 40}
    assert read_only("show", "lp-001", *SORT).code == 0
    assert read_only("report", *SORT, "--out", str(tmp_path / "page.html")).code == 0
    assert "report.html: cannot be written: Read-only file system" in one_line(read_only("report", *SORT))
    assert "cannot be written: it is read-only" in one_line(read_only("send", *SORT))
    assert set(Path(tempfile.gettempdir()).glob("drovik-*/answers.sqlite")) <= copies


# Rescue files.


def rescued(drovik: Drovik, service: FakeService) -> Path:
    """A rescue file of replies that could not be put into the store: its table of replies went away."""

    def breaking(n: int, body: dict[str, Any]) -> Reply:
        if n == len(service.requests) - 1 and not broken.is_set():
            broken.set()
            with contextlib.closing(sqlite3.connect(drovik.folder / STORE, timeout=10)) as store:
                store.execute("ALTER TABLE replies RENAME TO elsewhere")
        time.sleep(0.3)
        return good('{"kind": "hat"}')

    broken = threading.Event()
    service.decide = breaking
    assert drovik("send", *SORT, "--resend", "ok", "--quiet").code == 2
    with sqlite3.connect(drovik.folder / STORE) as store:
        store.execute("ALTER TABLE elsewhere RENAME TO replies")
    (path,) = (drovik.folder / ".drovik").glob("rescued-*.jsonl")
    return path


def test_a_rescue_file_is_taken_in_only_where_store_and_question_fit(sent: tuple[Drovik, FakeService]) -> None:
    drovik, service = sent
    path = rescued(drovik, service)
    assert path.stat().st_mode & 0o777 == 0o600
    lines = path.read_text().splitlines()
    assert len(lines) >= 1
    other = json.loads(lines[0])
    before = rows(drovik.folder, "SELECT COUNT(*) FROM replies")
    wrong_question = other | {"identity": "f" * 64}
    wrong_store = other | {"store": "0" * 32}
    path.write_text(
        "\n".join([json.dumps(wrong_question), json.dumps(wrong_store), "{", "[" * 50_000, *lines]) + "\n"
    )
    taken = drovik("send", *SORT)
    assert "4 of its rows are broken or belong to another store" in taken.err
    assert rows(drovik.folder, "SELECT COUNT(*) FROM replies")[0][0] == before[0][0] + len(lines)
    assert path.with_suffix(".unfit").exists()
    assert not path.exists()


def test_a_store_moved_away_leaves_no_answers_to_the_next(sent: tuple[Drovik, FakeService]) -> None:
    drovik, service = sent
    rescued(drovik, service)
    for name in ("answers.sqlite", "answers.sqlite-wal", "answers.sqlite-shm", "answers.id"):
        (drovik.folder / ".drovik" / name).unlink(missing_ok=True)
    case = (drovik.folder / "cases.jsonl").read_text().splitlines()
    (drovik.folder / "cases.jsonl").write_text("\n".join(case[::-1]) + "\n")
    again = drovik("send", *SORT)
    assert again.code == 0
    assert "belong to another store" in again.err
    assert rows(drovik.folder, "SELECT COUNT(*) FROM replies") == [(40,)]


def test_nothing_in_the_temporary_folder_is_believed(sent: tuple[Drovik, FakeService]) -> None:
    drovik, _ = sent
    with sqlite3.connect(drovik.folder / STORE) as store:
        id_ = store.execute("SELECT id FROM store").fetchone()[0]
        number, identity = store.execute("SELECT id, identity FROM attempts LIMIT 1").fetchone()
    row = {"store": id_, "attempt": number, "identity": identity, "outcome": "failed", "concluded": 1, "seconds": 1.0,
           "note": "planted", "reply": None}  # fmt: skip
    planted = Path(tempfile.gettempdir()) / f"rescued-{id_}-1.jsonl"
    beside = drovik.folder / ".drovik" / f"rescued-{id_}-2.jsonl"
    planted.write_text(json.dumps(row) + "\n")
    beside.symlink_to(planted)
    try:
        assert drovik("send", *SORT).code == 0
        assert rows(drovik.folder, "SELECT COUNT(*) FROM attempts WHERE note = 'planted'") == [(0,)]
    finally:
        planted.unlink()


def test_a_rescue_file_goes_to_the_users_own_folder_where_the_stores_cannot_be_written(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from drovik.store.rescue import rescue_reply

    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    row = {
        "attempt": 1,
        "identity": "a",
        "outcome": "answered",
        "concluded": 1,
        "seconds": 0.1,
        "note": "",
        "reply": None,
    }
    where = rescue_reply(tmp_path / "not" / "there", "id", [row])
    assert where is not None
    assert where.is_relative_to(tmp_path / "data/drovik/rescued")
    assert where.parent.stat().st_mode & 0o777 == 0o700
    assert where.stat().st_mode & 0o777 == 0o600


# Signals.


def test_a_closed_terminal_stops_as_a_termination_does(
    drovik: Drovik, start_standin: Callable[..., StandInProcess]
) -> None:
    standin = start_standin("--slow", "0.3")
    folder = demo_on_port(drovik.folder, standin.port, cases=40, limits="concurrency = 4, timeout = 30")
    process = drovik.start("send", *SORT)
    wait_until(lambda: len(standin.entries()) >= 4)
    process.send_signal(signal.SIGHUP)
    process.communicate(timeout=20)
    assert process.returncode == 130
    asked = len(standin.entries())
    assert asked < 40
    assert rows(folder, "SELECT COUNT(*) FROM replies") == [(asked,)]


def test_what_came_during_a_stop_longer_than_the_time_out_is_read(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: time.sleep(0.5) or good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=12, limits="concurrency = 4, timeout = 1.5, max_tries = 1")
    process = drovik.start("send", *SORT, "--json")
    wait_until(lambda: len(service.requests) >= 4)
    process.send_signal(signal.SIGSTOP)
    time.sleep(2.5)
    process.send_signal(signal.SIGCONT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 0, err
    assert json.loads(out)["troubles"] == {}
    assert len(service.requests) == 12


@pytest.mark.long
def test_what_a_stopped_sender_claimed_is_free_after_its_lease(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: time.sleep(0.5) or good('{"kind": "cap"}'))
    demo_on_port(drovik.folder, service.port, cases=12, limits="concurrency = 4, timeout = 1.5, max_tries = 3")
    first = drovik.start("send", *SORT, "--json")
    wait_until(lambda: len(service.requests) >= 4)
    first.send_signal(signal.SIGSTOP)
    second = drovik.start("send", *SORT, "--json")
    out, err = second.communicate(timeout=60)
    assert second.returncode == 0, err
    found = json.loads(out)
    assert found["answered"] + found["elsewhere"] == 12
    first.send_signal(signal.SIGCONT)
    out, err = first.communicate(timeout=60)
    assert first.returncode == 0, err
    assert rows(drovik.folder, "SELECT COUNT(*) FROM attempts WHERE outcome IS NULL OR outcome = 'timeout'") == [(0,)]
    answered = Counter(row[0] for row in rows(drovik.folder, "SELECT identity FROM attempts WHERE concluded = 1"))
    assert len(answered) == 12
    assert sum(answered.values()) <= 16, "only what was under way during the stop may have been asked by both"
