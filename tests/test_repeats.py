"""Repeats, repair turns, and whether a service still answers as it did."""

from __future__ import annotations

import json
import re
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, Reply, bad, demo_on_port, good
from test_safety import SORT, Serve, rows

from drovik.evaluation.drift import Drift
from drovik.scoring.agreement import pairwise_agreement

KINDS = ("cap", "hat", "glove", "mitten")


def edit(folder: Path, name: str, old: str, new: str) -> None:
    text = (folder / name).read_text()
    assert old in text
    (folder / name).write_text(text.replace(old, new, 1))


def test_repeats_have_seeds_of_their_own_and_are_averaged_before_anything_is_compared(
    drovik: Drovik, serve: Serve
) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        return good(f'{{"kind": "{KINDS[(body["luck"] - 7) % 2]}"}}')

    service = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=10)
    edit(folder, "drovik.toml", "max_output_tokens = 300 }", "max_output_tokens = 300, seed = 7 }\nrepeats = 3")
    edit(folder, "dialects/plain.toml", '"room":', '"luck": "{seed?}", "room":')
    assert drovik("send", *SORT, "--json").json["answered"] == 30
    assert Counter(body["luck"] for body in service.requests) == {7: 10, 8: 10, 9: 10}
    (arm,) = drovik("score", *SORT, "--json").json["tasks"]["sort"]
    # cap, hat, cap: of the three pairs one agrees.
    assert arm["repeats_agree"] == pytest.approx(1 / 3)
    assert arm["measures"][0]["repeats_agree"] == pytest.approx(1 / 3)
    cases = [eval(line.replace("null", "None")) for line in (folder / "cases.jsonl").read_text().splitlines()]
    kinds = Counter(case["expected"]["sort"]["kind"] for case in cases)
    wanted = (kinds["cap"] * 2 + kinds["hat"]) / 3 / 10
    accuracy = next(one for one in arm["measures"] if one["measure"] == "kind")
    assert accuracy["cases"] == 10
    assert accuracy["score"] == pytest.approx(wanted)
    assert accuracy["interval_by"] != "Wilson"
    assert arm["statuses"] == {"ok": 30}
    assert "asked 3 times each; 33.3 % of the pairs of repeats answer the same" in drovik("score", *SORT).out
    assert drovik("send", *SORT, "--json").json["to_send"] == 0


def test_a_repair_turn_is_told_what_was_wrong_and_is_counted_apart(drovik: Drovik, serve: Serve) -> None:
    firsts = iter(range(100))

    def decide(number: int, body: dict[str, Any]) -> Reply:
        if len(body["talk"]) == 3:
            return good('{"kind": "cap"}', count={"in": 500, "out": 10})
        return good(
            '{"kind": "cap", "more": 1}' if next(firsts) % 2 else '{"kind": "cap"}', count={"in": 400, "out": 10}
        )

    service = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=8, limits="concurrency = 1")
    edit(folder, "tasks/sort/question.toml", "[answer]", "[answer]\nrepair_turn = true")
    sent = drovik("send", *SORT, "--json").json
    assert (sent["answered"], sent["repair_turns"]) == (12, 4)
    again = [body["talk"] for body in service.requests if len(body["talk"]) == 3]
    assert all(talk[1]["parts"][0]["words"] == '{"kind": "cap", "more": 1}' for talk in again)
    assert all(re.search(r"- .*more.*", talk[2]["parts"][0]["words"]) for talk in again)
    (arm,) = drovik("score", *SORT, "--json").json["tasks"]["sort"]
    assert arm["statuses"] == {"ok": 4, "off_schema": 4}
    assert (arm["repair_turns"]["asked"], arm["repair_turns"]["valid"]) == (4, 4)
    first = next(one["score"] for one in arm["measures"] if one["measure"] == "kind")
    second = next(one["score"] for one in arm["repair_turns"]["measures"] if one["measure"] == "kind")
    assert second > first
    assert float(arm["costs"]["money"]["EUR"]) == pytest.approx(8 * (400 * 2.0 + 10 * 7.0) / 1e6)
    assert float(arm["repair_turns"]["costs"]["money"]["EUR"]) == pytest.approx(4 * (500 * 2.0 + 10 * 7.0) / 1e6)
    assert "4 repair turns, 4 valid; with them" in drovik("score", *SORT).out
    assert drovik("send", *SORT, "--json").json["to_send"] == 0


