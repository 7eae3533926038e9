"""From answers to what a person looks into: suspect labels, contradictions, what to fix first, whether it drifts."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Mapping
from decimal import Decimal
from math import comb
from pathlib import Path
from typing import Any

import pytest
from in_process import SETTINGS, InProcess, in_process

from drovik.errors import DrovikError
from drovik.evaluation.case_columns import levels_of
from drovik.evaluation.constant_scores import constant_scores
from drovik.evaluation.drift import Drift, drift_of
from drovik.evaluation.error_impact import cause_impacts
from drovik.evaluation.gathering import TaskView, gather
from drovik.evaluation.periods import change_between, change_text
from drovik.evaluation.suspects import contradictions, impacts_of, near_duplicates, near_pairs, suspects_of
from drovik.images.inspection import PerceptualHash
from drovik.project.spending import Spending
from drovik.scoring.catalogue import measures_of

MODELS = SETTINGS.replace("repeats = 2\n", "") + "".join(
    f'[models.{name}]\nendpoint = "desk"\nid = "{name}-1"\n{more}\n'
    for name, more in (("auk", ""), ("tern", ""), ("dunlin", "takes_pictures = false"))
)
KINDS = ["cap", "hat", "mitten", "glove"]
FILES = {
    "tasks/sort/question.toml": (
        '[answer]\nform = "json"\n[measures.kind]\ntype = "label"\nat = "/kind"\n'
        f'labels = {json.dumps(KINDS)}\nsame_as = {{ bonnet = "cap" }}\n'
    ),
    "tasks/sort/prompts/v1.toml": 'ask = "Which?"\n',
    "tasks/tell/question.toml": '[answer]\nform = "text"\n[measures.said]\ntype = "text"\n',
    "tasks/tell/prompts/v1.toml": 'ask = "What?"\n',
}


def cases(*expected: str | None, split: str = "tune") -> str:
    return "".join(
        json.dumps({"id": f"c{n}", "images": [f"{n}.png"], "split": split}
                   | ({} if kind is None else {"expected": {"sort": {"kind": kind}}})) + "\n"
        for n, kind in enumerate(expected)
    )  # fmt: skip


def answered(made: InProcess, task: str, answers: Mapping[str, list[str | None]]) -> None:
    for arm, texts in answers.items():
        for one, text in zip(made.threads(task, f"{arm}/v1"), texts, strict=True):
            if text is not None:
                made.answer(one.requests[0], text)


def view(made: InProcess, *tasks: str, **more: Any) -> list[TaskView]:
    return gather(made.project, made.store, tasks, more.get("arms"), more.get("split", "all"))


def kind(name: str) -> str:
    return json.dumps({"kind": name})


# Suspect labels.


def test_a_label_is_suspect_where_most_arms_and_two_models_say_the_same_of_it(tmp_path: Path) -> None:
    files = {**FILES, "cases.jsonl": cases("cap", "cap", "cap", "cap", "hat")}
    with in_process(tmp_path, files, cases=5, settings=MODELS) as made:
        right = kind("cap")
        answered(made, "sort", {
            "gull": [kind("hat"), right, kind("hat"), kind("hat"), kind("hat")],
            "fulmar": [kind("hat"), kind("hat"), kind("glove"), kind("Hat"), kind("hat")],
            "auk": [kind("hat"), right, kind("hat"), right, kind("hat")],
            "tern": [right, right, kind("mitten"), right, kind("hat")],
            "dunlin": [kind("hat")] * 5,
        })  # fmt: skip
        (sort,) = view(made, "sort")
        found = suspects_of(sort)
        # c1: one model alone; c2: half of the answers; c3: as many say what is expected; c4 is right.
        assert [(one.case, one.expected, one.said, one.where) for one in found] == [("c0", "cap", "hat", "/kind")]
        (one,) = found
        assert (one.agreeing, one.others) == (("auk/v1", "fulmar/v1", "gull/v1"), ("tern/v1",))
        assert one.share == 0.75  # a model that does not see has no say
        impacts = {arm: rows for arm, _, rows in impacts_of(sort)}
        assert "dunlin/v1" not in impacts
        confused = next(row for row in impacts["auk/v1"] if row.cases == 2)
        assert (confused.suspects, confused.owner) == (1, confused.cause.owner)


def test_differences_of_form_make_no_label_suspect(tmp_path: Path) -> None:
    files = {**FILES, "cases.jsonl": cases("cap", "cap")}
    with in_process(tmp_path, files, cases=2, settings=MODELS) as made:
        answered(made, "sort", {arm: [kind("caps"), "no JSON"] for arm in ("gull", "fulmar", "auk", "tern")})
        assert suspects_of(view(made, "sort")[0]) == []


# Contradictions.


def test_what_an_arm_says_in_two_tasks_is_held_against_each_other(tmp_path: Path) -> None:
    files = {**FILES, "cases.jsonl": cases("cap", "cap", "cap", "cap", "cap")}
    with in_process(tmp_path, files, cases=5, settings=MODELS) as made:
        answered(made, "sort", {
            "gull": [kind("cap"), kind("cap"), kind("cap"), "none", kind("cap")],
            "auk": [kind("caps"), kind("shoe"), kind("cap"), kind("cap"), None],
        })  # fmt: skip
        answered(made, "tell", {
            "gull": ["A red hat.", "A cap and a hat.", "There is no hat.", "A hat.", None],
            "auk": ["A mitten.", "A hat.", "A thing.", "Two gloves on a tray.", "A hat."],
        })  # fmt: skip
        sort, tell = view(made, "sort", "tell")
        wanted = {
            ("c0", "auk/v1", "caps", "mitten"),
            ("c0", "gull/v1", "cap", "hat"),
            ("c3", "auk/v1", "cap", "glove"),
        }
        assert {(one.case, one.arm, *one.words) for one in contradictions([sort, tell])} == wanted
        turned = contradictions([tell, sort])
        assert {(one.case, one.arm, *one.words[::-1]) for one in turned} == wanted
        assert {(one.first, one.second) for one in turned} == {("tell", "sort")}


def test_members_of_the_same_name_are_held_against_each_other(tmp_path: Path) -> None:
    other = {
        name.replace("sort", "again"): text.replace("Which?", "Again?")
        for name, text in FILES.items()
        if "sort" in name
    }
    files = {**FILES, **other, "cases.jsonl": cases(*["cap"] * 4)}
    with in_process(tmp_path, files, cases=4, settings=MODELS) as made:
        sort, again = (
            ['{"kind": "cap", "n": 1}', '{"kind": "cap", "wet": true}', '{"kind": "Cap "}', '{"kind": ["cap"]}'],
            ['{"kind": "cap", "n": 2}', '{"kind": "cap", "wet": false}', '{"kind": "cap"}', '{"kind": "hat"}'],
        )
        answered(made, "sort", {"gull": list(sort)})
        answered(made, "again", {"gull": list(again)})
        found = contradictions(view(made, "sort", "again"))
        assert [(one.case, one.words) for one in found] == [("c0", ("n: 1", "n: 2"))]


# Pictures that look the same.


def test_pictures_that_look_the_same_with_another_label_are_named(tmp_path: Path) -> None:
    """All pictures of the small project are black: every two of them look the same."""
    files = {**FILES, "cases.jsonl": cases("cap", "hat", "cap", None)}
    with in_process(tmp_path, files, cases=4, settings=MODELS) as made:
        found = near_duplicates(made.project, view(made, "sort"))
        assert [(one.first, one.second, one.tasks) for one in found] == [
            ("c0", "c1", ("sort",)),
            ("c1", "c2", ("sort",)),
        ]
        (made.project.folder / "1.png").write_bytes(b"broken")
        assert near_duplicates(made.project, view(made, "sort")) == []


def test_what_is_expected_of_one_picture_most_often_is_held_to_be_usual(tmp_path: Path) -> None:
    rows = [json.loads(line) for line in cases("hat", "cap", "cap", "mitten").splitlines()]
    one = "".join(json.dumps({**row, "images": ["0.png"]}) + "\n" for row in rows)
    with in_process(tmp_path, {**FILES, "cases.jsonl": one}, cases=4, settings=MODELS) as made:
        found = near_duplicates(made.project, view(made, "sort"))
        assert [(one.first, one.second) for one in found] == [("c0", "c1"), ("c1", "c3")]
    (tmp_path / "two").mkdir()
    two = "".join(f"{line}\n" for line in one.splitlines()[:2])
    with in_process(tmp_path / "two", {**FILES, "cases.jsonl": two}, cases=4, settings=MODELS) as made:
        assert [(one.first, one.second) for one in near_duplicates(made.project, view(made, "sort"))] == [
            ("c0", "c1")
        ]


def test_levels_of_words_are_in_the_order_of_how_many_have_them_and_then_of_their_names(tmp_path: Path) -> None:
    rows = [json.loads(line) for line in cases(*["cap"] * 4, None).splitlines()]
    ships = ({"ship": "b"}, {"ship": "a"}, {"ship": "c"}, {"ship": "c"}, {})
    given = "".join(json.dumps({**row, "given": ship}) + "\n" for row, ship in zip(rows, ships, strict=True))
    with in_process(tmp_path, {**FILES, "cases.jsonl": given}, cases=5, settings=MODELS) as made:
        task = made.task("sort")
        (measure,) = measures_of(task, [])
        found = levels_of(made.project, made.store, task, measure, made.project.cases, "given.ship")
        assert found.levels == ("c", "a", "b", "(none)")
        kinds = levels_of(made.project, made.store, task, measure, made.project.cases, "expected.kind")
        assert kinds.levels == ("cap", "(none)")


def test_levels_are_numbers_bands_of_them_the_most_frequent_words_or_what_is_said_of_the_pictures(
    tmp_path: Path,
) -> None:
    words = ["w00"] * 10 + ["w01"] * 7 + [f"w{n:02d}" for n in range(2, 12)] * 2 + ["w12", "w13", "w14"]
    rows = [
        {
            "id": f"c{n}", "images": [f"{n % 3}.png", "3.png"][: 1 + n % 2], "group": "g" if n < 30 else None,
            "split": "held_out" if n < 4 else "tune", "expected": {"sort": {"kind": "cap" if n % 4 else "hat"}},
            "given": {"many": n * 0.7, "few": [1, 2.5, 1e6][n % 3], "word": words[n], "mark": n < 39 and n % 2 == 0,
                      "mixed": 7 if n else "seven", "near": 100 + n / 50, "small": n / 1e6, "empty": ""},
        }
        for n in range(40)
    ]  # fmt: skip
    files = {**FILES, "cases.jsonl": "".join(json.dumps(one) + "\n" for one in rows)}
    with in_process(tmp_path, files, cases=4, settings=MODELS) as made:
        task = made.task("sort")
        (measure,) = measures_of(task, [])

        def levels(column: str) -> dict[str, int]:
            found = levels_of(made.project, made.store, task, measure, made.project.cases, column)
            assert (set(found.of), found.column) == ({one["id"] for one in rows}, column)
            counts = Counter(found.of.values())
            return {one: counts.pop(one) for one in found.levels} | counts

        bands = {"below 6.8": 10, "6.8 to below 13.6": 10, "13.6 to below 20.5": 10, "20.5 and more": 10}
        assert list(levels("given.many").items()) == list(bands.items())
        assert list(levels("given.near")) == [
            "below 100.195", "100.195 to below 100.39", "100.39 to below 100.585", "100.585 and more"
        ]  # fmt: skip
        assert list(levels("given.small"))[:2] == ["below 0.0000097", "0.0000097 to below 0.0000195"]
        assert list(levels("given.few").items()) == [("1", 14), ("2.5", 13), ("1000000", 13)]
        most = {"w00": 10, "w01": 7, **{f"w{n:02d}": 2 for n in range(2, 11)}, "(others)": 5}
        assert list(levels("given.word").items()) == list(most.items())
        assert levels("given.mark") == {"false": 20, "true": 20}
        assert levels("given.mixed") == {"7": 39, "seven": 1}
        assert levels("given.empty") == {'""': 40}
        assert levels("label") == levels("expected.kind") == {"cap": 30, "hat": 10}
        assert list(levels("group").items()) == [("g", 30), ("(none)", 10)]
        assert levels("split") == {"tune": 36, "held_out": 4}
        assert levels("pictures.count") == {"1": 20, "2": 20}
        assert levels("pictures.width") == {"4": 14, "5": 13, "6": 13}
        assert levels("pictures.pixels") == {"16": 14, "20": 13, "24": 13}
        for column, wrong in (("given.none", "no case has anything at"), ("depth", "there is no column 'depth'"),
                              ("pictures.depth", "there is no column"), ("label.kind", "there is no column")):  # fmt: skip
            with pytest.raises(DrovikError, match=wrong):
                levels(column)


def test_prints_that_differ_in_up_to_twelve_bits_are_found() -> None:
    def mark(bits: int) -> PerceptualHash:
        return PerceptualHash(bits, b"\0" * 1728)

    spread = sum(1 << (16 * word) for word in range(12))  # one bit in each of twelve words
    prints = {"a": mark(0), "b": mark(spread), "c": mark((1 << 256) - 1), "d": mark(((1 << 256) - 1) ^ spread)}
    assert near_pairs(prints) == [("a", "b"), ("c", "d")]
    assert near_pairs({**prints, "b": mark(spread | 1 << 255)}) == [("c", "d")]
    assert near_pairs({"a": mark(5), "b": mark(5), "c": mark((1 << 30) - 1)}) == [("a", "b")]


# What to fix first.


def test_causes_are_ordered_by_what_the_score_would_be_without_them(tmp_path: Path) -> None:
    files = {**FILES, "cases.jsonl": cases(*["cap"] * 10)}
    with in_process(tmp_path, files, cases=10, settings=MODELS) as made:
        texts = [kind("caps"), kind("caps"), "It is a cap.", kind("CAP"), kind("hat"), *[kind("cap")] * 5]
        answered(made, "sort", {"gull": list(texts)})
        (sort,) = view(made, "sort", arms=["gull/v1"])
        score = sort.score_of("gull/v1").measure("kind")
        assert score is not None
        right = score.value * 10
        impacts = cause_impacts(sort.task, score, suspects={"c0", "c4"})
        assert [one.without for one in impacts] == sorted((one.without for one in impacts), reverse=True)
        by_example = {one.examples[0]: one for one in impacts}
        plural, prose, confused = by_example["c0"], by_example["c2"], by_example["c4"]
        assert (plural.cases, plural.findings, plural.alone, plural.suspects) == (2, 2, 2, 1)
        assert plural.examples == ("c0", "c1")
        assert plural.without == pytest.approx((right + 2) / 10)
        assert prose.without == pytest.approx((right + 1) / 10)
        assert confused.owner == "expected output"
        assert confused.remedy == "see whether the expected outputs are right: drovik score --suspects"
        assert confused.line.startswith(f"1 of {confused.missed} misses: ")
        assert plural.line.startswith(f"2 of {plural.missed} misses are ")
        assert plural.owner == plural.cause.owner
        assert plural.missed == sum(bool(one.score and one.score.findings) for one in score.scored)


@pytest.mark.parametrize(("answers", "said"), [
    (["hat"] * 5, "kind: every answer scored 0 (5 answers): see whether `at`"), (["cap"] * 5, "kind: every answer scored 1 (5 answers)"),
    (["hat"] * 4 + [None], ""), (["hat"] * 4 + ["cap"], ""),
])  # fmt: skip
def test_a_score_that_is_the_same_for_every_answer_is_pointed_at(
    tmp_path: Path, answers: list[str | None], said: str
) -> None:
    with in_process(tmp_path, {**FILES, "cases.jsonl": cases(*["cap"] * 5)}, cases=5, settings=MODELS) as made:
        answered(made, "sort", {"gull": [None if one is None else kind(one) for one in answers]})
        found = constant_scores(view(made, "sort")[0])
        assert [one[: len(said)] for one in found] == ([said] if said else [])


# What is gathered.


@pytest.fixture
def repeated(tmp_path: Path) -> Iterator[InProcess]:
    files = {
        **FILES,
        "cases.jsonl": cases("cap", "hat")
        + cases("cap", split="held_out").replace("c0", "c2").replace("0.png", "2.png"),
    }
    with in_process(tmp_path, files, cases=3) as made:
        yield made


def test_the_first_repeat_is_shown_and_all_are_scored(repeated: InProcess) -> None:
    for one in repeated.threads("sort", "fulmar/v1"):
        if one.case.id == "c0" or one.repeat == 2:
            repeated.answer(one.requests[0], kind("cap" if one.repeat == 1 else "hat"))
    (sort,) = view(repeated, "sort", arms=["fulmar"])
    assert [arm.name for arm in sort.arms] == ["fulmar/v1"]
    assert {case: one.value for case, one in sort.answers["fulmar/v1"].items()} == {"c0": {"kind": "cap"}}
    assert set(sort.identities["fulmar/v1"]) == {"c0", "c1", "c2"}
    score = sort.score_of("fulmar/v1").measure("kind")
    assert score is not None
    assert [one.score.value if one.score else None for one in score.cases] == [0.5, 1.0, 0.0]
    held = view(repeated, "sort", split="held_out")[0]
    assert [case.id for case in held.cases] == ["c2"]
    assert held.structure("fulmar/v1") is None  # the answers to c2 alone: one, and it is of the second repeat
    assert sort.structure("fulmar/v1") is not None
    assert [one.task.name for one in gather(repeated.project, repeated.store, None, None, "all")] == ["sort", "tell"]
    assert view(repeated, "tell")[0].structure("fulmar/v1") is None


def test_the_answer_of_a_conversation_is_that_to_its_last_turn(tmp_path: Path) -> None:
    files = {**FILES, "tasks/tell/prompts/v1.toml": 'ask = "What?"\n[[turns]]\nask = "Sure?"\n'}
    with in_process(tmp_path, files, cases=3) as made:
        first = {one.case.id: one.requests[0] for one in made.threads("tell", "gull/v1")}
        made.answer(first["c0"], "a cap", tokens=(70, 3))
        made.answer(first["c1"], status=500)
        (whole,) = (one for one in made.threads("tell", "gull/v1") if one.case.id == "c0")
        made.answer(whole.requests[1], "a hat", tokens=(90, 2))
        (tell,) = view(made, "tell", arms=["gull"])
        assert {case: one.value for case, one in tell.answers["gull/v1"].items()} == {"c0": "a hat"}
        assert set(tell.identities["gull/v1"]) == {"c0"}, "of the others nothing is known but the first turn"
        costs = tell.score_of("gull/v1").costs
        assert (costs.input_tokens, costs.output_tokens) == (160, 5), "all turns are paid for"

        for turn, tokens in ((0, (70, 30)), (1, (90, 20))):
            for one in made.threads("tell", "fulmar/v1"):
                if one.case.id == "c0":
                    made.answer(
                        one.requests[turn], f"{turn} {one.repeat}", tokens=(tokens[0], tokens[1] * one.repeat)
                    )
        (tell,) = view(made, "tell", arms=["fulmar"])
        costs = tell.score_of("fulmar/v1").costs
        assert (costs.input_tokens, costs.output_tokens) == (2 * 160, 3 * 50), "all turns of both repeats are"


def test_a_measure_of_an_earlier_turn_is_of_all_repeats_too(tmp_path: Path) -> None:
    files = {
        **FILES,
        "cases.jsonl": cases("cap", "cap"),
        "tasks/sort/question.toml": FILES["tasks/sort/question.toml"] + "turn = 1\n",
        "tasks/sort/prompts/v1.toml": 'ask = "Which?"\n[[turns]]\nask = "Sure?"\n',
    }
    with in_process(tmp_path, files, cases=2) as made:
        for one in made.threads("sort", "fulmar/v1"):
            if (one.case.id, one.repeat) != ("c1", 2):
                made.answer(one.requests[0], kind("cap" if one.repeat == 1 else "hat"))
        (sort,) = view(made, "sort", arms=["fulmar"])
        score = sort.score_of("fulmar/v1").measure("kind")
        assert score is not None
        assert [one.score and one.score.value for one in score.cases] == [0.5, 1.0]


def test_an_arm_in_two_periods_has_what_it_answered_in_each(tmp_path: Path) -> None:
    files = {**FILES, "tasks/tell/prompts/v1.toml": 'ask = "What?"\n[[turns]]\nask = "Sure?"\n'}
    with in_process(tmp_path, files, cases=3) as made:
        for one in made.threads("tell", "gull/v1"):
            made.answer(one.requests[0], "a cap")
        last = [one.requests[1] for one in made.threads("tell", "gull/v1")]
        for month, said in ((3, ["yes", "no"]), (4, ["yes", "yes", "yes"])):
            for request, text in zip(last, said, strict=False):
                made.answer(request, text, concluded=1 if month == 3 else 2)
            set_month = "UPDATE attempts SET started = ? WHERE started > '2026-05'"
            made.store.connection.execute(set_month, (f"2026-{month:02d}-07T10:00:00.000+00:00",))
        march, april = "gull/v1@2026-03", "gull/v1@2026-04"
        (tell,) = view(made, "tell", arms=[march, april])
        assert {case: one.value for case, one in tell.answers[march].items()} == {"c0": "yes", "c1": "no"}
        assert {case: one.value for case, one in tell.answers[april].items()} == {
            "c0": "yes",
            "c1": "yes",
            "c2": "yes",
        }
        assert set(tell.identities[march]) == {"c0", "c1", "c2"}
        change = change_between(tell, march, april)
        assert change is not None
        assert (change.asked, change.same, change.changed) == (2, 1, ("c1",))
        assert (change.models_before, change.models_now) == (("m",), ("m",))
        assert change.statuses_before == change.statuses_now == {"ok": 2}
        assert change_text(change) == [
            "The service reported m both times.", "Answered alike: 1 of 2 cases; otherwise: c1.",
        ]  # fmt: skip
        (now,) = view(made, "tell", arms=["gull/v1"])
        assert change_between(now, "gull/v1", "gull/v1") is None


def test_an_arm_of_before_is_shown_by_the_mark_of_its_digest(repeated: InProcess) -> None:
    request = repeated.threads("sort", "gull/v1")[0].requests[0]
    repeated.answer(request, kind("cap"))
    repeated.store.connection.execute("UPDATE asked SET arm = 'abcdef' WHERE arm = ?", (request.arm.digest,))
    (sort,) = view(repeated, "sort")
    assert sort.older == (("gull/v1@abcd", 1),)
    (old,) = view(repeated, "sort", arms=["gull/v1@abcd"])
    assert [arm.name for arm in old.arms] == ["gull/v1@abcd"]
    assert set(old.answers["gull/v1@abcd"]) == {"c0"}
    both = view(repeated, "sort", arms=["gull/v1@ab", "gull/v1"])[0]
    assert [arm.name for arm in both.arms] == ["gull/v1", "gull/v1@abcd"]
    for word in ("gull/v1@ffff", "auk@abcd"):
        with pytest.raises(DrovikError, match=f"there is no older arm '{word}'"):
            view(repeated, "sort", arms=[word])


# Answers that were brought in.


def test_answers_that_were_brought_in_are_read_as_replies_are_where_there_is_one(tmp_path: Path) -> None:
    brought = [{"case": "c0", "answer": {"kind": "cap"}, "money": "0.30", "currency": "EUR", "seconds": 5},
               {"case": "c2", "answer": 'I say {"kind": "hat"}'}]  # fmt: skip
    files = {**FILES, "tasks/sort/outside/clerk.jsonl": "".join(json.dumps(one) + "\n" for one in brought)}
    with in_process(tmp_path, {**files, "cases.jsonl": cases("cap", "cap", "cap")}, cases=3) as made:
        (seen,) = view(made, "sort", arms=["clerk"])
        answers = seen.answers["clerk"]
        assert {case: (one.value, one.seconds) for case, one in answers.items()} == {
            "c0": ({"kind": "cap"}, 5.0), "c2": ({"kind": "hat"}, None),
        }  # fmt: skip
        assert answers["c0"].spent == Spending("EUR", Decimal("0.30"))
        score = seen.score_of("clerk").measure("kind")
        assert score is not None
        assert [one.score and one.score.value for one in score.cases] == [1.0, None, 0.0]


# Judged before.


def test_of_pairs_that_were_judged_no_more_are_kept_than_may_be(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("drovik.store.kept_scores.MOST_PAIRS", 5)
    with in_process(tmp_path, {**FILES, "cases.jsonl": cases("cap", "hat", "mitten")}, cases=3) as made:
        counts = []
        for arm, said in (("gull", ["cap", "hat", "mitten"]), ("fulmar", ["a", "b", "hat"]), ("fulmar", [])):
            threads = [one for one in made.threads("sort", f"{arm}/v1") if one.repeat == 1]
            for one, text in zip(threads, said, strict=False):
                made.answer(one.requests[0], kind(text))
            scores = view(made, "sort", arms=[arm])[0].score_of(f"{arm}/v1").measure("kind")
            assert scores is not None
            counts.append(made.store.connection.execute("SELECT COUNT(*) FROM judged").fetchone()[0])
        assert counts == [3, 3, 3], "those of before go when more come, and none is judged for nothing"


# Drift.


def test_what_is_asked_again_is_compared_with_what_was_said_before(repeated: InProcess) -> None:
    threads = repeated.threads("sort", "gull/v1")
    before, now = [kind("cap"), '{"kind":  "hat"}', kind("cap")], [kind("cap"), kind("hat"), kind("hat")]
    for one, text in zip(threads, before, strict=True):
        repeated.answer(one.requests[0], text)
    requests = [one.requests[0] for one in threads]
    for request, text in zip(requests, now, strict=True):
        repeated.answer(request, text, concluded=2)
    repeats = [one.requests[0] for one in repeated.threads("sort", "fulmar/v1")]
    for request in repeats[:-1]:
        repeated.answer(request, kind("cap" if request.repeat == 1 or request.case.id == "c0" else "hat"))
    for request in repeats[:1]:
        repeated.answer(request, status=500, concluded=2)
    told = [one.requests[0] for one in repeated.threads("tell", "fulmar/v1")]
    for request in told:
        repeated.answer(request, f"said {request.repeat}")
    every = [*requests, *repeats, *told]
    gull, fulmar = drift_of(repeated.project, repeated.store, [*requests, *repeats[:2]], every)
    assert (gull.asked, gull.same, gull.failed, gull.changed) == (3, 2, 0, ["c2"])
    assert dict(gull.models_before) == dict(gull.models_now) == {"m": 3}
    assert gull.expected_same is None
    assert gull.verdict.startswith("differs; without repeats")
    assert (fulmar.asked, fulmar.failed, fulmar.expected_same) == (0, 2, 0.5)  # of two pairs one agrees
    assert fulmar.verdict == "no reply"


def test_whether_it_drifts_is_judged_by_what_repeats_differ_in() -> None:
    few = Drift("t", "a", asked=20, same=11, expected_same=0.8)
    assert few.chance_of_so_few() == pytest.approx(sum(comb(20, k) * 0.8**k * 0.2 ** (20 - k) for k in range(12)))
    assert few.verdict == "differs, by more than chance"
    assert Drift("t", "a", asked=20, same=15, expected_same=0.8).verdict == "within chance"
    assert Drift("t", "a", asked=20, same=20).verdict == "as before"
    other = Drift("t", "a", asked=2, same=2)
    other.models_before["gull-1"], other.models_now["gull-2"] = 2, 2
    assert other.verdict == "another model is reported"
