"""`drovik ask`: by hand, without a project: pictures from anywhere, answers to anywhere, and on into a project."""

from __future__ import annotations

import csv
import json
import shutil
import sqlite3
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, FakeService, Reply
from test_endpoint import DIALECT, reply, set_up

IMAGES = Path(__file__).parents[1] / "src/drovik/demo/project/images"
Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]


def pictures_of(body: dict[str, Any]) -> list[str]:
    return [part["p"] for part in body["talk"] if "p" in part]


def text_of(body: dict[str, Any]) -> str:
    return "\n".join(part["t"] for part in body["talk"] if "t" in part)


@pytest.fixture
def photos(drovik: Drovik) -> Path:
    folder = drovik.folder / "photos"
    folder.mkdir()
    for name in ("lp-001.jpg", "lp-002.jpg", "lp-003.png"):
        shutil.copy(IMAGES / name, folder / name)
    (folder / "notes.txt").write_text("no picture")
    return folder


@pytest.fixture
def web() -> Iterator[str]:
    """The demo's pictures at an address; `/on` sends on to one, `/huge` never ends, `/page` is not a picture."""

    class Handler(SimpleHTTPRequestHandler):
        def __init__(self, *words: Any) -> None:
            super().__init__(*words, directory=str(IMAGES))

        def do_GET(self) -> None:
            if self.path == "/on":
                self.send_response(302)
                self.send_header("Location", "/lp-001.jpg")
                self.end_headers()
            elif self.path == "/huge":
                self.send_response(200)
                self.end_headers()
                try:
                    while True:
                        self.wfile.write(b"x" * 1_000_000)
                except OSError:
                    pass
            elif self.path == "/page":
                self.send_response(200)
                self.end_headers()
                self.wfile.write(b"<html>")
            else:
                super().do_GET()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"127.0.0.1:{server.server_address[1]}"
    server.shutdown()


