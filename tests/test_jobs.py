"""Twelve jobs, each from an empty folder with a picture or two, a page of documentation and a service that looks.

docs/jobs has a page for each, with the same commands.
"""

from __future__ import annotations

import csv
import json
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from conftest import PROGRAM, Drovik
from looking_services import DESK_PAGE, HANDED_PAGE, KEY, Looking, desk, handed
from PIL import Image, ImageDraw, ImageFont

IMAGES = Path(__file__).parents[1] / "src/drovik/demo/project/images"
Serving = Callable[[str, object], Looking]
needs_tesseract = pytest.mark.skipif(shutil.which("tesseract") is None, reason="tesseract reads the tags")
pytestmark = needs_tesseract


@pytest.fixture
def desk_service(drovik: Drovik) -> Iterator[Looking]:
    """The desk, learned from its page; the key is in the folder's .env."""
    service = Looking(desk)
    (drovik.folder / "skua.md").write_text(DESK_PAGE.replace("PORT", str(service.port)))
    (drovik.folder / ".env").write_text(f"SKUA_KEY={KEY}\n")
    for name in ("lp-001.jpg", "lp-002.jpg"):
        shutil.copy(IMAGES / name, drovik.folder / name)
    learned = drovik("endpoint", "learn", "skua", "skua.md")
    assert learned.code == 0, learned.out + learned.err
    yield service
    service.close()


def test_1_a_service_is_connected_and_describes_a_picture(drovik: Drovik, desk_service: Looking) -> None:
    asked = drovik("ask", "lp-001.jpg", "What lies there?")
    assert asked.out == "I see something blue beside a paper tag.\n", asked.err
    assert "320 tokens in, 8 out" in asked.err
    again = drovik("endpoint", "learn", "skua", "skua.md", "--json").json
    assert {one["step"]: one["state"] for one in again["tried"]}[
        "picture seen"
    ] == "good"  # the drawn word is read back


def test_2_a_list_of_records_is_read_and_checked(drovik: Drovik, desk_service: Looking) -> None:
    fields = ("--field", "number", "--field", "items[].name", "--field", "items[].count:integer")
    asked = drovik("ask", "lp-002.jpg", "Read the tag.", *fields)
    assert asked.code == 0, asked.err
    assert json.loads(asked.out) == {
        "number": "SK-0700",
        "items": [{"name": "map", "count": 1}, {"name": "button", "count": 1}],
    }


def test_3_a_picture_is_uploaded_once_and_asked_about_twice(drovik: Drovik) -> None:
    service = Looking(handed)
    (drovik.folder / "shelf.txt").write_text(HANDED_PAGE.replace("PORT", str(service.port)))
    (drovik.folder / ".env").write_text(f"SHELF_KEY={KEY}\n")
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "lp-001.jpg")
    learned = drovik("endpoint", "learn", "shelf", "shelf.txt")
    assert learned.code == 0, learned.out + learned.err
    service.calls.clear()
    first = drovik("ask", "lp-001.jpg", "What is written on the tag?")
    second = drovik("ask", "lp-001.jpg", "What lies there?")
    assert "SK-1012" in first.out, first.err
    assert second.out == "I see something blue beside a paper tag.\n"
    assert [path for _, path in service.calls] == ["/shelf", "/say", "/say"]
    service.close()


def test_4_boxes_are_kept_and_scored_in_the_pictures_own_pixels(drovik: Drovik, desk_service: Looking) -> None:
    kept = drovik(
        "ask", "lp-001.jpg", "Where is the tag?", "--field", "box:array", "--prep", "fit=320", "--keep", "desk/tag"
    )
    assert "1 answer came along" in kept.out, kept.out + kept.err
    question = drovik.folder / "desk/tasks/tag/question.toml"
    question.write_text(
        '[answer]\nform = "json"\nschema = "answer.schema.json"\n\n[measures.tag]\ntype = "boxes"\nat = "/box"\n'
    )
    cases = drovik.folder / "desk/cases.jsonl"
    row = json.loads(cases.read_text())
    row["expected"] = {"tag": {"box": [420, 86, 627, 383]}}  # as it is in the file of 640 by 480
    cases.write_text(json.dumps(row) + "\n")
    scored = drovik("score", "--project", "desk", "--json")
    assert scored.code == 0, scored.err
    (arm,) = scored.json["tasks"]["tag"]
    assert arm["measures"][0]["score"] == 1.0, arm


def test_5_a_folder_for_each_class_is_asked_about_and_scored(drovik: Drovik, desk_service: Looking) -> None:
    for label, name in (("blue", "lp-001.jpg"), ("green", "lp-009.jpg"), ("red", "lp-002.jpg")):
        (drovik.folder / "photos" / label).mkdir(parents=True)
        shutil.copy(IMAGES / name, drovik.folder / "photos" / label / name)
    kept = drovik("ask", "photos", "Which colour?", "--keep", "desk/colour")
    assert "3 new cases; 3 answers came along" in kept.out, kept.out + kept.err
    scored = drovik("score", "--project", "desk", "--json").json
    (arm,) = scored["tasks"]["colour"]
    assert arm["measures"][0]["score"] == pytest.approx(2 / 3)  # the cap in the folder "red" is blue


