"""`drovik check` finds all that is wrong with all files, and says where and what to do."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Drovik, change, demo_on_port

Break = Callable[[Path], object]


def edit(name: str, old: str, new: str) -> Break:
    def change(folder: Path) -> None:
        text = (folder / name).read_text()
        assert old in text
        (folder / name).write_text(text.replace(old, new, 1))

    return change


def first_case(**changes: object) -> Break:
    def change(folder: Path) -> None:
        lines = (folder / "cases.jsonl").read_text().splitlines()
        row = json.loads(lines[0])
        row.update(changes)
        (folder / "cases.jsonl").write_text("\n".join([json.dumps(row), *lines[1:]]) + "\n")

    return change


WRONGS: dict[str, tuple[Break, str, tuple[str, ...]]] = {
    "unknown key": (
        edit("drovik.toml", "concurrency", "concurency"), "drovik.toml", ("endpoints.desk.limits", "concurency", "'concurrency'")),
    "unknown key of a measure": (
        edit("tasks/sort/question.toml", "labels =", "lables ="), "tasks/sort/question.toml", ("lables", "'labels'")),
    "missing picture": (
        lambda f: (f / "images/lp-002.jpg").unlink(), "cases.jsonl", ("line 2", "lp-002.jpg", "no such picture")),
    "no picture": (
        lambda f: (f / "images/lp-002.jpg").write_text("<svg/>"), "cases.jsonl", ("lp-002.jpg", "not a picture")),
    "empty picture": (
        lambda f: (f / "images/lp-002.jpg").write_bytes(b""), "cases.jsonl", ("lp-002.jpg", "empty")),
    "too many pixels": (
        edit("drovik.toml", "cases =", "max_pixels = 1000\ncases ="), "cases.jsonl", ("640 x 480", "max_pixels")),
    "label not listed": (
        first_case(expected={"sort": {"kind": "sock"}}), "cases.jsonl", ("line 1", "sock", "not a label")),
    "unknown variable": (
        edit("tasks/sort/prompts/v2.toml", "{{ labels | join", "{{ lables | join"), "tasks/sort/prompts/v2.toml",
        ("lables", "'labels'")),
    "broken template": (
        edit("tasks/sort/prompts/v2.toml", "}}?", "}?"), "tasks/sort/prompts/v2.toml", ("ask", "line")),
    "invalid schema": (
        edit("tasks/sort/answer.schema.json", '"string"', '"strin"'), "tasks/sort/answer.schema.json",
        ("/properties/kind/type", "not a valid JSON Schema")),
    "remote schema": (
        edit("tasks/sort/answer.schema.json", '{"type": "string"}', '{"$ref": "https://x.invalid/kind.json"}'),
        "tasks/sort/answer.schema.json", ("/properties/kind/$ref", "fetched", "$defs")),
    "expected off the schema": (
        first_case(expected={"sort": {"kind": "hat", "size": 3}}), "cases.jsonl", ("line 1", "expected.sort", "schema")),
    "key variable not set": (
        lambda f: (f / ".env").unlink(), "drovik.toml", ("endpoints.desk.key_env", "DESK_KEY", ".env")),
    "key in a file": (
        edit("dialects/plain.toml", "{key}", "lost-and-found"), "dialects/plain.toml", ("key", "line 5")),
    "id twice": (
        lambda f: (f / "cases.jsonl").write_text(2 * (f / "cases.jsonl").read_text()), "cases.jsonl",
        ("lp-001", "twice", "line 1")),
    "broken line": (
        lambda f: (f / "cases.jsonl").open("a").write('{"id": "x", '), "cases.jsonl", ("line 5", "not JSON")),
    "unknown task in expected": (
        first_case(expected={"sorts": {"kind": "hat"}}), "cases.jsonl", ("sorts", "'sort'")),
    "label twice": (
        edit("tasks/sort/question.toml", '"glove", "mitten"', '"glove", "Glove"'), "tasks/sort/question.toml",
        ("measures.kind.labels", "'Glove' is listed twice")),
    "unknown slot": (
        edit("dialects/plain.toml", "{model}", "{modle}"), "dialects/plain.toml", ("request.body", "{modle}", "'model'")),
    "slot out of place": (
        edit("dialects/plain.toml", "{model}", "{part.text}"), "dialects/plain.toml", ("outside of 'each part'",)),
    "no JSONPath": (
        edit("dialects/plain.toml", '"$.answer"', '"answer"'), "dialects/plain.toml", ("reply.text", "$")),
    "setting without a slot": (
        edit("dialects/plain.toml", ' "temperature": "{temperature?}",\n', ""), "drovik.toml", ("temperature", "not be sent")),
    "plain http": (
        edit("drovik.toml", "http://127.0.0.1:1", "http://desk.invalid"), "drovik.toml", ("endpoints.desk.url", "https")),
    "unknown endpoint": (
        edit("drovik.toml", 'endpoint = "desk"', 'endpoint = "dest"'), "drovik.toml", ("models.fulmar.endpoint", "'desk'")),
    "broken TOML": (edit("tasks/sort/question.toml", 'type = "label"', "type = label"), "tasks/sort/question.toml", ("TOML",)),
    "unknown measure type": (
        edit("tasks/sort/question.toml", '"label"', '"labels"'), "tasks/sort/question.toml", ("measures.kind.type", "'label'")),
    "unknown rule": (
        edit("tasks/read-tag/question.toml", '"date"', '"dates"'), "tasks/read-tag/question.toml",
        ("measures.tag.fields.date.rule", "'date'")),
    "refusal without an expected output": (
        first_case(expected={}, refusal=["sort"]), "cases.jsonl", ("line 1: refusal", "not be scored")),
    "refusal of no task": (first_case(refusal=["sorts"]), "cases.jsonl", ("line 1: refusal", "'sort'")),
    "no facts": (first_case(expected={"describe": {"must": "red"}}), "cases.jsonl", ("'must' is not a list",)),
    "fact not given": (first_case(given={}), "cases.jsonl", ("line 1", "'vessel' is not given")),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONGS)
def test_a_wrong_thing_is_told_with_file_place_and_remedy(name: str, drovik: Drovik) -> None:
    spoil, file, words = WRONGS[name]
    spoil(demo_on_port(drovik.folder, 1, cases=4))
    result = drovik("check", "--json")
    assert result.code == 1
    lines = [
        f"{one['place']}: {one['what']}; {one['remedy']}" for one in result.json["problems"] if one["file"] == file
    ]
    assert any(all(word in line for word in words) for line in lines), result.out


def test_all_errors_of_all_files_are_shown_together_a_line_each(drovik: Drovik) -> None:
    demo_on_port(drovik.folder, 1, cases=4)
    chosen = ("unknown key of a measure", "missing picture", "unknown variable", "unknown slot", "fact not given")
    for name in chosen:
        WRONGS[name][0](drovik.folder)
    lines = drovik("check").out.replace("\n", " ")
    for name in chosen:
        assert all(word in lines for word in WRONGS[name][2]), name


def test_a_project_with_nothing_wrong_says_so_and_the_same_line_goes_for_send(drovik: Drovik) -> None:
    demo_on_port(drovik.folder, 1, cases=4)
    result = drovik("check")
    assert result.code == 0
    assert "4 cases" in result.out
    edit("drovik.toml", 'endpoint = "desk"', 'endpoint = "dest"')(drovik.folder)
    refused = drovik("send")
    assert refused.code == 2
    assert (
        refused.err.strip()
        == "drovik.toml: models.fulmar.endpoint: there is no endpoint 'dest'; did you mean 'desk'?"
    )


def test_env_that_git_would_take_up_is_told(drovik: Drovik) -> None:
    demo_on_port(drovik.folder, 1, cases=4)
    subprocess.run(["git", "init", "-q", str(drovik.folder)], check=True)
    assert drovik("check").code == 0
    (drovik.folder / ".gitignore").unlink()
    result = drovik("check")
    assert result.code == 1
    assert ".env: git does not ignore it" in result.out


def test_no_project_is_one_line_and_exit_code_2(drovik: Drovik) -> None:
    result = drovik("score")
    assert result.code == 2
    assert len(result.err.splitlines()) == 1
    assert "there is no project here" in result.err


def test_csv_and_folders_give_the_same_cases_as_json_lines(drovik: Drovik) -> None:
    from drovik.project.reading import read_project

    folder = demo_on_port(drovik.folder, 1, cases=8)
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    lines = ["id,image,given.vessel,expected.sort.kind,expected.read-tag.deck,expected.read-tag.contents"]
    for row in rows:
        tag = row["expected"]["read-tag"]
        contents = json.dumps(tag["contents"]).replace('"', '""')
        lines.append(f'{row["id"]},{row["images"][0]},{row["given"]["vessel"]},{row["expected"]["sort"]["kind"]},'
                     f'{tag["deck"]},"{contents}"')  # fmt: skip
    lines.append("empty,images/lp-001.jpg,Tern,,,")
    (folder / "cases.csv").write_text("\n".join(lines) + "\n")
    for row in rows:
        home = folder / "sorted" / row["expected"]["sort"]["kind"]
        home.mkdir(parents=True, exist_ok=True)
        source = folder / row["images"][0]
        (home / source.name).write_bytes(source.read_bytes())
    settings = (folder / "drovik.toml").read_text()

    def cases_from(source: str):
        (folder / "drovik.toml").write_text(settings.replace("cases.jsonl", source))
        project, _ = read_project(folder)
        assert project is not None
        return {case.id: case for case in project.cases}

    wanted, csv, folders = cases_from("cases.jsonl"), cases_from("cases.csv"), cases_from("sorted")
    assert csv["empty"].expected == {}
    assert set(wanted) == set(csv) - {"empty"} == set(folders)
    for name, case in wanted.items():
        assert csv[name].pictures == case.pictures
        assert csv[name].given == case.given
        assert csv[name].expected["sort"] == folders[name].expected["sort"] == case.expected["sort"]
        assert csv[name].expected["read-tag"]["deck"] == case.expected["read-tag"]["deck"]
        assert csv[name].expected["read-tag"]["contents"] == case.expected["read-tag"]["contents"]


def test_labels_may_come_from_the_schema(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=48)
    kinds = '["glove", "mitten", "cap", "hat", "flask", "bottle", "rucksack", "holdall"]'
    edit("tasks/sort/answer.schema.json", '{"type": "string"}', f'{{"enum": {kinds}}}')(folder)
    edit("tasks/sort/question.toml", f"labels = {kinds}\n", "")(folder)
    assert drovik("check").code == 0
    first_case(expected={"sort": {"kind": "sock"}})(folder)
    result = drovik("check")
    assert "line 1: expected.sort: 'sock' is not a label" in result.out
    assert "line 1: expected.sort/kind: does not fit the task's own schema" in result.out


def test_a_task_without_measures_is_sent_and_shown_and_not_scored(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=4)
    (folder / "tasks/describe/question.toml").write_text('[answer]\nform = "text"\n')
    assert drovik("check").code == 0
    assert drovik("score").code == 0
    assert drovik("show", "lp-001").code == 0
    assert drovik("report").code == 0
    assert "has no measure" in drovik("compare", "--task", "describe").err


@pytest.mark.parametrize(
    ("file", "old", "new", "now"),
    [
        ("drovik.toml", "concurrency = 8", "at_once = 8", "unknown key 'at_once'; it is 'concurrency' now"),
        ("drovik.toml", "takes_pictures = false", "sees = false", "unknown key 'sees'; it is 'takes_pictures' now"),
        (
            "tasks/sort/question.toml",
            'type = "label"',
            'type = "own"',
            "there is no measure of type 'own'; it is 'function' now",
        ),
    ],
)
def test_a_name_of_before_leads_to_the_one_of_now(drovik: Drovik, file: str, old: str, new: str, now: str) -> None:
    folder = demo_on_port(drovik.folder, 8765)
    change(folder / file, old, new)
    assert now in drovik("check").out + drovik("check").err
    done = drovik("send", "--most", "5", "--again", "failed")
    assert done.code == 2
    assert "--most: it is '--budget' now; --again: it is '--resend' now" in done.err


def test_what_a_task_still_lacks_is_said_by_check_and_by_score(answered_demo: Drovik) -> None:
    cases = answered_demo.folder / "cases.jsonl"
    rows = [json.loads(line) for line in cases.read_text().splitlines()]
    for row in rows[:5]:
        del row["expected"]["sort"]
    cases.write_text("".join(json.dumps(row) + "\n" for row in rows))
    line = "sort: 5 of 72 cases have no expected output; put it into cases.jsonl, like"
    assert line in answered_demo("check").out
    assert line in answered_demo("score", "--task", "sort").out
    assert len(answered_demo("check", "--json").json["without_expected"]) == 1


def test_pictures_that_the_store_knows_are_not_opened_again_and_what_changed_is_seen(answered_demo: Drovik) -> None:
    """A file of another time, a lower limit of the project's, and a store that cannot be read."""
    folder = answered_demo.folder
    answered_demo("quote")  # which takes the digests of the files, that are copies here
    assert answered_demo("check").code == 0
    with sqlite3.connect(folder / ".drovik/answers.sqlite") as store:
        assert store.execute("SELECT COUNT(*) FROM looks").fetchone()[0] > 40, "kept for the next time"
        # Whoever looked at the file would find another size.
        store.execute("UPDATE looks SET facts = '[\"JPEG\", [[70000, 70000]], 1, [[1, null]], 1]'")
    assert "pixels" in answered_demo("check").out, "it is what the store says of the file"
    picture = folder / "images/lp-001.jpg"
    os.utime(picture, ns=(1, 1))
    told = answered_demo("check").out
    assert "images/lp-001.jpg" not in told
    assert "images/lp-002.jpg" in told
    with sqlite3.connect(folder / ".drovik/answers.sqlite") as store:
        store.execute("DELETE FROM looks")
    assert answered_demo("check").code == 0
    picture.write_bytes(picture.read_bytes()[:300])
    assert "images/lp-001.jpg: is not a picture" in answered_demo("check").out
    picture.write_bytes((folder / "images/lp-002.jpg").read_bytes())
    toml = folder / "drovik.toml"
    toml.write_text(f"max_pixels = 1000\n{toml.read_text()}")
    assert answered_demo("check").out.count("max_pixels = 1000") > 40
    toml.write_text(toml.read_text().removeprefix("max_pixels = 1000\n"))
    (folder / ".drovik/answers.sqlite").write_bytes(b"no store")
    assert answered_demo("check").code == 0


