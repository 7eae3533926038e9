"""Prompt versions: what differs between them, and how the next one is written from the misses of the last."""

from __future__ import annotations

import json
import os
import re
import tomllib
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest
from in_process import in_process
from test_gathering import FILES, answered, cases, kind, view

from drovik.errors import DrovikError
from drovik.evaluation.prompt_draft import SENTENCES, draft_prompt, draft_text
from drovik.evaluation.prompt_versions import difference_of_prompts, dropped_sentences, prompt_versions
from drovik.evaluation.prompt_writing import draft_of_written, facts_for_writing
from drovik.scoring.causes import cause_table as causes

# Prompt versions.


def test_a_version_has_its_date_and_differs_sentence_by_sentence_in_each_turn(tmp_path: Path) -> None:
    turns = '[[turns]]\nask = "{}"\n[[turns]]\nask = "Sure? {}"\n'
    files = {
        **FILES,
        "tasks/tell/prompts/v1.toml": 'ask = "What? Be short."\n' + turns.format("Where?", "Say why."),
        "tasks/tell/prompts/v2.toml": 'system = "Look."\nask = "What?"\n' + turns.format("Where?", "Say so."),
    }
    with in_process(tmp_path, files, cases=1) as made:
        os.utime(tmp_path / "tasks/tell/prompts/v1.toml", (0, datetime(2026, 3, 4, 12, tzinfo=UTC).timestamp()))
        (seen,) = view(made, "tell", arms=["gull"])
        first, second = prompt_versions(made.project, seen)
        assert (first.written, first.arms, second.arms) == ("2026-03-04", ("gull/v1",), ("gull/v2",))
        assert first.digest != second.digest
        assert [(one.sign, one.part, one.text) for one in difference_of_prompts(*seen.task.prompts)] == [
            ("+", "system", "Look."), (" ", "ask", "What?"), ("-", "ask", "Be short."), (" ", "turn 2", "Where?"),
            (" ", "turn 3", "Sure?"), ("-", "turn 3", "Say why."), ("+", "turn 3", "Say so."),
        ]  # fmt: skip


def test_a_sentence_that_no_version_says_any_more_is_told_with_the_arm_that_asked_it(tmp_path: Path) -> None:
    def files(ask: str, turn: str) -> dict[str, str]:
        prompt = f'system = "Look well."\nask = "{ask}"\n[[turns]]\nask = "{turn}"\n'
        return {**FILES, "tasks/tell/prompts/v1.toml": prompt}

    with in_process(tmp_path, files("What? Be short.", "Sure?"), cases=2) as made:
        (first, control) = (one.requests[0] for one in made.threads("tell", "gull/v1"))
        made.answer(first, "a cap")
        (whole,) = (one for one in made.threads("tell", "gull/v1") if len(one.requests) == 2)
        made.answer(whole.requests[1], "yes")
        made.answer(control, "a hat")
        rename = "UPDATE asked SET name = 'gull/v1~blank', arm = 'controls', case_id = 'c1' WHERE identity = ?"
        made.store.connection.execute(rename, (control.identity,))
        (seen,) = view(made, "tell")
        assert dropped_sentences(made.project, made.store, seen) == []
        mark = first.arm.digest[:4]
    with in_process(tmp_path, files("What? Be brief.", "Really?"), cases=2) as made:
        (seen,) = view(made, "tell")
        assert dropped_sentences(made.project, made.store, seen) == [
            (f"gull/v1@{mark}", "Be short."), (f"gull/v1@{mark}", "Sure?"),
        ]  # fmt: skip


# The next prompt version.


def test_a_draft_has_a_sentence_fit_for_the_task_and_one_example_of_each_cause(tmp_path: Path) -> None:
    files = {**FILES, "cases.jsonl": cases("cap", "cap", "cap", "hat", "mitten", "glove", "glove")}
    with in_process(tmp_path, files, cases=7) as made:
        said = ["caps", "caps", "caps", "cap", "a mitten", "glofe", "glove"]
        answered(made, "sort", {"gull": [*map(kind, said)]})
        (seen,) = view(made, "sort", arms=["gull"])
        draft = draft_prompt(seen, seen.arms[0], "v2")
        assert draft.examples[0] == ("c0", '{"kind":"cap"}'), "of the most frequent cause"
        assert len({text for _, text in draft.examples}) == len(draft.examples) == 3, "of the four kinds"
        assert [one.cases for one in draft.sentences if "{{ labels" in one.text] == [6], "all but the right one"
        odd = replace(draft, system='Say "now"\x1b\\ \x7f', ask='Which?\tOr """none"""\nat all?')
        for one in (draft, odd):
            written = draft_text(one)
            assert tomllib.loads(written)["ask"].strip() == one.text()
            assert tomllib.loads(written).get("system", "").strip() == one.system
            assert "Answer with exactly one of these, as it is written here" in written, "a person reads it"
            assert not re.search("[\x00-\x08\x0b-\x1f\x7f]", written)
        told = [line for line in draft_text(draft).splitlines() if line.startswith("#")]
        assert "plural of the label" in told[2]
        assert "6 cases" in told[2]
        assert told[3] == "# The examples are of c0, c5, c4, which are tuned on."
        sort, tell = (made.project.task(name) for name in ("sort", "tell"))
        assert SENTENCES[causes.PLURAL_OF_LABEL](sort).startswith("Answer with exactly one of these")
        assert SENTENCES[causes.PLURAL_OF_LABEL](tell).startswith("Answer with the label alone")
        assert SENTENCES[causes.INVENTED](sort) == "Give null where nothing is there; do not guess."
        assert SENTENCES[causes.INVENTED](tell) == "Leave out what is not there; do not guess."
        assert SENTENCES[causes.ADDED_PROPERTY](sort).startswith("Answer with nothing but JSON"), "it has no schema"


