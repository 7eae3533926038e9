"""People's judgements: by keys in the terminal, on the page, and what becomes of them."""

from __future__ import annotations

import json
import math
import os
import re
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from zlib import crc32

import numpy as np
import pytest
from conftest import PROGRAM, Drovik, FakeService, demo_on_port, good
from scipy import stats

from drovik.comparing.preferences import pair_preferences, strengths
from drovik.project.reviews import Judgement, add_judgement, latest

CHROMIUM = shutil.which("chromium")
Serve = Callable[..., FakeService]
TASK = ("--task", "sort", "--arm", "gull/v1", "--arm", "gull/v2")


def lines_of(folder: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in (folder / "reviews.jsonl").read_text().splitlines()]


@pytest.fixture
def answered(drovik: Drovik, serve: Serve) -> Drovik:
    """Six cases of the demo: gull says cap of all with v1; with v2 it says hat of some of them."""

    def decide(number: int, body: dict[str, Any]) -> Any:
        asked = json.dumps(body)
        return good(
            '{"kind": "hat"}' if "nothing but JSON" in asked and crc32(asked.encode()) % 2 else '{"kind": "cap"}'
        )

    demo_on_port(drovik.folder, serve(decide).port, cases=6)
    assert drovik("send", *TASK).code == 0
    return drovik


def test_keys_judge_and_what_was_said_is_kept_at_once_and_gone_on_from(answered: Drovik) -> None:
    first = answered("review", *TASK, "--by", "Mara", said="1\n3\nn\nit is a bag\n2\nq\n")
    assert first.code == 0
    assert "3 of 12 judged by Mara; the same command goes on with the 9 that are left." in first.out
    said = lines_of(answered.folder)
    assert [one["verdict"] for one in said] == ["right", "wrong", "partly"]
    assert (said[2]["note"], said[0]["blind"], said[0]["by"]) == ("it is a bag", True, "Mara")
    assert "gull" not in first.out.split("judged by")[0], "blind: no arm is named"
    again = answered("review", *TASK, "--by", "Mara", said="1\n" * 20)
    assert "12 of 12 judged by Mara." in again.out
    judged = [(one["case"], one["arm"]) for one in lines_of(answered.folder)]
    assert len(judged) == len(set(judged)) == 12, "each answer once"
    other = answered("review", *TASK, "--by", "Ivo", said="q\n")
    assert "0 of 12 judged by Ivo" in other.out


def test_undo_takes_back_and_a_wrong_key_says_so(answered: Drovik) -> None:
    done = answered("review", *TASK, "--by", "Mara", said="1\nu\n3\nz\nu\nu\nq\n")
    assert "Taken back." in done.out
    shown = re.findall(r"^\d+ of 12 .* (lp-\d+) ", done.out, flags=re.M)
    assert shown[0] == shown[2], "what was taken back is shown again"
    assert shown.count(shown[1]) == 2, "and the one after it; nothing to take back shows nothing anew"
    assert "'z' is none of the keys." in done.out
    assert "There is nothing to take back." in done.out
    assert "0 of 12 judged" in done.out
    assert latest(map(Judgement.model_validate, lines_of(answered.folder))) == ()


def test_an_answer_is_judged_field_by_field_or_claim_by_claim(drovik: Drovik, serve: Serve) -> None:
    demo_on_port(
        drovik.folder,
        serve(lambda n, body: good("A red cap lies there. It has a tag! Nobody wants it.")).port,
        cases=1,
    )
    drovik("send", "--task", "describe", "--arm", "gull/v1")
    done = drovik("review", "--task", "describe", "--arm", "gull/v1", "--by", "Mara", said="c\nt\nf\nu\n")
    assert done.code == 0
    (one,) = lines_of(drovik.folder)
    assert one["verdict"] == "partly"
    assert [(claim["text"], claim["verdict"]) for claim in one["claims"]] == [
        ("A red cap lies there.", "true"), ("It has a tag!", "false"), ("Nobody wants it.", "unknown"),
    ]  # fmt: skip