def test_a_picture_is_looked_at_as_a_whole_where_its_beginning_does_not_tell(answered_demo: Drovik) -> None:
    """One behind a link, or with more in front of it than is read at first; what is allowed goes by the whole file."""
    folder = answered_demo.folder
    picture, store = folder / "images/lp-001.jpg", folder / ".drovik/answers.sqlite"
    plain = picture.read_bytes()
    picture.unlink()
    picture.symlink_to(folder / "images/lp-002.jpg")
    assert answered_demo("check").code == 0
    picture.unlink()
    filled = plain[:2] + b"\xff\xfe\xff\xff" + bytes(65_533)
    picture.write_bytes(filled + plain[2:])
    assert answered_demo("check").code == 0
    picture.write_bytes(filled + plain[2:40])
    assert "images/lp-001.jpg: is not a picture" in answered_demo("check").out
    at = plain.index(b"\xff\xc0") + 5
    huge = plain[:at] + (7_000).to_bytes(2, "big") * 2 + plain[at + 4 :]
    picture.write_bytes(huge)
    assert "images/lp-001.jpg: 7000 x 7000 pixels" in answered_demo("check").out
    picture.write_bytes(huge + bytes(1_000_000 - len(huge)))
    store.unlink()
    assert answered_demo("check").code == 0, "a file of that size may be such a picture"


