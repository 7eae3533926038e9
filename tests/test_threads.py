"""Conversations and chains: what is asked next holds the answers before, and is scored by itself."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, bad, demo_on_port, good

Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]


def words_of(body: dict[str, Any]) -> list[str]:
    return [part["words"] for turn in body["talk"] for part in turn["parts"] if "words" in part]


def write(folder: Path, name: str, text: str) -> None:
    (folder / name).parent.mkdir(parents=True, exist_ok=True)
    (folder / name).write_text(text)


def conversation(drovik: Drovik, service: FakeService, cases: int = 3) -> Path:
    """A project with one task in which the kind is asked for in the second turn."""
    folder = demo_on_port(drovik.folder, service.port, cases=cases)
    write(
        folder,
        "tasks/sort/prompts/v1.toml",
        'ask = "What is on the tray?"\n[[turns]]\nask = "So which kind is it, for {{ labels[0] }}?"\n',
    )
    (folder / "tasks/sort/prompts/v2.toml").unlink()
    return folder


def kinds(folder: Path) -> dict[str, str]:
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    return {row["id"]: row["expected"]["sort"]["kind"] for row in rows}


def test_a_later_turn_is_asked_with_the_answer_before_and_the_last_is_scored(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good("A thing of wool." if len(body["talk"]) == 1 else '{"kind": "cap"}'))
    folder = conversation(drovik, service)
    sent = drovik("send", "--task", "sort", "--arm", "fulmar", "--json").json
    assert (sent["answered"], sent["requests"]) == (6, 6)
    later = [body for body in service.requests if len(body["talk"]) == 3]
    assert len(later) == 3
    for body in later:
        assert [turn["by"] for turn in body["talk"]] == ["asker", "desk", "asker"]
        assert words_of(body)[1] == "A thing of wool."
        assert words_of(body)[2].startswith("So which kind is it, for ")
        assert ["picture" in part for part in body["talk"][0]["parts"]][0]
        assert all("picture" not in part for part in body["talk"][2]["parts"])
    (arm,) = drovik("score", "--task", "sort", "--arm", "fulmar", "--json").json["tasks"]["sort"]
    right = list(kinds(folder).values()).count("cap")
    assert arm["measures"][0]["score"] == pytest.approx(right / 3)
    assert arm["costs"]["input_tokens"] == 6000  # both turns are paid for
    assert drovik("send", "--task", "sort", "--arm", "fulmar", "--json").json["to_send"] == 0


def test_another_answer_before_is_another_question(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good(f"Thing {n}." if len(body["talk"]) == 1 else '{"kind": "cap"}'))
    folder = conversation(drovik, service, cases=2)
    drovik("send", "--task", "sort", "--arm", "fulmar")
    prompt = folder / "tasks/sort/prompts/v1.toml"
    prompt.write_text(prompt.read_text().replace("So which", "Then which"))
    again = drovik("send", "--task", "sort", "--arm", "fulmar", "--json").json
    assert (again["answered"], again["answered_before"]) == (2, 2)  # the first turn is not asked again
    assert [len(body["talk"]) for body in service.requests[-2:]] == [3, 3]


def test_a_measure_may_look_at_an_earlier_turn(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "hat"}' if len(body["talk"]) == 1 else '{"kind": "cap"}'))
    folder = conversation(drovik, service, cases=4)
    question = folder / "tasks/sort/question.toml"
    question.write_text(
        question.read_text() + '\n[measures.at_first]\ntype = "label"\nat = "/kind"\nturn = 1\n'
        'labels = ["glove", "mitten", "cap", "hat", "flask", "bottle", "rucksack", "holdall"]\n'
    )
    drovik("send", "--task", "sort", "--arm", "fulmar")
    scored = drovik("score", "--task", "sort", "--arm", "fulmar", "--json")
    assert scored.code == 0, scored.err
    (arm,) = scored.json["tasks"]["sort"]
    scores = {one["measure"]: one["score"] for one in arm["measures"]}
    wanted = list(kinds(folder).values())
    assert scores == {"kind": wanted.count("cap") / 4, "at_first": wanted.count("hat") / 4}


def test_a_failed_turn_leaves_the_rest_unasked(drovik: Drovik, serve: Serve) -> None:
    begun: list[int] = []

    def answers(number: int, body: dict[str, Any]) -> Reply:
        if len(body["talk"]) == 1:
            begun.append(number)
        return bad(400, "no") if len(body["talk"]) == 1 and len(begun) == 2 else good("A thing.")

    service = serve(answers)
    conversation(drovik, service, cases=3)
    sent = drovik("send", "--task", "sort", "--arm", "fulmar", "--json").json
    assert sent["failed"] == 1
    assert sent["answered"] == 4


def chained(drovik: Drovik, service: FakeService, after: str, where: str = "") -> Path:
    folder = demo_on_port(drovik.folder, service.port, cases=4)
    write(
        folder,
        "tasks/colour/question.toml",
        f'{after}\n{where}\n[answer]\nform = "text"\n[measures.facts]\ntype = "facts"\n',
    )
    write(
        folder,
        "tasks/colour/prompts/v1.toml",
        'ask = "It is {{ earlier.sort.kind }}, or in full {{ earlier.sort }}. Which colour?"\n',
    )
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    for row in rows:
        row["expected"]["colour"] = {"must": [["red"]]}
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    return folder


def answer_by_words(number: int, body: dict[str, Any]) -> Reply:
    return good("It is blue." if "Which colour" in words_of(body)[-1] else '{"kind": "cap"}')


def test_a_chained_task_takes_up_the_answer_before_and_a_miss_says_where_it_began(
    drovik: Drovik, serve: Serve
) -> None:
    service = serve(answer_by_words)
    folder = chained(drovik, service, 'after = "sort"')
    assert drovik("check").out.startswith("Nothing is wrong")
    waiting = drovik("send", "--task", "colour", "--arm", "gull/v1")
    assert "4 requests: colour waits for sort" in waiting.out
    sent = drovik("send", "--task", "sort", "--task", "colour", "--arm", "gull/v1", "--json").json
    assert sent["answered"] == 8
    asked = [words_of(body)[-1] for body in service.requests if "Which colour" in words_of(body)[-1]]
    assert asked == ['It is cap, or in full {"kind": "cap"}. Which colour?'] * 4
    for case, kind in kinds(folder).items():
        found = drovik("show", case, "--task", "colour", "--arm", "gull/v1", "--json").json
        causes = [one["note"] for one in found["tasks"]["colour"]["arms"]["gull/v1"]["measures"]["facts"]["findings"]]
        assert causes
        assert all(("sort was wrong already" in cause) == (kind != "cap") for cause in causes)


def test_a_task_after_a_conversation_takes_up_its_last_answer(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        if "Which colour" in words_of(body)[-1]:
            return good("It is red.")
        return good('{"kind": "hat"}' if len(body["talk"]) == 1 else '{"kind": "cap"}')

    service = serve(decide)
    folder = chained(drovik, service, 'after = "sort"')
    write(
        folder,
        "tasks/sort/prompts/v1.toml",
        'ask = "At first sight, which kind?"\n[[turns]]\nask = "Look again. Which kind is it?"\n',
    )
    sent = drovik("send", "--task", "sort", "--task", "colour", "--arm", "gull/v1", "--json").json
    assert (sent["answered"], sent["failed"]) == (12, 0)
    asked = [words_of(body)[-1] for body in service.requests if "Which colour" in words_of(body)[-1]]
    assert asked == ['It is cap, or in full {"kind": "cap"}. Which colour?'] * 4


def test_where_leaves_cases_unasked_and_out_of_the_scores(drovik: Drovik, serve: Serve) -> None:
    def answers(number: int, body: dict[str, Any]) -> Reply:
        return good(
            "It is red."
            if "Which colour" in words_of(body)[-1]
            else json.dumps({"kind": "cap" if number % 2 else "hat"})
        )

    service = serve(answers)
    chained(drovik, service, 'after = "sort"', 'where = { at = "/kind", is = "cap" }')
    sent = drovik("send", "--task", "sort", "--task", "colour", "--arm", "gull/v1", "--json").json
    asked = [body for body in service.requests if "Which colour" in words_of(body)[-1]]
    assert 0 < len(asked) < 4
    (arm,) = drovik("score", "--task", "colour", "--arm", "gull/v1", "--json").json["tasks"]["colour"]
    assert (arm["not_sent"], arm["measures"][0]["cases"]) == (0, len(asked))
    assert sent["left"] == 0


def test_what_a_dialect_has_no_place_for_is_a_line_of_check(drovik: Drovik, serve: Serve) -> None:
    folder = conversation(drovik, serve(answer_by_words))
    question = folder / "tasks/sort/question.toml"
    question.write_text(question.read_text().replace("[answer]", "[answer]\nsend_schema = true"))
    (folder / "dialects/plain.toml").write_text(
        '[request]\nbody = \'{"m": "{model}", "q": "{last.text}", "t": "{temperature?}", "n": "{max_output_tokens?}"}\'\n[reply]\ntext = "$.a"\n'
    )
    told = drovik("check").out
    assert (
        "dialects/plain.toml: request: it has no place for a picture, and the model 'fulmar' is asked about some"
        in told
    )
    assert "it has a place for one question, and the task 'sort' is a conversation; write {turns.text}" in told
    assert "it has no place for the schema, which the task 'sort' sends; add the slot {schema?}" in told
    assert drovik("send").code == 2


@pytest.mark.parametrize(
    ("after", "where", "line"),
    [
        ('after = "srot"', "", "after: unknown task 'srot'; did you mean 'sort'?"),
        ('after = "colour"', "", "after: it comes after itself, round a circle"),
        ('after = { task = "sort", prompt = "v9" }', "", "'sort' has no prompt version 'v9'"),
        ('after = { task = "sort", model = "auk" }', "", "there is no model 'auk'"),
        ("", 'where = { at = "/kind", is = "cap" }', "the task comes after no other"),
        ('after = "sort"', "where = { at = 'kind', is = 'cap' }", "'kind' is not a JSON Pointer"),
        ('after = "sort"', "where = { at = '/kind' }", "it has one of 'is', 'is_not' and 'has'"),
    ],
)
def test_a_wrong_chain_is_a_line_of_check(drovik: Drovik, serve: Serve, after: str, where: str, line: str) -> None:
    chained(drovik, serve(answer_by_words), after, where)
    result = drovik("check")
    assert result.code == 1
    assert line in result.out