def test_fields_are_judged_one_by_one_and_leaving_half_way_keeps_nothing(answered: Drovik) -> None:
    half = answered("review", *TASK, "--by", "Mara", said="f\nq\nq\n")
    assert "0 of 12 judged" in half.out
    assert not (answered.folder / "reviews.jsonl").exists()
    answered("review", *TASK, "--by", "Mara", said="f\n1\nf\n3\nf\nx\n2\nq\n")
    said = lines_of(answered.folder)
    assert [(one["fields"], one["verdict"]) for one in said] == [
        ({"/kind": "right"}, "right"), ({"/kind": "wrong"}, "wrong"), ({"/kind": "partly"}, "partly"),
    ]  # fmt: skip


def test_peoples_scores_stand_beside_the_measures_with_how_far_they_agree(answered: Drovik) -> None:
    answered("review", *TASK, "--by", "Mara", "--open", said="1\n1\n1\n1\n3\n3\n3\n3\n2\n2\n1\n1\n")
    answered("review", *TASK, "--by", "Ivo", "--open", said="1\n1\n1\n3\n3\n3\n3\n3\n2\n2\n1\n1\n")
    found = json.loads(answered("review", "--results", "--json", *TASK).out)["tasks"]["sort"]
    said = lines_of(answered.folder)
    worth = {"right": 1.0, "partly": 0.5, "wrong": 0.0}
    for arm in ("gull/v1", "gull/v2"):
        own = [worth[one["verdict"]] for one in said if one["arm"] == arm]
        assert found["scores"][arm]["score"] == pytest.approx(sum(own) / len(own))
    (people,) = found["beside_each_other"]
    pairs = [[one["verdict"] for one in said if one["by"] == by] for by in ("Mara", "Ivo")]
    same = sum(a == b for a, b in zip(*pairs, strict=True)) / 12
    chance = sum(pairs[0].count(word) * pairs[1].count(word) for word in worth) / 144
    assert people["kappa"] == pytest.approx((same - chance) / (1 - chance))
    assert people["low"] < people["kappa"] < people["high"]
    assert len(people["apart"]) == 1
    assert {people["one"], people["other"]} == {"Mara", "Ivo"}
    with (answered.folder / "reviews.jsonl").open("a") as file:  # two arms, and nobody says which is better
        file.write('{"task": "sort", "case": "lp-001", "arms": ["gull/v1", "gull/v2"], "by": "Ivo"}\n')
    assert json.loads(answered("review", "--results", "--json", *TASK).out)["tasks"]["sort"]["preferences"] == 0
    assert "To settle:" in answered("review", "--results", *TASK).out
    scores = json.loads(answered("score", *TASK, "--json").out)["tasks"]["sort"]
    assert {one["measure"] for arm in scores for one in arm["measures"]} == {"kind", "people"}
    ranked = json.loads(answered("compare", *TASK[:2], "gull/v1", "gull/v2", "--measure", "people", "--json").out)
    assert ranked["tasks"]["sort"]["verdicts"][0]["measure"] == "people"


def test_a_judgement_of_an_answer_that_changed_counts_no_more(answered: Drovik, serve: Serve) -> None:
    answered("review", *TASK, "--by", "Mara", said="1\n" * 12)
    prompt = answered.folder / "tasks/sort/prompts/v1.toml"
    prompt.write_text(prompt.read_text().replace("Which kind", "What kind", 1))
    demo_port = serve(lambda n, body: good('{"kind": "glove"}')).port
    toml = answered.folder / "drovik.toml"
    toml.write_text(re.sub(r"127\.0\.0\.1:\d+", f"127.0.0.1:{demo_port}", toml.read_text()))
    answered("send", *TASK)
    told = answered("review", "--results", *TASK).out
    assert "6 judgements are of answers that have changed since, and do not count." in told