@pytest.mark.parametrize("prompt", ['ask = "Which? {{ marks[1] }}"', "ask = \"Which? {{ picture('front') }}\""])
def test_a_prompt_that_fails_in_the_last_case_alone_is_told(drovik: Drovik, prompt: str) -> None:
    """A value that a case lacks, or a picture: also where the prompt asks the same of all cases but for these."""
    folder = demo_on_port(drovik.folder, 9, cases=4)
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    for number, row in enumerate(rows):
        last = number == len(rows) - 1
        row["given"]["marks"] = ["a"] if last else ["a", "b"]
        row["images"] = [{"path": row["images"][0], "tag": "back" if last else "front"}]
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    assert drovik("check").code == 0
    (folder / "tasks/sort/prompts/v7.toml").write_text(f"{prompt}\n")
    told = drovik("check")
    assert (told.code, told.out.splitlines()[-1]) == (1, "1 thing is wrong.")
    assert "tasks/sort/prompts/v7.toml" in told.out


def test_a_prep_that_does_not_fit_a_picture_is_told_with_and_without_a_store(answered_demo: Drovik) -> None:
    folder = answered_demo.folder
    toml = (folder / "drovik.toml").read_text()
    for table, place in (
        ("[preps.far]\ncrop = [2000, 2000, 3000, 3000]", "preps.far"),
        ("[preps.far]\ncrop = [2000, 0, 2100, 400]", "preps.far"),
        ('[variants.far]\nmodels = ["gull"]\nprep = { crop = [2000, 0, 2100, 400] }', "variants.far.prep"),
    ):
        (folder / "drovik.toml").write_text(f"{toml}\n{table}\n")
        first, second = answered_demo("check"), answered_demo("check")
        assert f"drovik.toml: {place}: " in first.out
        assert (first.code, first.out) == (second.code, second.out)