def test_a_model_that_writes_a_prompt_is_shown_misses_of_tuning_cases_as_they_were_said(tmp_path: Path) -> None:
    told = "".join(
        json.dumps({"id": f"c{n}", "images": [f"{n}.png"], "split": split, "expected": {"tell": text}, "given": given}) + "\n"
        for n, (text, split, given) in enumerate([
            ('a "red" cap', "tune", {"shelf": 3, "row": 1}),
            ("x" * 301, "tune", {"shelf": 4}),
            ("a kept secret", "held_out", {"shelf": 5}),
        ])
    )  # fmt: skip
    with in_process(tmp_path, {**FILES, "cases.jsonl": told}, cases=3) as made:
        answered(made, "tell", {"gull": ["a cap", "y" * 300, "nothing"]})
        (seen,) = view(made, "tell", arms=["gull"])
        arm = seen.arms[0]
        facts = facts_for_writing(seen, arm)
        lines = facts.split("\n")
        assert "on 2 cases, the costliest first:" in facts
        assert "Its answers are text." in facts
        assert "{{ shelf }}: a fact that comes with the picture" in lines
        assert '  answered "a cap", expected "a \\"red\\" cap"' in lines
        assert f'  answered "{"y" * 300}", expected "{"x" * 299}…"' in lines
        assert "secret" not in facts
        assert "row" not in facts, "a slot that only one case fills"
        assert "(none)" not in facts

        draft = draft_of_written(seen, arm, "v2", "auk", {"system": " Look. ", "ask": "What is on {{ shelf }}?\n"})
        assert (draft.system, draft.ask, draft.base, draft.written_by) == (
            "Look.",
            "What is on {{ shelf }}?",
            "v1",
            "auk",
        )
        for written, wrong in (
            ({"system": "{{ row }}", "ask": "What?!"}, "system: has the slot 'row', which nothing fills"),
            ({"ask": "{{ picture"}, "what auk wrote: ask: line 1 of the text"),
            ({"ask": " What? "}, "auk wrote what 'v1' says already"),
            ({"system": "Look.", "ask": " "}, "auk wrote what 'v1' says already"),
        ):
            with pytest.raises(DrovikError, match=re.escape(wrong)):
                draft_of_written(seen, arm, "v2", "auk", written)


def test_a_prompt_that_nothing_fills_in_is_written_without_slots(tmp_path: Path) -> None:
    told = '{"id": "c0", "images": ["0.png"], "expected": {"tell": "a cap"}}\n'
    with in_process(tmp_path, {**FILES, "cases.jsonl": told}, cases=1) as made:
        answered(made, "tell", {"gull": ["a hat"]})
        (seen,) = view(made, "tell", arms=["gull"])
        lines = facts_for_writing(seen, seen.arms[0]).split("\n")
        assert lines[lines.index("(none)") - 1].endswith("and no others:")


def test_what_a_model_that_writes_a_prompt_is_shown_names_the_slots_and_the_costliest_causes(tmp_path: Path) -> None:
    files = {**FILES, "cases.jsonl": cases("cap", "cap", "cap", "hat", None)}
    with in_process(tmp_path, files, cases=5) as made:
        answered(made, "sort", {"gull": [*map(kind, ["caps", "caps", "caps", "cap"]), None]})
        (seen,) = view(made, "sort", arms=["gull"])
        lines = facts_for_writing(seen, seen.arms[0]).split("\n")
        assert "The task: sort. Its answers are JSON." in lines
        assert "(none)" not in lines
        begun = [line for line in lines if line.startswith("- ")]
        assert begun[0].startswith("- plural of the label: 3 cases; without it at most +75")
        assert lines.count('  answered "{\\"kind\\": \\"caps\\"}", expected "{\\"kind\\":\\"cap\\"}"') == 2, (
            "of three"
        )