def test_preferences_come_with_a_sign_test_and_a_ranking(answered: Drovik) -> None:
    done = answered("review", *TASK, "--beside", "--by", "Mara", said="1\n2\n3\n1\n1\n1\n1\n")
    assert done.code == 0
    said = lines_of(answered.folder)
    assert all(set(one["arms"]) == {"gull/v1", "gull/v2"} for one in said)
    document = json.loads(answered("score", *TASK, "--json").out)["tasks"]["sort"]
    assert len(document) == 2
    told = [
        json.loads(answered("show", f"lp-00{n}", *TASK, "--json").out)["tasks"]["sort"]["arms"] for n in range(1, 7)
    ]
    texts = [{arm["text"] for arm in arms.values()} for arms in told]
    assert {len(one) for one in texts} == {1, 2}, "some are answered alike"
    assert f"of {sum(len(one) == 2 for one in texts)} judged by Mara" in done.out, "the same answers are not compared"
    found = json.loads(answered("review", "--results", "--json", *TASK).out)["tasks"]["sort"]["pairs"]
    if found:
        wins = sum(one["prefer"] == found[0]["first"] for one in said)
        assert found[0]["wins"] == wins


def test_the_sign_test_and_the_strengths_are_those_of_independent_computations() -> None:
    chance = np.random.default_rng(4)
    truth = {"a": 2.0, "b": 1.0, "c": 0.5}
    said = []
    for number in range(400):
        first, second = chance.choice(list(truth), 2, replace=False)
        wins = chance.random() < truth[first] / (truth[first] + truth[second])
        said.append(Judgement(task="t", case=f"c{number}", arms=(first, second), prefer=first if wins else second))
    for pair in pair_preferences(said):
        test = stats.binomtest(pair.wins, pair.wins + pair.losses)
        assert pair.p == pytest.approx(test.pvalue)
        low, high = test.proportion_ci(method="wilson")
        assert (pair.low, pair.high) == pytest.approx((low, high))
    ranked = strengths(said)
    assert [one.arm for one in ranked] == ["a", "b", "c"]
    middle = math.exp(np.mean([math.log(one) for one in truth.values()]))
    for one in ranked:
        assert one.low <= truth[one.arm] / middle / (1 + truth[one.arm] / middle) <= one.high
        assert one.low < one.value < one.high
    assert strengths([one for one in said if "c" not in (one.arms or ())]) == []
    three = pair_preferences([Judgement(task="t", case=str(n), arms=("a", "b"), prefer="a") for n in range(3)])
    assert "3 preferences cannot decide it" in three[0].text()


def test_expected_outputs_are_filled_in_from_answers_and_say_by_whom(answered: Drovik) -> None:
    cases = answered.folder / "cases.jsonl"
    rows = [json.loads(line) for line in cases.read_text().splitlines()]
    for row in rows[:3]:
        del row["expected"]["sort"]
    cases.write_text("".join(json.dumps(row) + "\n" for row in rows))
    done = answered(
        "review",
        "--fill",
        "sort",
        "--arm",
        "gull/v2",
        "--by",
        "Mara",
        said='1\ne\n{"kind": "bag"}\ne\nno JSON\ne\n{"kind": "flask"}\n3\n',
    )
    assert done.code == 0, done.err
    assert "That is not JSON" in done.out
    assert "Not kept: it is no expected output of 'sort': 'bag' is not a label of the task" in done.out
    filled = {row["id"]: row for row in map(json.loads, cases.read_text().splitlines()) if "filled" in row}
    assert len(filled) == 2
    kinds = {row["expected"]["sort"]["kind"] for row in filled.values()}
    assert "flask" in kinds
    by = {row["filled"]["sort"]["unchanged"]: row["filled"]["sort"] for row in filled.values()}
    assert (by[True]["by"], by[True]["from"], by[False]["unchanged"]) == ("Mara", "gull/v2", False)
    assert answered("check").code == 0
    told = json.loads(answered("review", "--results", "--json", "--task", "sort").out)["tasks"]["sort"]
    assert told["filled_unchanged"]["score"] == 0.5
    assert told["judgements"] == 0, "what became an expected output says nothing of the measures"