def test_a_recheck_says_what_changed_and_changes_no_answer(drovik: Drovik, serve: Serve) -> None:
    changed = {"now": False}

    def decide(number: int, body: dict[str, Any]) -> Reply:
        other = changed["now"] and number % 4 == 0
        return good(
            '{"kind": "hat"}' if other else '{ "kind": "cap" }',
            model="fulmar-2b" if changed["now"] else "fulmar-2",
        )

    serve_it = serve(decide)
    folder = demo_on_port(drovik.folder, serve_it.port, cases=20, limits="concurrency = 1")
    drovik("send", *SORT)
    before = drovik("score", *SORT, "--json").json
    (same,) = drovik("send", *SORT, "--recheck", "8", "--json").json["recheck"]
    assert (same["asked"], same["same"], same["verdict"]) == (8, 8, "as before")
    changed["now"] = True
    (found,) = drovik("send", *SORT, "--recheck", "8", "--json").json["recheck"]
    assert (found["asked"], found["same"], len(found["changed"])) == (8, 6, 2)
    assert found["verdict"] == "another model is reported"
    assert drovik("score", *SORT, "--json").json == before
    assert rows(folder, "SELECT COUNT(*) FROM attempts WHERE concluded = 2") == [(16,)]
    assert "fulmar-2 → fulmar-2b" in drovik("send", *SORT, "--recheck", "2").out
    drovik("send", *SORT, "--sample", "3", "--resend", "ok")
    assert "the service reported several models: fulmar-2, fulmar-2b" in drovik("score", *SORT).out


def test_less_agreement_than_repeats_show_is_chance_until_it_is_unlikely() -> None:
    """Against SciPy's binomial."""
    from scipy.stats import binom

    for same in range(11):
        one = Drift("t", "a", asked=10, same=same, expected_same=0.8)
        assert one.chance_of_so_few() == pytest.approx(binom.cdf(same, 10, 0.8))
    assert Drift("t", "a", asked=10, same=7, expected_same=0.8).verdict == "within chance"
    assert Drift("t", "a", asked=10, same=4, expected_same=0.8).verdict == "differs, by more than chance"
    assert pairwise_agreement({"a": ["x", "x", "y"], "b": ["z"]}) == pytest.approx(1 / 3)
    assert pairwise_agreement({"a": ["x", "x", None], "b": [None, None]}) == pytest.approx(1 / 4)


def test_repeats_agree_in_what_the_measure_looks_at_and_a_failed_one_agrees_with_none(
    drovik: Drovik, serve: Serve
) -> None:
    """Two of three say the same kind for different reasons, and the third fails for good."""

    def decide(number: int, body: dict[str, Any]) -> Reply:
        if body["luck"] == 9:
            return bad(400, "this one is never answered")
        return good(json.dumps({"kind": "cap", "why": body["luck"]}))

    service = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=5, limits="concurrency = 1")
    edit(folder, "drovik.toml", "max_output_tokens = 300 }", "max_output_tokens = 300, seed = 7 }\nrepeats = 3")
    edit(folder, "dialects/plain.toml", '"room":', '"luck": "{seed?}", "room":')
    edit(folder, "tasks/sort/answer.schema.json", '"additionalProperties": false', '"additionalProperties": true')
    drovik("send", *SORT)
    (arm,) = drovik("score", *SORT, "--json").json["tasks"]["sort"]
    # Of three pairs two have the failed one; the answers differ in all, and are one and the same label.
    assert arm["repeats_agree"] == 0.0
    assert arm["measures"][0]["repeats_agree"] == pytest.approx(1 / 3)
    out = drovik("compare", "--task", "sort").out
    assert "5 of 15 answers failed, more than 5%" in out