def test_6_a_folder_of_documents_goes_into_files_and_another_prompt_beside_it(
    drovik: Drovik, desk_service: Looking
) -> None:
    (drovik.folder / "papers/spring").mkdir(parents=True)
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "papers")
    shutil.copy(IMAGES / "lp-002.jpg", drovik.folder / "papers/spring")
    first = drovik("ask", "papers", "What is written there?", "--out", "texts")
    assert "2 answers written" in first.out, first.err
    assert "SK-0700" in (drovik.folder / "texts/spring/lp-002.jpg.txt").read_text()
    other = drovik("ask", "papers", "Read the tag.", "--field", "number", "--out", "numbers")
    assert other.code == 0, other.err
    assert json.loads((drovik.folder / "numbers/lp-001.jpg.json").read_text()) == {"number": "SK-1012"}
    assert "is there already" in drovik("ask", "papers", "What lies there?", "--out", "texts").err


def test_7_a_persons_table_is_filled(drovik: Drovik, desk_service: Looking) -> None:
    table = drovik.folder / "found.csv"
    table.write_text("day,photo,number,vessel\nMonday,lp-001.jpg,,\nTuesday,lp-002.jpg,mine,\n")
    done = drovik("ask", "--rows", "found.csv", "--picture", "photo", "--fill", "number,vessel", "Read the tag.")
    assert done.code == 0, done.err
    rows = list(csv.DictReader(table.open()))
    assert [(row["number"], row["vessel"]) for row in rows] == [("SK-1012", "Eider"), ("mine", "Puffin")]


def test_8_every_fifth_frame_of_a_clip_is_asked_about(drovik: Drovik, desk_service: Looking) -> None:
    colours = ["red"] * 5 + ["green"] * 5 + ["blue"] * 5
    frames = [Image.new("RGB", (64, 48), one) for one in colours]
    for number, frame in enumerate(frames):
        frame.putpixel((number, 0), (0, 0, 0))  # frames that are alike would be written as one
    frames[0].save(drovik.folder / "clip.gif", save_all=True, append_images=frames[1:], duration=200, loop=0)
    asked = drovik(
        "ask", "clip.gif", "Which colours come, at {{ times }} s?", "--prep", "frames={every=5}", "--show-request"
    )
    assert asked.out == "red, green, blue\n", asked.err
    assert "3 of 15 frames went, at 0, 1, 2 s; 12 left out, by the prep's frames" in asked.err
    assert "Which colours come, at [0.0, 1.0, 2.0] s?" in asked.err
    alone = drovik("ask", "clip.gif", "Which colours come?")
    assert "it moves, and the first of its 15 frames went" in alone.err