def test_what_is_suspect_is_filled_in_first_and_what_is_sure_is_left_alone(answered_demo: Drovik) -> None:
    shown = answered_demo("review", "--fill", "sort", "--by", "Mara", said="1\nq\n").out
    assert "1 of 1   sort: Which kind of item is it?   lp-031" in shown
    assert "Suspect: expected hat, models say cap" in shown
    row = next(
        json.loads(line)
        for line in (answered_demo.folder / "cases.jsonl").read_text().splitlines()
        if "lp-031" in line
    )
    assert row["expected"]["sort"] == {"kind": "cap"}
    assert row["filled"]["sort"]["unchanged"] is True
    assert "lp-031" not in answered_demo("score", "--task", "sort", "--suspects").out.split("nearly")[0]


def test_two_people_at_once_and_git_lose_no_line(tmp_path: Path) -> None:
    (tmp_path / "reviews.jsonl").write_text('{"task": "t", "case": "c", "arm": "a", "verdict": "right"}')
    for number in range(3):
        add_judgement(tmp_path, Judgement(task="t", case=f"c{number}", arm="a", verdict="wrong", by="Mara"))
    assert len(lines_of(tmp_path)) == 4
    early = Judgement(task="t", case="c", arm="a", verdict="right", by="Mara", at="2026-01-01T00:00:00Z")
    late = early.changed(verdict="wrong", at="2026-01-02T00:00:00Z")
    assert latest([late, early]) == latest([early, late]) == (late,)
    assert latest([early, late.changed(withdrawn=True)]) == ()


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("{", "is not JSON"),
        ('{"task": "srot", "case": "c"}', "there is no task 'srot'; did you mean 'sort'?"),
        ('{"task": "sort"}', "'case' is missing"),
        ('{"task": "sort", "case": "c", "colour": 1}', "colour"),
    ],
)
def test_a_broken_line_of_reviews_is_named(answered: Drovik, line: str, said: str) -> None:
    (answered.folder / "reviews.jsonl").write_text(line + "\n")
    found = answered("check")
    assert found.code != 0
    assert said in found.out + found.err
    assert "reviews.jsonl" in found.out + found.err


def test_what_cannot_be_judged_is_said(answered: Drovik) -> None:
    assert "say which: --task NAME" not in answered("review", "--by", "M", said="q\n").err
    for words, said in (
        (("review", "--beside", "--fill", "sort"), "two ways to judge"),
        (("review", "--task", "find"), "there is nothing to judge yet"),
        (("review", "--task", "sort", "--by", " "), "nobody is named"),
        (("review", "--fill", "sort", "--by", "M"), "there is nothing to judge in 'sort'"),
    ):
        found = answered(*words)
        assert (found.code, said in found.err) == (2, True), found.err
        assert len(found.err.splitlines()) == 1


# The page.


