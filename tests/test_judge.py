"""A judge: a task whose cases are the answers of another one, sent and kept as any other."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, demo_on_port, good

from drovik.comparing.judge_agreement import agreement_with_people
from drovik.project.tasks import is_shown_first

SCHEMA = {
    "type": "object",
    "properties": {"right": {"enum": ["yes", "no"]}, "why": {"type": "string"}},
    "required": ["right"],
}
JUDGE = """
title = "Is the description right?"
[answer]
schema = "answer.schema.json"
[judges]
task = "describe"
arms = ["*/v2"]
[measures.people]
type = "label"
at = "/right"
labels = ["yes", "no"]
"""


def words_of(body: dict[str, Any]) -> str:
    return " ".join(part["words"] for turn in body["talk"] for part in turn["parts"] if "words" in part)


def judging(
    folder: Path,
    question: str = JUDGE,
    ask: str = "Judge this description: {{ answer }}. Right would be: {{ expected }}",
) -> Path:
    home = folder / "tasks/judge"
    (home / "prompts").mkdir(parents=True)
    (home / "question.toml").write_text(question)
    (home / "answer.schema.json").write_text(json.dumps(SCHEMA))
    (home / "prompts/v1.toml").write_text(f"ask = {json.dumps(ask)}\n")
    described = folder / "tasks/describe/question.toml"
    described.write_text(
        described.read_text()
        + '\n[measures.judged]\ntype = "judge"\nby = "judge"\narm = "fulmar/v1"\nat = "/right"\nwhy = "/why"\n'
    )
    return folder


def service(number: int, body: dict[str, Any]) -> Reply | None:
    words = words_of(body)
    if words.startswith("Judge this"):
        if "strange" in words:
            return good("I had rather not say.")
        return good(
            json.dumps({"right": "yes" if "blue" in words.split("Right would")[0] else "no", "why": "the colour"})
        )
    return good("A strange thing." if number % 5 == 0 else "A blue bottle on a tray." if number % 2 else "A red hat.")


@pytest.fixture
def judged(drovik: Drovik, serve: Callable[..., FakeService]) -> tuple[Drovik, FakeService]:
    made = serve(service)
    folder = judging(demo_on_port(drovik.folder / "p", made.port, cases=10, limits="concurrency = 1, timeout = 30"))
    return Drovik(folder, drovik.folder), made


def test_a_judge_is_quoted_sent_and_scored_as_any_task_and_says_what_people_think(
    judged: tuple[Drovik, FakeService],
) -> None:
    drovik, made = judged
    assert drovik("check").code == 0
    assert drovik("send", "--task", "describe", "--arm", "gull/v2", "--arm", "fulmar/v2").code == 0
    (quoted,) = drovik("quote", "--task", "judge", "--arm", "fulmar/v1", "--json").json["arms"]
    before = len(made.requests)
    assert drovik("send", "--task", "judge", "--arm", "fulmar/v1").code == 0
    asked = made.requests[before:]
    assert len({words_of(one) for one in asked}) <= len(asked) <= 20
    assert quoted["requests"]["expected"] == len(asked), "what two arms answered alike is judged once"
    assert all("Right would be: {" in words_of(one) for one in asked)
    assert "Nothing to send" in drovik("send", "--task", "judge", "--arm", "fulmar/v1").out
    found = {
        one["arm"]: one["measures"]
        for one in drovik("score", "--task", "describe", "--json").json["tasks"]["describe"]
    }
    for arm in ("gull/v2", "fulmar/v2"):
        texts = [
            drovik("show", f"lp-{n:03d}", "--task", "describe", "--arm", arm, "--json").json["tasks"]["describe"][
                "arms"
            ][arm]["text"]
            for n in range(1, 11)
        ]
        kept = [text for text in texts if "strange" not in text]
        (one,) = (one for one in found[arm] if one["measure"] == "judged")
        assert one["score"] == pytest.approx(sum("blue" in text for text in kept) / len(kept))
        assert one["failed"] == len(texts) - len(kept)
        assert one["checked"] == "judged: judged by a model, not checked against people"
    reviews = [
        {"task": "judge", "case": f"lp-{n:03d}", "arm": "gull/v2", "verdict": {"right": "yes" if n % 3 else "no"}}
        for n in range(1, 8)
    ]
    (drovik.folder / "reviews.jsonl").write_text("".join(json.dumps(row) + "\n" for row in reviews))
    told = drovik("score", "--task", "describe").out
    assert re.search(
        r"beside people kappa -?\d\.\d\d \(95 % interval -?\d\.\d\d to -?\d\.\d\d\), \d+% the same, \d reviews", told
    )
    agreement = drovik("score", "--task", "judge", "--arm", "fulmar/v1", "--json").json["tasks"]["judge"][0][
        "measures"
    ][0]
    assert "Cohen's kappa" in agreement["figures"]
    assert agreement["cases"] == 7


def test_two_sides_come_in_an_order_drawn_by_chance_and_count_for_whose_they_are(
    drovik: Drovik, serve: Callable[..., FakeService]
) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply | None:
        words = words_of(body)
        if words.startswith("Which"):
            return good(json.dumps({"right": "first" if "blue" in words.split("|")[1] else "second"}))
        return good("A blue bottle." if body["model"] == "gull-1" else "A red hat.")

    folder = demo_on_port(drovik.folder / "p", serve(decide).port, cases=10)
    question = JUDGE.replace('arms = ["*/v2"]', 'arms = ["gull/v2"]\nagainst = "fulmar/v2"').partition("[measures")[0]
    judging(folder, question, "Which is better? |{{ first }}| or |{{ second }}|")
    (folder / "tasks/judge/answer.schema.json").write_text(
        json.dumps({"type": "object", "properties": {"right": {"enum": ["first", "second"]}}})
    )
    inside = Drovik(folder, drovik.folder)
    assert inside("send", "--task", "describe", "--arm", "*/v2").code == 0
    assert inside("send", "--task", "judge", "--arm", "fulmar/v1").code == 0
    measures = inside("score", "--task", "describe", "--arm", "gull/v2", "--json").json["tasks"]["describe"][0][
        "measures"
    ]
    assert [one["score"] for one in measures if one["measure"] == "judged"] == [1]
    assert {is_shown_first(f"lp-{n:03d}", "gull/v2") for n in range(1, 11)} == {True, False}


def test_kappa_beside_people_is_that_of_the_table() -> None:
    pairs = [("yes", "yes")] * 20 + [("yes", "no")] * 5 + [("no", "yes")] * 10 + [("no", "no")] * 15
    value, (low, high), same = agreement_with_people(pairs)
    # 35 of 50 agree; by chance (25 · 30 + 25 · 20) / 50² of them would: kappa = (0.7 - 0.5) / (1 - 0.5).
    assert (value, same) == (pytest.approx(0.4), pytest.approx(0.7))
    assert low < 0.4 < high


def test_what_is_wrong_with_a_judge_is_told(judged: tuple[Drovik, FakeService]) -> None:
    drovik, _ = judged
    question = drovik.folder / "tasks/judge/question.toml"
    question.write_text(JUDGE.replace('"describe"', '"describes"'))
    (drovik.folder / "reviews.jsonl").write_text(
        '{"task": "judges", "case": "a", "arm": "b", "verdict": 1}\n{"task": \n'
    )
    told = drovik("check").out
    assert "judges.task: unknown task 'describes'; did you mean 'describe'?" in told
    assert "reviews.jsonl: line 1: there is no task 'judges'" in told
    assert "reviews.jsonl: line 2: is not JSON" in told
    question.write_text(JUDGE.split("[judges]", maxsplit=1)[0])
    (drovik.folder / "reviews.jsonl").unlink()
    (drovik.folder / "tasks/judge/prompts/v1.toml").write_text('ask = "Is it right?"')
    assert "the task 'judge' judges no other" in drovik("score", "--task", "describe").err