def test_pictures_come_from_files_addresses_and_standard_input(
    drovik: Drovik, serve: Serve, photos: Path, web: str
) -> None:
    import base64

    service = serve(lambda n, b: reply({"answer": "A bottle."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    for words in (["photos/lp-001.jpg"], [f"http://{web}/lp-001.jpg"], [f"{web}/on"]):
        assert drovik("ask", *words, "What is it?").out == "A bottle.\n"
    piped = subprocess.run([PROGRAM, "ask", "-", "What is it?"], input=(photos / "lp-001.jpg").read_bytes(),
                           capture_output=True, env=drovik.environment, cwd=drovik.folder)  # fmt: skip
    assert piped.stdout == b"A bottle.\n"
    sent = [pictures_of(body) for body in service.requests]
    assert sent[0] == sent[1] == sent[2] == sent[3]
    assert base64.b64decode(sent[0][0])[:2] == b"\xff\xd8"
    assert drovik("ask", "photos/lp-001.jpg").code == 0  # no question at all
    assert text_of(service.requests[-1]) == ""
    assert drovik("ask", "photos/lp-001.jpg", "photos/lp-003.png", "--together", "What differs?").code == 0
    assert len(pictures_of(service.requests[-1])) == 2


@pytest.mark.parametrize(
    ("words", "line"),
    [
        (["nope.jpg", "What is it?"], "nope.jpg: no such picture; correct its name"),
        (["What is", "it?"], "What is: no such picture"),
        ([], "there is nothing to ask; name a picture and a question"),
        (["WEB/none.jpg", "What?"], "cannot be fetched: status 404; check the URL"),
        (["WEB/huge", "What?"], "cannot be fetched: the picture is larger than 50 MB"),
        (["WEB/page", "What?"], "is not a picture"),
        (["photos/notes.txt", "What?"], "is not a picture"),
        (["photos/lp-001.jpg", "What?", "--model", "auk"], "there is no model 'auk'; known here: m"),
        (["photos/lp-001.jpg", "What?", "--temperature", "0.5"], "'temperature' would not be sent"),
        (["photos/lp-001.jpg", "What?", "--prep", "tiny"], "there is no prep 'tiny'"),
        (["photos/lp-001.jpg", "What?", "--prep", "fit=3"], "--prep: 3 will not do"),
        (["photos/lp-001.jpg", "What?", "--field", "a:colour"], "there is no type 'colour'"),
        (["photos/lp-001.jpg", "What?", "--repeat", "0"], "--repeat is at least 1"),
        (["photos/lp-001.jpg", "What?", "--keep", "project"], "is not a project and task"),
        (
            ["photos/lp-001.jpg", "What?", "--keep", "mine/a"],
            "mine/cases.jsonl: is there already, and belongs to no project",
        ),
    ],
)
def test_what_cannot_be_asked_is_one_line(
    drovik: Drovik, serve: Serve, photos: Path, web: str, words: list[str], line: str
) -> None:
    service = serve(lambda n, b: reply({"answer": "A bottle."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    (drovik.folder / "mine").mkdir()
    (drovik.folder / "mine/cases.jsonl").write_text("{}\n")
    result = drovik("ask", *(word.replace("WEB", f"http://{web}") for word in words))
    assert result.code in (2, 3)
    assert line in result.err
    assert len(result.err.splitlines()) == 1
    assert service.requests == []


def test_without_any_model_the_way_to_one_is_told(drovik: Drovik) -> None:
    assert "learn a service first: drovik endpoint learn NAME" in drovik("ask", "What is it?").err


def test_fields_make_a_schema_and_the_answer_is_checked(drovik: Drovik, serve: Serve, photos: Path) -> None:
    service = serve(lambda n, b: reply({"answer": '```json\n{"street": 7}\n```'}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    result = drovik("ask", "photos/lp-001.jpg", "--field", "street", "--field", "number:integer", "Read it.")
    assert result.code == 1
    assert json.loads(result.out) == {"street": 7}
    assert "/street: " in result.err
    assert "number" in result.err
    asked = text_of(service.requests[0])
    assert asked.startswith("Read it.\n\nAnswer with nothing but JSON")
    assert json.loads(asked[asked.index("{") :])["required"] == ["street", "number"]


def test_several_models_and_times_stand_side_by_side_and_say_how_far_they_agree(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    service = serve(lambda n, b: reply({"answer": ["I see a cap.", "I see a hat."][n % 2]}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", more="limits = { concurrency = 1 }")
    home = Path(drovik.environment["XDG_CONFIG_HOME"]) / "drovik/drovik.toml"
    home.write_text(home.read_text() + '[models.other]\nendpoint = "it"\nid = "o-1"\n')
    found = drovik(
        "ask", "photos/lp-001.jpg", "What?", "--model", "m", "--model", "other", "--repeat", "2", "--json"
    ).json
    assert [(one["model"], one["time"]) for one in found["answers"]] == [
        ("m", 1),
        ("m", 2),
        ("other", 1),
        ("other", 2),
    ]
    # i, see, a, cap against i, see, a, hat: three of four words are common to both
    assert [one["agreement"] for one in found["agreement"]] == [0.75] * 2
    assert "agree to 75 %" in drovik("ask", "photos/lp-001.jpg", "What?", "--repeat", "2").out


def test_a_folder_goes_into_a_table_row_by_row_and_goes_on_where_it_ended(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    service = serve(lambda n, b: (500, {}, b"{}") if n == 1 else reply({"answer": "=A cap, red"}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", more="limits = { concurrency = 1, max_tries = 1 }")
    first = drovik("ask", "photos", "What is it?", "--table", "t.csv")
    assert first.code == 3
    assert "2 answers written, 1 without an answer" in first.out
    table = drovik.folder / "t.csv"
    with table.open("a") as file:
        file.write("photos/lp-003.png,m,1,ok,half a ro")  # a kill in the middle of a row
    second = drovik("ask", "photos", "What is it?", "--table", "t.csv")
    assert second.code == 0
    assert "2 were there already; 1 answer written" in second.out
    rows = list(csv.DictReader(table.open()))
    assert [row["picture"] for row in rows] == ["photos/lp-001.jpg", "photos/lp-002.jpg", "photos/lp-003.png"]
    assert {row["answer"] for row in rows} == {"'=A cap, red"}  # no spreadsheet takes it for a formula
    assert len(service.requests) == 4
    assert "3 were there already; 0 answers" in drovik("ask", "photos", "What is it?", "--table", "t.csv").out
    assert "3 answers written" in drovik("ask", "photos", "Another question?", "--table", "t.csv").out
    other = drovik("ask", "photos", "What is it?", "--field", "kind", "--table", "t.csv")
    assert "is a table with other columns; give another file" in other.err


def test_a_folder_goes_into_files_beside_each_name(drovik: Drovik, serve: Serve, photos: Path) -> None:
    service = serve(lambda n, b: reply({"answer": '{"kind": "cap"}'}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    drovik("ask", "photos", "What is it?", "--field", "kind", "--out", "answers")
    assert sorted(path.name for path in (drovik.folder / "answers").glob("*.json") if path.name[0] != ".") == [
        "lp-001.jpg.json",
        "lp-002.jpg.json",
        "lp-003.png.json",
    ]
    assert json.loads((drovik.folder / "answers/lp-001.jpg.json").read_text()) == {"kind": "cap"}
    (drovik.folder / "answers/lp-002.jpg.json").unlink()
    drovik(
        "ask",
        "photos/lp-001.jpg",
        "photos/lp-002.jpg",
        "What is it?",
        "--field",
        "kind",
        "--out",
        "answers",
    )
    assert len(service.requests) == 4


def test_what_was_tried_becomes_a_prompt_version_and_a_case_and_is_not_asked_again(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    service = serve(lambda n, b: reply({"answer": "A {{ cap }}."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    question = "What is {{ it }}, {% if %} {# that #}?"
    kept = drovik("ask", "photos/lp-001.jpg", "photos/lp-002.jpg", question, "--system", "Be short.",
                  "--keep", "desk/describe")  # fmt: skip
    assert "2 new cases; 2 answers came along" in kept.out, kept.err
    project = drovik.folder / "desk"
    assert drovik("check", "--project", "desk").out.startswith("Nothing is wrong: 2 cases")
    assert drovik("send", "--project", "desk", "--json").json["to_send"] == 0
    assert len(service.requests) == 2
    assert "A {{ cap }}." in drovik("show", "lp-001", "--project", "desk").out
    second = drovik("ask", "photos/lp-001.jpg", "Shorter?", "--keep", "desk/describe")
    assert "prompts/v2.toml, 0 new cases" in second.out
    assert (project / "tasks/describe/prompts/v2.toml").exists()
    sent = drovik("send", "--project", "desk", "--json").json
    assert (sent["to_send"], sent["answered_before"]) == (1, 3)
    assert text_of(service.requests[-1]) == "Shorter?"


def test_what_is_kept_has_the_maps_back_to_its_pictures(drovik: Drovik, serve: Serve, photos: Path) -> None:
    service = serve(lambda n, b: reply({"answer": "A cap."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    kept = drovik("ask", "photos/lp-001.jpg", "What?", "--prep", "fit=320", "--keep", "desk/describe")
    assert "1 answers came along" in kept.out or "1 answer came along" in kept.out, kept.out + kept.err
    with sqlite3.connect(drovik.folder / "desk/.drovik/answers.sqlite") as connection:
        (places,) = connection.execute("SELECT places FROM prepared").fetchone()
    assert json.loads(places)[0]["size"][0] == 320 or "320" in places


STREAM = DIALECT.replace('text = "$.answer"', 'form = "events"\ntext = "$.answer"\nend_mark = "END"')


@pytest.mark.parametrize(
    ("pieces", "out", "said"),
    [
        (["A cap,", " and it", " is red."], "A cap, and it is red.", ""),
        (["A cap,", None], "", "came to an end without a finish, after 1 pieces"),
        (["A cap,", {"problem": "the desk burns"}], "", "the desk burns"),
        (["the key is a-sec", "ret-key-77, they say"], "the key is [key], they say", ""),
    ],
)
def test_a_stream_is_shown_as_it_comes_and_only_a_whole_one_is_an_answer(
    drovik: Drovik, pieces: list[Any], out: str, said: str
) -> None:
    class Streams(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            self.rfile.read(int(self.headers["Content-Length"]))
            self.send_response(200)
            self.send_header("Content-Type", "text/event-stream")
            self.end_headers()
            for piece in pieces:
                if piece is not None:
                    tree = {"answer": piece} if isinstance(piece, str) else piece
                    self.wfile.write(f"data: {json.dumps(tree)}\n\n".encode())
                    time.sleep(0.05)
            if pieces[-1] is not None:
                self.wfile.write(b"data: END\n\n")

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Streams)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    set_up(
        drovik,
        f"http://127.0.0.1:{server.server_address[1]}",
        STREAM,
        'key_env = "IT_KEY"\nlimits = { max_tries = 1 }',
    )
    drovik.environment["IT_KEY"] = "a-secret-key-77"
    result = drovik("ask", "What is it?")
    server.shutdown()
    assert result.code == (0 if out else 3)
    assert result.out.strip() == out or not out
    assert said in result.err
    assert "a-secret-key-77" not in result.out + result.err


FULL = """
[request]
path = "/ask"
body = '{"of": "{model}", "rules": "{system?}", "talk": [{"each turn": [{"each part": [{"when part.text": {"t": "{part.text}"}}, {"when part.picture": {"p": "{part.base64}"}}]}]}], "warm": "{temperature?}", "room": "{max_output_tokens?}", "detail": "{extra.detail?}", "form": "{schema?}"}'
[reply]
text = "$.answer"
"""


def test_what_the_command_line_sets_is_sent_and_a_projects_model_goes_before_ones_own(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    import base64
    import io

    from PIL import Image

    service = serve(lambda n, b: reply({"answer": f"I am {b['of']}."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", FULL)
    words = (
        "--system",
        "Be short.",
        "--temperature",
        "0.5",
        "--max-output-tokens",
        "9",
        "--extra",
        "detail=high",
        "--prep",
        "fit=64,quality=50",
    )
    assert drovik("ask", "photos/lp-001.jpg", *words, "What?").out == "I am m-1.\n"
    body = service.requests[-1]
    assert {name: body[name] for name in ("of", "rules", "warm", "room", "detail")} == {
        "of": "m-1", "rules": "Be short.", "warm": 0.5, "room": 9, "detail": "high"}  # fmt: skip
    with Image.open(io.BytesIO(base64.b64decode(pictures_of(body)[0]))) as picture:
        assert max(picture.size) == 64
    drovik("ask", "photos/lp-001.jpg", "--field", "kind", "--extra", 'detail={"level": 2}', "What?")
    assert service.requests[-1]["form"]["required"] == ["kind"]  # the dialect has a place for the schema
    assert service.requests[-1]["detail"] == {"level": 2}
    assert drovik("ask", "--id", "another", "Who?").out == "I am another.\n"
    home = Path(drovik.environment["XDG_CONFIG_HOME"]) / "drovik"
    (home / "drovik.toml").write_text(
        (home / "drovik.toml").read_text() + '[models.other]\nendpoint = "it"\nid = "o-1"\n'
    )
    (drovik.folder / "dialects").mkdir()
    (drovik.folder / "dialects/it.toml").write_text(FULL.replace("/ask", "/here"))
    own = f'ask = "n"\n[endpoints.it]\nurl = "http://127.0.0.1:{service.port}"\ndialect = "it"\n[models.m]\nendpoint = "it"\nid = "mine"\n[models.n]\nendpoint = "it"\nid = "n-1"\n'
    (drovik.folder / "drovik.toml").write_text(own)
    assert drovik("ask", "Who?").out == "I am n-1.\n"
    assert service.paths[-1] == "/here"
    assert drovik("ask", "Who?", "--model", "m").out == "I am mine.\n"
    assert drovik("ask", "Who?", "--model", "other").out == "I am o-1.\n"
    (drovik.folder / "drovik.toml").write_text(own.replace('ask = "n"', 'ask = "x"'))
    assert "ask: there is no model 'x'" in drovik("ask", "Who?").err


def test_a_folder_of_folders_is_looked_into_and_its_folders_are_labels(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    service = serve(lambda n, b: reply({"answer": "cap"}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    for label in ("bottle", "cap"):
        (photos / label).mkdir()
        shutil.move(photos / {"bottle": "lp-001.jpg", "cap": "lp-002.jpg"}[label], photos / label)
    (photos / "lp-003.png").unlink()
    (photos / ".hidden").mkdir()
    shutil.copy(IMAGES / "lp-003.png", photos / ".hidden")
    asked = drovik("ask", "photos", "Which kind?")
    assert len(service.requests) == 2
    assert "asked about each of 2 pictures" in asked.err.lower()
    assert "2 folders (bottle, cap): --keep PROJECT/TASK takes those as the expected labels" in asked.err
    assert "photos/bottle/lp-001.jpg" in asked.out
    kept = drovik("ask", "photos", "Which kind?", "--keep", "desk/kind")
    assert "2 new cases; 2 answers came along" in kept.out, kept.err
    scored = drovik("score", "--project", "desk", "--json").json
    (arm,) = scored["tasks"]["kind"]
    assert arm["measures"][0]["score"] == 0.5  # of a bottle and a cap, a cap was said twice


def test_names_of_files_and_a_folder_do_the_same_and_one_question_about_all_is_said_so(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    service = serve(lambda n, b: reply({"answer": "A cap."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    names = [f"photos/{name}" for name in ("lp-002.jpg", "lp-001.jpg", "lp-002.jpg")]
    found = drovik("ask", *names, "What is it?", "--json").json["answers"]
    assert [one["picture"] for one in found] == ["photos/lp-002.jpg", "photos/lp-001.jpg", "photos/lp-002.jpg (2)"]
    (one,) = drovik("ask", *names[:2], "--together", "What differs?", "--json").json["answers"]
    assert one["picture"] == "photos/lp-002.jpg+photos/lp-001.jpg"


def test_fields_may_lack_be_within_and_be_lists(drovik: Drovik, serve: Serve, photos: Path) -> None:
    answers = ['{"total": 7, "items": [{"name": "cap", "price": 2.5}], "day": "2031-04-02"}',
               '{"total": "7", "street": null, "items": [{"name": "cap"}], "day": "2 April"}']  # fmt: skip
    service = serve(lambda n, b: reply({"answer": answers[n % 2]}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    words = [
        "--field",
        "total:number",
        "--field",
        "street?",
        "--field",
        "items[].name",
        "--field",
        "items[].price:number",
        "--field",
        "day:date",
    ]
    assert drovik("ask", "photos/lp-001.jpg", "Read it.", *words).code == 0
    wrong = drovik("ask", "photos/lp-001.jpg", "Read it.", *words)
    assert wrong.code == 1
    assert all(place in wrong.err for place in ("/total", "/items/0", "/day"))
    assert "/street" not in wrong.err


def test_json_of_any_shape_is_asked_for_and_what_is_none_is_said(drovik: Drovik, serve: Serve, photos: Path) -> None:
    service = serve(lambda n, b: reply({"answer": ["so be it: [1, 2]", "none"][n % 2]}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", more="limits = { concurrency = 1 }")
    several = drovik("ask", "photos/lp-001.jpg", "photos/lp-002.jpg", "List them.", "--json-answer")
    assert several.code == 1
    assert "1 of 2 does not fit: photos/lp-002.jpg" in several.out
    assert "--show-reply" in several.out


def test_what_is_kept_has_all_repeats_and_is_said_to_be_another_shape_before_it_is_asked(
    drovik: Drovik, serve: Serve, photos: Path
) -> None:
    service = serve(lambda n, b: reply({"answer": '{"kind": "cap"}', "in": 9, "out": 3}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    kept = drovik("ask", "photos/lp-001.jpg", "Which?", "--field", "kind", "--repeat", "3", "--keep", "desk/kind")
    assert "1 new case; 3 answers came along" in kept.out, kept.out + kept.err
    assert drovik("send", "--project", "desk", "--json").json["to_send"] == 0
    question = (drovik.folder / "desk/tasks/kind/question.toml").read_text()
    assert "repeats = 3" in question
    assert "[measures.fields" in question
    other = drovik("ask", "photos/lp-001.jpg", "Which?", "--keep", "desk/kind")
    assert other.code == 2
    assert "wants an answer of another shape" in other.err
    assert len(service.requests) == 3


def test_files_that_are_there_are_not_written_over(drovik: Drovik, serve: Serve, photos: Path) -> None:
    service = serve(lambda n, b: reply({"answer": f"Answer {n + 1}."}))
    set_up(drovik, f"http://127.0.0.1:{service.port}")
    (drovik.folder / "out").mkdir()
    mine = drovik.folder / "out/lp-001.jpg.txt"
    mine.write_text("my own words")
    refused = drovik("ask", "photos", "What is it?", "--out", "out")
    assert refused.code == 2
    assert "is there already, and is no answer to this question" in refused.err
    assert (mine.read_text(), service.requests) == ("my own words", [])
    assert drovik("ask", "photos", "What is it?", "--out", "out", "--force").code == 0
    assert "3 were there already" in drovik("ask", "photos", "What is it?", "--out", "out").out
    assert drovik("ask", "photos", "What else?", "--out", "out").code == 2  # another question is another answer
    assert len(service.requests) == 3


def test_request_and_reply_are_shown_as_they_went_without_the_key(drovik: Drovik, serve: Serve, photos: Path) -> None:
    service = serve(lambda n, b: reply({"answer": "A cap.", "key": "a-secret-key-77"}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", more='key_env = "IT_KEY"')
    drovik.environment["IT_KEY"] = "a-secret-key-77"
    shown = drovik("ask", "photos/lp-001.jpg", "What is it?", "--show-request", "--show-reply")
    assert shown.out == "A cap.\n"
    assert f"→ POST http://127.0.0.1:{service.port}/" in shown.err
    assert "[key]" in shown.err
    assert '"t": "What is it?"' in shown.err
    assert "characters)" in shown.err  # a picture is not written out
    assert "← status 200" in shown.err
    assert "a-secret-key-77" not in shown.err