@pytest.mark.long
def test_9_two_models_are_talked_with_and_it_is_kept(drovik: Drovik, desk_service: Looking) -> None:
    file = next(Path(drovik.environment["XDG_CONFIG_HOME"]).rglob("drovik.toml"))
    file.write_text(file.read_text() + '\n[models.mini]\nendpoint = "skua"\nid = "skua-2-mini"\n')
    said = "What is written on the tag?\nbye\n"
    words = [
        PROGRAM,
        "talk",
        "lp-001.jpg",
        "What lies there?",
        "--model",
        "skua-2",
        "--model",
        "mini",
        "--keep",
        "desk/talk",
    ]
    done = subprocess.run(
        words, input=said, capture_output=True, text=True, env=drovik.environment, cwd=drovik.folder, check=False
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("2 answers came along") == 2, done.stdout
    assert drovik("send", "--project", "desk", "--json").json["to_send"] == 0


LOCAL = """
import sys, time, pathlib
sys.path.insert(0, {tests!r})
from looking_services import Looking, desk
for step in range(3):
    print("loading part", step + 1, "of 3", flush=True)
    time.sleep({wait})
service = Looking(lambda s, m, p, h, b: (200, {{}}) if p == "/up" else desk(s, m, p, h | {{"Authorization": "Bearer {key}"}}, b), {port})
time.sleep(600)
"""


def test_10_a_local_service_is_started_waited_for_shared_and_stopped(drovik: Drovik, desk_service: Looking) -> None:
    port = desk_service.port
    desk_service.close()
    (drovik.folder / "local.py").write_text(
        LOCAL.format(tests=str(Path(__file__).parent), wait=1, key=KEY, port=port)
    )
    file = next(Path(drovik.environment["XDG_CONFIG_HOME"]).rglob("drovik.toml"))
    start = f"{sys.executable} {drovik.folder}/local.py"
    file.write_text(
        file.read_text().replace("[endpoints.skua]", f'[endpoints.skua]\nstart = "{start}"\nready = "/up"\n')
    )
    assert "skua runs now" in drovik("endpoint", "start", "skua").out
    asked = drovik("ask", "lp-001.jpg", "What lies there?")
    assert asked.out == "I see something blue beside a paper tag.\n", asked.err
    assert "was running already" in drovik("endpoint", "start", "skua").out
    assert "skua is stopped" in drovik("endpoint", "stop", "skua").out
    assert "was not started by Drovik, or runs no more" in drovik("endpoint", "stop", "skua").out
    again = drovik("ask", "lp-001.jpg", "What lies there?")  # started for this one question, and stopped after it
    assert again.code == 0, again.err
    assert "runs no more" in drovik("endpoint", "stop", "skua").out


@pytest.mark.long
def test_11_repeats_of_a_yes_or_no_question_are_compared_as_yes_and_no(drovik: Drovik, desk_service: Looking) -> None:
    asked = drovik("ask", "lp-002.jpg", "Is there a value on it? Yes or no.", "--repeat", "5", "--json").json
    (agreement,) = asked["agreement"]
    assert agreement["by"] == "yes or no"
    assert {one["answer"]: one["times"] for one in agreement["answers"]} == {"yes": 4, "no": 1}
    assert agreement["agreement"] == 0.6  # six of ten pairs say the same
    shown = drovik("ask", "lp-002.jpg", "Is there a value on it? Yes or no!", "--repeat", "5").out
    assert "the answers agree to 60 % (by yes or no)" in shown


def test_12_a_worked_solution_is_scored_by_its_formula(drovik: Drovik, desk_service: Looking) -> None:
    sheet = Image.new("RGB", (500, 200), "white")
    ImageDraw.Draw(sheet).text((40, 60), "8 = 2 x", fill="black", font=ImageFont.load_default(size=72))
    sheet.save(drovik.folder / "sheet.png")
    kept = drovik("ask", "sheet.png", "Solve it, with the formula in the last line.", "--keep", "desk/solve")
    assert "1 answer came along" in kept.out, kept.out + kept.err
    (drovik.folder / "desk/tasks/solve/question.toml").write_text(
        '[answer]\nform = "text"\n\n[measures.result]\ntype = "fields"\npattern = \'Answer:\\*\\* (?P<x>.+)\'\nfields = { x = { rule = "formula" } }\n'
    )
    cases = drovik.folder / "desk/cases.jsonl"
    row = json.loads(cases.read_text())
    row["expected"] = {"solve": {"x": "x = 4"}}
    cases.write_text(json.dumps(row) + "\n")
    scored = drovik("score", "--project", "desk", "--json")
    assert scored.code == 0, scored.out + scored.err
    assert scored.json["tasks"]["solve"][0]["measures"][0]["score"] == 1.0, drovik(
        "show", "sheet", "--project", "desk", "--full"
    ).out


@pytest.mark.parametrize("form", ["curl", "python"])
def test_the_learned_request_runs_without_drovik(drovik: Drovik, desk_service: Looking, form: str) -> None:
    script = drovik("endpoint", "code", "skua", "--as", form).out
    file = drovik.folder / f"skua.{'sh' if form == 'curl' else 'py'}"
    file.write_text(script)
    words = ["sh" if form == "curl" else sys.executable, str(file), "lp-001.jpg", 'What\'s "there"?']
    done = subprocess.run(
        words,
        capture_output=True,
        text=True,
        cwd=drovik.folder,
        env={**drovik.environment, "SKUA_KEY": KEY},
        check=False,
    )
    assert "I see something blue beside a paper tag." in done.stdout, done.stdout + done.stderr + script
    assert KEY not in script


def test_steps_run_without_drovik_too(drovik: Drovik) -> None:
    service = Looking(handed)
    (drovik.folder / "shelf.txt").write_text(HANDED_PAGE.replace("PORT", str(service.port)))
    assert drovik("endpoint", "learn", "shelf", "shelf.txt", "--no-try").code == 0
    shutil.copy(IMAGES / "lp-001.jpg", drovik.folder / "lp-001.jpg")
    assert "--as python writes all of them" in drovik("endpoint", "code", "shelf").err
    (drovik.folder / "shelf.py").write_text(drovik("endpoint", "code", "shelf", "--as", "python").out)
    words = [sys.executable, "shelf.py", "lp-001.jpg", "What lies there?"]
    done = subprocess.run(
        words,
        capture_output=True,
        text=True,
        cwd=drovik.folder,
        env={**drovik.environment, "SHELF_KEY": KEY},
        check=False,
    )
    assert done.stdout == "I see something blue beside a paper tag.\n", done.stderr
    service.close()


def test_every_command_of_the_pages_is_one_that_there_is() -> None:
    from drovik.cli.main import _parser

    pages = sorted((Path(__file__).parents[1] / "docs/jobs").glob("[01]*.md"))
    assert len(pages) == 12
    for page in pages:
        assert len(page.read_text().splitlines()) < 40
        commands = [line.strip()[9:] for line in page.read_text().splitlines() if line.startswith("    $ drovik ")]
        assert commands, page.name
        for command in commands:
            words = shlex.split(command)
            _parser(words).parse_args(words)