class Served:
    """`drovik review --page` as a process, and what it answers."""

    def __init__(self, drovik: Drovik, *words: str) -> None:
        environment = {**os.environ, **drovik.environment, "HOME": str(drovik.folder.parent)}
        environment.pop("DISPLAY", None)
        self.process = subprocess.Popen(
            [PROGRAM, "review", "--page", *words],
            cwd=drovik.folder,
            env=environment,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert self.process.stdout
        found = re.search(r"http://127\.0\.0\.1:(\d+)/(\S+)/", self.process.stdout.readline())
        assert found
        self.address, self.port, self.token = found[0], int(found[1]), found[2]

    def ask(self, method: str, path: str, body: bytes = b"", **headers: str) -> tuple[int, str, bytes]:
        """A request letter by letter: the status, the head, the body."""
        fields = {"Host": f"127.0.0.1:{self.port}", "Content-Length": str(len(body)), "Connection": "close"}
        fields |= {name.replace("_", "-"): value for name, value in headers.items()}
        head = "".join(f"{name}: {value}\r\n" for name, value in fields.items())
        with socket.create_connection(("127.0.0.1", self.port), timeout=10) as link:
            link.sendall(f"{method} {path} HTTP/1.1\r\n{head}\r\n".encode() + body)
            data = b""
            while more := link.recv(65536):
                data += more
        top, _, rest = data.partition(b"\r\n\r\n")
        return int(top.split()[1]), top.decode(), rest

    def end(self) -> str:
        self.process.send_signal(2)
        out, _ = self.process.communicate(timeout=15)
        return out


@pytest.fixture
def served(answered: Drovik) -> Iterator[Served]:
    found = Served(answered, *TASK, "--by", "Mara")
    yield found
    if found.process.poll() is None:
        found.end()


def test_the_page_answers_nobody_without_its_token_or_from_elsewhere(served: Served, answered: Drovik) -> None:
    token, judge = served.token, json.dumps({"number": 0, "verdict": "right"}).encode()
    own = f"http://127.0.0.1:{served.port}"
    kind = {"Content_Type": "application/json"}
    assert served.ask("GET", f"/{token}/state")[0] == 200
    for path in ("/", "/state", f"/{token[:-1]}{'-' if token[-1] == 'x' else 'x'}/state", f"/{token}x/", "//state"):
        assert served.ask("GET", path)[0] == 404, path
    assert served.ask("GET", f"/{token}/state", Host="evil.example")[0] == 404
    assert served.ask("POST", f"/{token}/judge", judge, Origin="http://evil.example", **kind)[0] == 403
    assert served.ask("POST", f"/{token}/judge", judge, **kind)[0] == 403
    assert served.ask("POST", f"/{token}/judge", judge, Origin=own, Content_Type="text/plain")[0] == 415
    for body in (b"", b"[]", b'{"number": 99, "verdict": "right"}', b'{"number": true}', b"[" * 100_000):
        assert served.ask("POST", f"/{token}/judge", body, Origin=own, **kind)[0] == 400
    assert served.ask("POST", f"/{token}/judge", b'{"number": 0, "verdict": "fine"}', Origin=own, **kind)[0] == 409
    assert served.ask("POST", f"/{token}/judge", b"x" * 3_000_000, Origin=own, **kind)[0] == 413
    assert not (answered.folder / "reviews.jsonl").exists()
    status, head, picture = served.ask("GET", f"/{token}/picture/0/0")
    assert (status, picture[:2]) == (200, b"\xff\xd8")
    assert "no-store" in head
    assert served.ask("GET", f"/{token}/picture/0/7")[0] == served.ask("GET", f"/{token}/item/99")[0] == 404
    assert served.ask("POST", f"/{token}/judge", judge, Origin=own, **kind)[0] == 200
    assert len(lines_of(answered.folder)) == 1
    assert "1 of 12 judged by Mara" in served.end()


@pytest.mark.skipif(CHROMIUM is None, reason="needs Debian's chromium")
def test_a_whole_session_by_keys_with_undo_reload_and_a_second_browser(
    served: Served,
    answered: Drovik,
    browser: Any,
) -> None:
    asked: list[str] = []
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.on("request", lambda one: asked.append(one.url))
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on("console", lambda said: wrong.append(said.text) if said.type == "error" else None)

    def told(words: str) -> None:
        page.locator("#progress", has_text=words).wait_for()

    page.goto(served.address)
    told("0 of 12 judged by Mara, blind · item 1")
    assert "gull" not in page.content().split("<script")[0]
    page.keyboard.press("1")
    told("1 of 12 judged")
    page.keyboard.press("n")
    page.keyboard.type("the kind is wrong")
    page.keyboard.press("Enter")
    page.keyboard.press("3")
    told("2 of 12 judged by Mara, blind · item 3")
    page.keyboard.press("u")
    told("1 of 12 judged by Mara, blind · item 2")
    page.reload()
    told("1 of 12 judged by Mara, blind · item 2")
    page.keyboard.press("2")
    told("2 of 12 judged")
    second = context.new_page()
    second.goto(served.address)
    second.locator("#progress", has_text="2 of 12").wait_for()
    second.keyboard.press("1")
    second.locator("#progress", has_text="3 of 12").wait_for()
    page.keyboard.press("ArrowRight")
    told("3 of 12 judged by Mara, blind · item 4")
    for number in range(4, 13):
        page.keyboard.press("1")
        told(f"{number} of 12 judged")
    page.get_by_text("All of it is judged").wait_for()
    said = latest(map(Judgement.model_validate, lines_of(answered.folder)))
    assert len(said) == 12
    assert sorted(one.verdict for one in said) == ["partly"] + ["right"] * 11
    assert all(one.startswith((served.address, "data:")) for one in asked)
    assert wrong == []
    context.close()


@pytest.mark.long
@pytest.mark.skipif(CHROMIUM is None, reason="needs Debian's chromium")
def test_a_field_is_corrected_and_a_missing_box_is_drawn_in_place(
    drovik: Drovik,
    serve: Serve,
    browser: Any,
) -> None:
    reply = {"things": [{"label": "hat", "box": [10, 10, 100, 100], "confidence": 0.9}]}
    demo_on_port(drovik.folder, serve(lambda n, body: good(json.dumps(reply))).port, cases=2)
    drovik("send", "--task", "find", "--arm", "gull/v2")
    served = Served(drovik, "--task", "find", "--arm", "gull/v2", "--by", "Mara", "--open")
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(served.address)
    stage = page.locator(".stage").bounding_box()
    page.locator(".stage rect.shape").first.wait_for(state="attached")
    assert stage
    scale = stage["width"] / 640
    page.keyboard.press("b")
    page.mouse.move(stage["x"] + 100 * scale, stage["y"] + 50 * scale)
    page.mouse.down()
    page.mouse.move(stage["x"] + 300 * scale, stage["y"] + 150 * scale)
    page.mouse.up()
    page.get_by_text("1 missing places drawn").wait_for()
    page.keyboard.press("2")
    page.locator("#progress", has_text="1 of 2 judged").wait_for()
    page.keyboard.press("e")
    field = page.locator("#edit textarea")
    field.fill('[{"label": "cap", "box": [1, 2, 3, 4]}]')
    field.press("Control+Enter")
    page.keyboard.press("3")
    page.locator("#progress", has_text="2 of 2 judged").wait_for()
    first, second = lines_of(drovik.folder)
    assert first["missing"][0] == pytest.approx([100, 50, 300, 150], abs=3)
    assert first["correct"]["things"][1]["box"] == first["missing"][0]
    assert second["correct"] == {"things": [{"label": "cap", "box": [1, 2, 3, 4]}]}
    page.close()
    served.end()


@pytest.mark.long
@pytest.mark.skipif(CHROMIUM is None, reason="needs Debian's chromium")
def test_on_the_page_too_an_answer_is_judged_part_by_part(drovik: Drovik, serve: Serve, browser: Any) -> None:
    said = "A red cap lies there. It has a tag! Nobody wants it."
    demo_on_port(drovik.folder, serve(lambda n, body: good(said)).port, cases=1)
    drovik("send", "--task", "describe", "--arm", "gull/v1")
    served = Served(drovik, "--task", "describe", "--arm", "gull/v1", "--by", "Mara")
    page = browser.new_page()
    page.goto(served.address)
    page.locator("#progress", has_text="0 of 1 judged").wait_for()
    page.keyboard.press("f")
    page.get_by_text("There are no fields here").wait_for()
    for key in ("c", "1", "1", "u", "2", "3"):
        page.keyboard.press(key)
    page.locator("#progress", has_text="1 of 1 judged").wait_for()
    (one,) = lines_of(drovik.folder)
    assert [claim["verdict"] for claim in one["claims"]] == ["true", "false", "unknown"]
    assert one["verdict"] == "partly"
    page.close()
    served.end()


def test_one_case_is_shown_on_the_same_page(answered: Drovik) -> None:
    process = subprocess.Popen(
        [PROGRAM, "show", "lp-002", "--page", "--task", "sort", "--by", "Mara"],
        cwd=answered.folder, env={**os.environ, **answered.environment}, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout
    assert "The page is http://127.0.0.1:" in process.stdout.readline()
    time.sleep(0.2)
    process.send_signal(15)
    assert process.wait(timeout=15) == 0
