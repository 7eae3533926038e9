"""What is asked next: turns, repair turns and tasks after tasks, each held to the answers that are there."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from in_process import SETTINGS, InProcess, in_process

from drovik.dialects.request import TextPart
from drovik.errors import DrovikError
from drovik.images.decode.shots import Shot
from drovik.images.prepare import PREPARING_REVISION
from drovik.parsing.status import Status
from drovik.planning.answers import answer_to, answers_for, with_status
from drovik.planning.conversation import arm_before
from drovik.planning.plan import Thread, plan_sending, sample_of_asks, sample_of_cases
from drovik.planning.rendering import canonical_conversation, conversation_of
from drovik.planning.requests import Request, request_of
from drovik.planning.sources import AdhocQuestion, Sources, adhoc_project, shown_of, source_digests
from drovik.planning.splits import held_out_cases
from drovik.project.arms import digest_of_text
from drovik.project.cases import Picture
from drovik.project.picture_files import PictureFolder
from drovik.project.preps import Prep
from drovik.project.tasks import is_shown_first

SCHEMA = {
    "type": "object",
    "properties": {name: {"type": "string"} for name in "abcdefghi"} | {"kind": {"type": "string"}},
    "required": ["kind"],
}
FILES = {
    "tasks/look/question.toml": 'title = "Look"\n[answer]\nform = "text"\n',
    "tasks/look/prompts/v1.toml": 'ask = "Look at {{ number }}."\n[[turns]]\nask = "And closer?"\n',
    "tasks/look/prompts/v2.toml": 'ask = "Look well at {{ number }}."\n',
    "tasks/sort/question.toml": (
        'after = "look"\nwhere = { at = "", has = "cap" }\n'
        '[answer]\nform = "json"\nschema = "answer.schema.json"\nrepair_turn = true\n'
    ),
    "tasks/sort/answer.schema.json": json.dumps(SCHEMA),
    "tasks/sort/prompts/v1.toml": 'ask = "Said: {{ earlier.look }}. Which?"\n',
    "tasks/sort/prompts/v3.toml": 'ask = "It said {{ earlier.look }}, so which?"\n',
}


@pytest.fixture
def made(tmp_path: Path) -> Iterator[InProcess]:
    with in_process(tmp_path, FILES) as found:
        yield found


def names(threads: list[Thread]) -> list[tuple[str, str, int]]:
    return [(one.case.id, one.arm.name, one.repeat) for one in threads]


def said(request: Request) -> str:
    return "".join(part.text for part in request.conversation().turns[-1].parts if hasattr(part, "text"))


def look_through(made: InProcess, answers: dict[str, str], last: str = "It is a cap.") -> None:
    """Answer the first task to its end, the last turn with `last` unless it is given by arm."""
    for one in made.threads("look"):
        made.answer(one.requests[0], "Wool." if one.arm.prompt.turns else answers.get(one.arm.name, last))
    for one in made.threads("look"):
        if len(one.requests) == 2:
            made.answer(one.requests[1], answers.get(one.arm.name, last))


# Threads.


def test_all_arms_are_asked_about_the_first_case_before_any_is_about_the_next(made: InProcess) -> None:
    """A run that is stopped leaves cases that can be compared. Repeats belong to the model that has them."""
    threads = made.threads("look")
    of_a_case = [
        *(("gull/v1", 1), ("gull/v2", 1), ("fulmar/v1", 1), ("fulmar/v2", 1)),
        *(("fulmar/v1", 2), ("fulmar/v2", 2)),
    ]
    assert names(threads) == [(case, arm, repeat) for case in ("c0", "c1") for arm, repeat in of_a_case]
    assert {one.state for one in threads} == {"open"}
    assert [len(one.requests) for one in threads] == [1] * 12
    assert len({one.requests[0].identity for one in threads}) == 12


def test_a_turn_is_asked_once_the_one_before_is_answered_and_not_from_nothing(made: InProcess) -> None:
    first = made.threads("look", "gull/v1", "fulmar/v1")
    made.answer(first[0].requests[0], "A thing.")
    made.answer(first[1].requests[0], "   ")
    made.answer(first[2].requests[0], status=500, outcome="service_error")
    grown, empty, failed, *rest = made.threads("look", "gull/v1", "fulmar/v1")
    assert [one.said for one in grown.requests] == [(), ("A thing.",)]
    assert [one.turn for one in grown.requests] == [1, 2]
    assert (grown.state, said(grown.requests[1])) == ("open", "And closer?")
    assert [(one.state, len(one.requests)) for one in (empty, failed)] == [("stuck", 1), ("stuck", 1)]
    assert [(one.state, len(one.requests)) for one in rest] == [("open", 1)] * 3
    made.answer(grown.requests[1], "A cap.")
    assert len(made.threads("look", "gull/v1")[0].requests) == 2


def test_a_prompt_of_one_turn_is_not_asked_on(made: InProcess) -> None:
    made.answer(made.threads("look", "gull/v2")[0].requests[0], "A cap.")
    assert [len(one.requests) for one in made.threads("look", "gull/v2")] == [1, 1]


# Tasks after tasks.


def test_a_task_after_another_waits_for_its_last_turn_and_takes_up_what_it_says(made: InProcess) -> None:
    assert {one.state for one in made.threads("sort")} == {"before"}
    for one in made.threads("look", "gull/v1"):
        made.answer(one.requests[0], "A cap, of wool.")
    assert {one.state for one in made.threads("sort", "gull/v1")} == {"before"}
    look_through(made, {"gull/v1": "A red cap.", "fulmar/v1": "A hat."})
    threads = {(one.case.id, one.arm.name, one.repeat): one for one in made.threads("sort")}
    gull = threads["c0", "gull/v1", 1]
    assert (gull.state, said(gull.requests[0])) == ("open", "Said: A red cap.. Which?")
    assert dict(gull.requests[0].earlier) == {"look": "A red cap."}
    # `where` does not hold of a hat: it is not asked, in any repeat.
    assert [threads["c1", "fulmar/v1", one].state for one in (1, 2)] == ["not_asked"] * 2
    assert threads["c1", "fulmar/v1", 1].requests == ()
    # There is no v3 before: the last prompt version of the same model is taken up.
    assert said(threads["c0", "fulmar/v3", 2].requests[0]) == "It said It is a cap., so which?"


def test_a_repeat_of_the_task_before_is_not_what_is_taken_up(made: InProcess) -> None:
    for number, one in enumerate(made.threads("look", "fulmar/v2")):
        made.answer(one.requests[0], f"cap {number}")
    assert names(made.threads("look", "fulmar/v2")) == [
        (case, "fulmar/v2", repeat) for case in ("c0", "c1") for repeat in (1, 2)
    ]
    found = {one.case.id: dict(one.requests[0].earlier) for one in made.threads("sort", "fulmar/v3")}
    assert found == {"c0": {"look": "cap 0"}, "c1": {"look": "cap 2"}}


def test_what_failed_before_leaves_what_comes_after_unasked(made: InProcess) -> None:
    first = made.threads("look", "gull/v2")
    made.answer(first[0].requests[0], status=500, outcome="service_error")
    made.answer(made.threads("look", "gull/v1")[0].requests[0], "")
    states = {(one.case.id, one.arm.name): one.state for one in made.threads("sort", "gull/v1", "gull/v3")}
    assert states["c0", "gull/v3"] == "stuck"
    assert states["c0", "gull/v1"] == "stuck"
    assert states["c1", "gull/v3"] == states["c1", "gull/v1"] == "before"


@pytest.mark.parametrize(
    ("after", "wanted"),
    [
        ('{ task = "look", prompt = "v2" }', {"gull/v1": "gull/v2", "fulmar/v3": "fulmar/v2"}),
        ('{ task = "look", model = "gull" }', {"gull/v1": "gull/v1", "fulmar/v1": "gull/v1", "fulmar/v3": "gull/v2"}),
    ],
)
def test_which_arm_is_taken_up_can_be_said(tmp_path: Path, after: str, wanted: dict[str, str]) -> None:
    question = FILES["tasks/sort/question.toml"].replace('after = "look"', f"after = {after}")
    with in_process(tmp_path, {**FILES, "tasks/sort/question.toml": question}) as made:
        look_through(made, {name: f"cap of {name}" for name in ("gull/v1", "gull/v2", "fulmar/v1", "fulmar/v2")})
        for arm, before in wanted.items():
            first = made.threads("sort", arm)[0]
            assert dict(first.requests[0].earlier) == {"look": f"cap of {before}"}


# Repair turns.


def test_an_answer_that_is_not_valid_gets_one_repair_turn_which_says_what_is_wrong(made: InProcess) -> None:
    look_through(made, {})
    texts = ['{"kind": "cap"}', '{"a": 1}', "A cap, surely.", json.dumps(dict.fromkeys("abcdefghi", 1))]
    open_ones = made.threads("sort", "gull/v1", "gull/v3")
    for one, text in zip(open_ones, texts, strict=True):
        made.answer(one.requests[0], text)
    valid, off, prose, many = made.threads("sort", "gull/v1", "gull/v3")
    assert valid.second == ()
    (repair,) = off.second
    assert repair.repair is not None
    assert repair.repair.text == '{"a": 1}'
    assert repair.repair.errors == "- the whole answer: the member 'kind' is missing\n- /a: 1 is not a string"
    assert [turn.by for turn in repair.conversation().turns] == ["user", "assistant", "user"]
    assert repair.conversation().turns[1].parts == (TextPart('{"a": 1}'),), "its own answer is what it is shown"
    assert "- /a: 1 is not a string\nAnswer the same question again" in said(repair)
    assert prose.second[0].repair is not None
    assert prose.second[0].repair.errors == "- there is no JSON in it"
    assert many.second[0].repair is not None
    assert len(many.second[0].repair.errors.splitlines()) == 8
    assert off.every == (*off.requests, repair)
    assert [one.asked("").second for one in off.every] == [False, True]
    follow = made.follow("sort")
    assert [one.identity for one in follow(off.requests[0])] == [repair.identity]
    made.answer(repair, '{"a": 2}')
    assert follow(repair) == ()  # no repair of a repair


def test_what_is_held_out_already_stays_so_and_the_rest_is_drawn_from_what_is_not(made: InProcess) -> None:
    one = made.project.cases[0]
    many = [one._replace(id=f"c{n}", split="held_out" if n < 10 else "tune") for n in range(100)]
    old = {f"c{n}" for n in range(10)}
    for seed in range(5):
        found = held_out_cases(many, made.project.tasks, 0.3, seed)
        assert old < found
        assert len(found) == 30
        assert held_out_cases(many, made.project.tasks, 0.05, seed) == old, "none is taken back"
        again = held_out_cases(many, made.project.tasks, 0.3, seed, afresh=True)
        assert len(again) == 30
        assert not old <= again


def test_a_task_takes_up_the_answer_to_the_same_picture_in_the_same_size(tmp_path: Path) -> None:
    """Or a small picture's score would rest on what a large one showed."""
    with in_process(tmp_path, FILES, settings=f"{SETTINGS}[preps.small]\nfit = 300\n") as made:
        for arm in made.arms("sort"):
            before = arm_before(made.project, made.task("sort"), arm)
            assert before is not None
            assert (before.model_name, before.prep_name) == (arm.model_name, arm.prep_name)
        elsewhere = replace(made.arms("sort")[0], prep_name="another")
        taken = arm_before(made.project, made.task("sort"), elsewhere)
        assert taken is not None, "where none is of that size, another serves"


# What follows a single answer, while sending.


def test_an_answer_is_followed_by_its_next_turn_and_then_by_the_tasks_after(made: InProcess) -> None:
    follow = made.follow("look", "sort")
    first = made.threads("look", "fulmar/v1")[0].requests[0]
    assert follow(first) == ()  # nothing is known yet
    made.answer(first, "Wool.")
    (second,) = follow(first)
    assert (second.turn, second.said) == (2, ("Wool.",))
    made.answer(second, "A cap.")
    chained = follow(second)
    assert [(one.task.name, one.arm.name, one.repeat) for one in chained] == [
        ("sort", "fulmar/v1", 1),
        ("sort", "fulmar/v1", 2),
    ]
    # What has its answer from before is gone on from, and kept as asked by this arm too.
    made.answer(chained[0], '{"a": 1}')
    made.store.connection.execute("DELETE FROM asked WHERE task = 'sort'")
    repair, other = follow(second)
    assert repair.repair is not None
    assert other.identity == chained[1].identity
    noted = made.store.asked("sort", chained[0].arm.digest)
    assert noted == {chained[0].known_as}, "what was answered before is noted as asked"
    assert made.store.asked("look", chained[0].arm.digest) == set()


def test_what_comes_after_is_asked_only_after_the_first_repeat_and_where_it_holds(made: InProcess) -> None:
    follow = made.follow("look", "sort")
    repeats = [one.requests[0] for one in made.threads("look", "fulmar/v2")[:2]]
    for one in repeats:
        made.answer(one, "A cap.")
    assert [one.repeat for one in repeats] == [1, 2]
    assert [one.arm.name for one in follow(repeats[0])] == ["fulmar/v3"] * 2
    assert follow(repeats[1]) == ()
    assert made.follow("look")(repeats[0]) == ()  # the task after is not sent
    hat = made.threads("look", "gull/v2")[0].requests[0]
    made.answer(hat, "A hat.")
    assert list(follow(hat)) == []


# Identity.


def test_the_same_question_has_one_identity_however_it_was_made(made: InProcess) -> None:
    """Filled into a kept form or written out: else what was bought is bought again."""
    files = {**FILES, "tasks/plain/question.toml": '[answer]\nform = "text"\n'}
    files["tasks/plain/prompts/v1.toml"] = 'ask = "What is it?"\n'
    folder = made.project.folder.parent / "other"
    folder.mkdir()
    with in_process(folder, files, cases=3) as other:
        task, (arm, *_) = other.task("plain"), other.arms("plain")

        for repeat in (1, 2):
            for case in other.project.cases:
                text = canonical_conversation(
                    arm, case, conversation_of(task, arm, case), [other.digests[case.pictures[0].path]],
                    PREPARING_REVISION, repeat,
                )  # fmt: skip
                assert request_of(task, arm, case, other.digests, repeat=repeat).identity == digest_of_text(text)


def test_the_identity_is_of_all_that_is_said_and_of_what_changes_the_answer(tmp_path: Path) -> None:
    files = {
        "tasks/sort/question.toml": '[answer]\nform = "json"\nschema = "answer.schema.json"\nsend_schema = true\n',
        "tasks/sort/answer.schema.json": json.dumps(SCHEMA),
        "tasks/sort/prompts/v1.toml": 'system = "Be brief."\nask = "Which?"\n',
    }
    settings = SETTINGS.replace('id = "gull-1"', 'id = "gull-1"\nrevision = "may"\nsettings = { temperature = 0.5 }')
    with in_process(tmp_path, files, cases=1, settings=settings) as made:
        request = made.threads("sort", "gull/v1")[0].requests[0]
        task, arm, case = request.task, request.arm, request.case
        digest = made.digests[case.pictures[0].path]
        text = canonical_conversation(
            arm, case, request.conversation(), [digest], PREPARING_REVISION, 1, task.told_schema()
        )
        assert json.loads(text) == {
            "model": {"endpoint": "desk", "id": "gull-1", "revision": "may", "settings": {"temperature": 0.5}},
            "turns": [
                {"by": "system", "text": "Be brief."},
                {
                    "by": "user",
                    "parts": [
                        {"picture": digest, "prep": arm.prep.canonical(), "preparing": PREPARING_REVISION},
                        {"text": "Which?"},
                    ],
                },
            ],
            "repeat": 1,
            "schema": SCHEMA,
        }
        assert request.identity == digest_of_text(text)


def test_what_many_arms_share_is_sent_once_and_what_is_answered_is_not_sent(made: InProcess) -> None:
    requests = [one.requests[0] for one in made.threads("look", "gull/v2", "fulmar/v2")]
    twin = requests[0]._replace(case=made.project.cases[1])
    plan = plan_sending(
        [*requests, twin, requests[1]], {requests[1].identity, requests[2].identity}, {requests[2].identity},
        endpoints=["desk", "far"], waiting={"later": 3},
    )  # fmt: skip
    assert [one.identity for one in plan.known_of] == [requests[1].identity] * 2
    assert plan.answered == 2
    assert {name: len(some) for name, some in plan.to_send.items()} == {"desk": len(requests) - 1, "far": 0}
    assert plan.count() == len(requests) - 1
    assert {name: [one.case.id for one in some] for name, some in plan.shared.items()} == {twin.identity: ["c1"]}
    assert plan.again == {requests[2].identity}
    assert plan.waiting == {"later": 3}
    nothing = plan_sending([requests[1]], {requests[1].identity}, endpoints=["far"])
    assert (dict(nothing.to_send), nothing.count()) == ({}, 0)


# Samples.


def test_a_sample_of_cases_has_each_label_as_evenly_as_there_are_cases(tmp_path: Path) -> None:
    labels = ["cap"] * 12 + ["hat"] * 5 + ["mitten"]
    rows = [
        {"id": f"c{n}", "images": ["0.png"], "expected": {"sort": {"kind": label}}} for n, label in enumerate(labels)
    ]
    question = (
        '[answer]\nform = "json"\n[measures.kind]\ntype = "label"\nat = "/kind"\nlabels = ["cap", "hat", "mitten"]\n'
    )
    files = {
        "cases.jsonl": "".join(json.dumps(row) + "\n" for row in rows),
        "tasks/sort/question.toml": question,
        "tasks/sort/prompts/v1.toml": 'ask = "Which?"\n',
    }
    with in_process(tmp_path, files, cases=1) as made:
        cases = made.project.cases
        for seed in range(5):
            chosen = sample_of_cases(cases, made.project.tasks, 7, seed)
            assert [one.id for one in chosen] == [one.id for one in cases if one in chosen]
            found = [labels[int(one.id[1:])] for one in chosen]
            assert (found.count("cap"), found.count("hat"), found.count("mitten")) == (3, 3, 1)
        assert sample_of_cases(cases, made.project.tasks, 7, 1) == sample_of_cases(cases, made.project.tasks, 7, 1)
        assert sample_of_cases(cases, made.project.tasks, 7, 1) != sample_of_cases(cases, made.project.tasks, 7, 2)
        assert len(sample_of_cases(cases, made.project.tasks, 99, 1)) == 18
        drawn = {labels[int(sample_of_cases(cases, made.project.tasks, 1, seed)[0].id[1:])] for seed in range(20)}
        assert drawn == {"cap", "hat", "mitten"}, "of fewer cases than labels no label is always first"
        requests = [
            request_of(made.task("sort"), made.arms("sort")[0], case, made.digests, repeat=n)
            for n, case in enumerate(cases)
        ]
        other = [one._replace(arm=made.arms("sort")[1], identity=one.identity + "'") for one in requests[:3]]
        some = sample_of_asks([*requests, *other], 4, 3)
        assert [one.arm.name for one in some].count(requests[0].arm.name) == 4
        assert len(some) == 7
        assert [one.identity for one in some[:4]] == [one.identity for one in requests if one in some]


# Replies and what is read of them.


def test_a_reading_is_made_again_where_what_it_depends_on_has_changed_and_only_there(made: InProcess) -> None:
    thread = made.threads("look", "gull/v2")[0]
    request = thread.requests[0]
    assert answers_for(made.project, made.store, made.task("look"), [request]) == {}
    assert answer_to(made.project, made.store, request) is None
    made.answer(request, "A cap.", other="A hat.", tokens=(7, 3), seconds=1.5)
    (answer,) = answers_for(made.project, made.store, made.task("look"), [request]).values()
    assert (answer.text, answer.model, answer.input_tokens, answer.output_tokens, answer.seconds) == (
        "A cap.", "m", 7, 3, 1.5,
    )  # fmt: skip
    made.store.connection.execute("UPDATE answers SET text = 'kept'")
    assert answers_for(made.project, made.store, made.task("look"), [request])[request.identity].text == "kept"
    dialect = made.project.dialects["plain"]
    reply = dialect.reply.model_copy(update={"text": "$.other"})
    made.project.dialects["plain"] = dialect.model_copy(update={"reply": reply})
    assert answers_for(made.project, made.store, made.task("look"), [request])[request.identity].text == "A hat."


@pytest.mark.parametrize(
    ("status", "more", "wanted"),
    [
        (200, {}, Status.OK),
        (299, {}, Status.OK),
        (300, {}, Status.FAILED),
        (199, {}, Status.FAILED),
        (200, {"problem": "busy", "answer": None}, Status.FAILED),
        (200, {"ended": "room"}, Status.CUT_OFF),
        (200, {"ended": "declined"}, Status.REFUSED),
        (200, {"answer": ""}, Status.EMPTY),
    ],
)
def test_what_a_reply_is_taken_for(made: InProcess, status: int, more: dict[str, object], wanted: Status) -> None:
    request = made.threads("look", "gull/v2")[0].requests[0]
    made.answer(request, "A cap.", status=status, **more)
    answer = answer_to(made.project, made.store, request)
    assert answer is not None
    assert answer.status is wanted
    of = {"look": [request]}
    assert with_status(made.project, made.store, of, frozenset([wanted])) == {request.identity}
    assert with_status(made.project, made.store, of, frozenset(Status) - {wanted}) == frozenset()


def test_a_picture_that_a_case_does_not_have_is_named_with_how_many_there_are(tmp_path: Path) -> None:
    files = {**FILES, "tasks/look/prompts/v2.toml": 'ask = "{{ picture(number + 2) }}"\n'}
    with in_process(tmp_path, files, settings=SETTINGS) as made, pytest.raises(DrovikError) as caught:
        made.threads("look", "gull/v2")
    assert "picture(2): the case has 1 picture;" in str(caught.value)


# What a judge gets.

JUDGES = {
    **FILES,
    "tasks/judge/question.toml": '[answer]\nform = "json"\n[judges]\ntask = "look"\narms = ["*/v1"]\nagainst = "gull/v2"\n',
    "tasks/judge/prompts/v1.toml": 'ask = "{{ first }} or {{ second }}? Right is {{ expected }}."\n',
}


def test_a_judge_sees_both_answers_in_an_order_that_is_drawn_by_case_and_arm(tmp_path: Path) -> None:
    """Only answers that are there, to their last turn, of the first repeat; with what is expected as it is written."""
    rows = [
        {"id": f"c{n}", "images": ["0.png"], "given": {"number": n}, "expected": {"look": one}, "group": group}
        for n, (one, group) in enumerate([("A cap.", None), ({"a": "é"}, "g"), ("A hat.", None), ("None.", None)])
    ]
    rows[3].pop("expected")
    files = {**JUDGES, "cases.jsonl": "".join(json.dumps(row) + "\n" for row in rows)}
    with in_process(tmp_path, files, cases=1) as made:
        look_through(made, {"gull/v1": "of gull", "fulmar/v1": "of fulmar", "gull/v2": "of the other"})
        found = {one.case.id: one.requests[0] for one in made.threads("judge", "gull/v1")}
        assert sorted(found) == sorted(f"c{n}~{arm}" for n in range(4) for arm in ("gull/v1", "fulmar/v1"))
        for name, request in found.items():
            case, arm = name.split("~")
            pair = [f"of {arm.split('/')[0]}", "of the other"]
            first, second = pair if is_shown_first(case, arm) else pair[::-1]
            right = {"c0": "A cap.", "c1": '{"a": "é"}', "c2": "A hat.", "c3": ""}[case]
            assert said(request) == f"{first} or {second}? Right is {right}."
            assert request.case.group == ("g" if case == "c1" else case)
        assert {is_shown_first(*name.split("~")) for name in found} == {True, False}


def test_an_answer_that_failed_or_is_empty_is_not_judged(tmp_path: Path) -> None:
    alone = JUDGES["tasks/judge/question.toml"].replace('against = "gull/v2"\n', "")
    files = {**JUDGES, "tasks/judge/question.toml": alone, "tasks/judge/prompts/v1.toml": 'ask = "{{ answer }}"\n'}
    with in_process(tmp_path, files, cases=4) as made:
        for one in made.threads("look", "gull/v1"):
            made.answer(one.requests[0], "Wool.")
        assert made.threads("judge", "gull/v1") == []  # there is a turn to come
        ends = [("A cap.", {}), ("", {}), ("no", {"ended": "declined"}), ("", {"problem": "busy", "answer": None})]
        for one, (text, more) in zip(made.threads("look", "gull/v1"), ends, strict=True):
            made.answer(one.requests[1], text, **more)
        assert [one.case.id for one in made.threads("judge", "gull/v1")] == ["c0~gull/v1"]


# Prompts.


def test_a_mistake_in_a_prompt_is_named_by_the_turn_that_it_is_in(tmp_path: Path) -> None:
    turns = 'ask = "Fine."\n[[turns]]\nask = "{{ number.nothing.more }}"\n'
    with in_process(tmp_path, {**FILES, "tasks/look/prompts/v1.toml": turns}) as made:
        made.answer(made.threads("look", "gull/v1")[0].requests[0], "Wool.")
        with pytest.raises(DrovikError, match=r"v1\.toml: turns\.2\.ask: fails on case 'c0'"):
            made.threads("look", "gull/v1")
    first = {**FILES, "tasks/look/prompts/v1.toml": 'ask = "{{ number.nothing.more }}"\n'}
    (tmp_path / "first").mkdir()
    with (
        in_process(tmp_path / "first", first) as made,
        pytest.raises(DrovikError, match=r"v1\.toml: ask: fails on case 'c0'"),
    ):
        made.threads("look", "gull/v1")


def test_an_earlier_answer_is_read_by_its_members_and_one_that_is_not_valid_stops_nothing_else(
    tmp_path: Path,
) -> None:
    files = {
        **{name: text for name, text in FILES.items() if "sort" in name},
        "tasks/sort/question.toml": '[answer]\nform = "json"\n',
        "tasks/sort/prompts/v1.toml": 'ask = "Which?"\n',
        "tasks/then/question.toml": 'after = "sort"\n[answer]\nform = "text"\n',
        "tasks/then/prompts/v1.toml": 'ask = "{{ earlier.sort }} is {{ earlier.sort.kind }}"\n',
    }
    files.pop("tasks/sort/prompts/v3.toml")
    with in_process(tmp_path, files, cases=3) as made:
        texts = ['Here: {"kind": "cap", "é": [1]}', "no JSON at all", '{"other": 1}']
        for one, text in zip(made.threads("sort", "gull/v1"), texts, strict=True):
            made.answer(one.requests[0], text)
        # Valid JSON that lacks what the prompt speaks of: the prompt, or a missing schema, is what is wrong.
        with pytest.raises(DrovikError, match="fails on case 'c2'"):
            made.threads("then", "gull/v1")
        schema = {"type": "object", "required": ["kind"]}
        task = replace(made.task("sort"), schema=schema)
        made.project = replace(made.project, tasks=(task, made.task("then")))
        good, prose, off = made.threads("then", "gull/v1")
        assert said(good.requests[0]) == '{"kind": "cap", "é": [1]} is cap'
        assert [(one.state, one.requests) for one in (prose, off)] == [("stuck", ())] * 2
        follow = made.follow("sort", "then")
        assert [len(follow(one.requests[0])) for one in made.threads("sort", "gull/v1")] == [1, 0, 0]


def test_a_question_by_hand_is_asked_in_pieces_so_that_none_of_it_is_taken_for_a_template() -> None:
    question = AdhocQuestion(
        text="{{ times }} are the times of {{ number }}, {{step}} apart",
        system="Be {{ brief }}.",
        later=(("Sure?", ()), ("And these?", (2, 3))),
        texts={"c1": "Its own {{ parts }}"},
    )
    prompt = question.prompt()
    assert prompt.ask == "{{ question }}{{ times }}{{ question_2 }}{{ step }}{{ question_3 }}"
    assert prompt.turns == ("{{ turn_2 }}", "{{ picture(2) }}{{ picture(3) }}{{ turn_3 }}")
    assert prompt.variables == {
        *("rules", "question", "question_2", "question_3", "times", "step", "turn_2", "turn_3"),
    }
    assert question.given() == {
        "rules": "Be {{ brief }}.",
        "question": "",
        "question_2": " are the times of {{ number }}, ",
        "question_3": " apart",
        "turn_2": "Sure?",
        "turn_3": "And these?",
    }
    assert question.given("c1")["question"] == "Its own "
    assert AdhocQuestion(text="Plain").prompt().ask == "{{ question }}"


@pytest.mark.parametrize(("schema", "form"), [(None, "text"), ({"type": "object"}, "json")])
def test_a_question_by_hand_is_a_task_of_its_form(
    made: InProcess, schema: dict[str, object] | None, form: str
) -> None:
    settings = made.project.settings
    asked = adhoc_project(
        made.project.folder, settings, {}, {}, AdhocQuestion("What?", schema=schema), [("c", [Picture("0.png")])]
    )
    assert (asked.task.form, [one.model_name for one in asked.arms]) == (form, ["gull", "fulmar"])
    assert [(one.id, one.given["question"]) for one in asked.project.cases] == [("c", "What?")]


def test_a_file_that_looks_unchanged_is_not_read_again(made: InProcess, monkeypatch: pytest.MonkeyPatch) -> None:
    """A hundred thousand pictures are looked at, not read, at each command."""
    picture, prep = made.project.cases[0].pictures[0], made.arms("look")[0].prep
    first = made.digests.facts(picture, prep)
    assert first.sizes == ((4, 4),)
    made.store.digests.write_facts()
    monkeypatch.setattr(PictureFolder, "read", lambda *_: pytest.fail("the picture is read again"))
    again = source_digests(made.project, made.store, made.project.cases)
    assert again == made.digests
    assert again.facts(picture, prep) == first


def test_two_tasks_with_one_prompt_each_show_their_own_schema(tmp_path: Path) -> None:
    files = {}
    for name, member in (("one", "kind"), ("two", "deck")):
        files[f"tasks/{name}/question.toml"] = '[answer]\nform = "json"\nschema = "answer.schema.json"\n'
        files[f"tasks/{name}/answer.schema.json"] = json.dumps({"type": "object", "required": [member]})
        files[f"tasks/{name}/prompts/v1.toml"] = 'ask = "Like this: {{ schema }}"\n'
    with in_process(tmp_path, files, cases=1) as made:
        texts = {}
        for name in ("one", "two"):
            turn = made.threads(name, "gull/v1")[0].requests[0].conversation().turns[-1]
            texts[name] = "".join(getattr(part, "text", "") for part in turn.parts)
        assert '"kind"' in texts["one"]
        assert '"deck"' in texts["two"]
        identities = {made.threads(name, "gull/v1")[0].requests[0].identity for name in ("one", "two")}
        assert len(identities) == 2


FAR = {"path": "https://pictures.example/far.jpg", "address": "https://pictures.example/far.jpg"}


def test_a_picture_on_the_web_is_not_looked_at_for_what_a_prompt_says_of_pictures(tmp_path: Path) -> None:
    files = {
        "tasks/look/question.toml": '[answer]\nform = "text"\n',
        "tasks/look/prompts/v1.toml": 'ask = "{{ parts }} of them is here."\n',
        "cases.jsonl": json.dumps({"id": "c", "images": ["0.png", FAR]}) + "\n",
    }
    with in_process(tmp_path, files, cases=1) as made:
        turn = made.threads("look", "gull/v1")[0].requests[0].conversation().turns[-1]
        assert "1 of them is here." in [getattr(part, "text", "") for part in turn.parts]


class Shown(Sources):
    """Pictures whose shots are as they are said to be."""

    def __init__(self, shots: list[Shot]) -> None:
        dict.__init__(self)
        self.shots = shots

    def facts(self, picture: Picture, prep: Prep) -> Any:
        return SimpleNamespace(shots=tuple(self.shots))


def test_what_a_prompt_may_say_of_frames_and_pages(tmp_path: Path) -> None:
    files = {
        "tasks/look/question.toml": '[answer]\nform = "text"\n',
        "tasks/look/prompts/v1.toml": 'ask = "{{ times }} {{ step }} {{ pages }} {{ parts }}"\n',
    }
    with in_process(tmp_path, files, cases=1) as made:
        (arm,) = made.arms("look", "gull/v1")
        (case,) = made.project.cases
        frames = Shown([Shot(n + 1, time=at) for n, at in enumerate((0.0, 0.1, 0.3, 0.4, 0.8004, 1.8))])
        # The gaps are 0.1, 0.2, 0.1, 0.4 and 1; the one in the middle is taken, to a thousandth.
        wanted = {"times": [0.0, 0.1, 0.3, 0.4, 0.8004, 1.8], "step": 0.2, "pages": [], "parts": 6}
        assert shown_of(arm, case, frames) == wanted
        two = Shown([Shot(1, time=0.0), Shot(2, time=0.33349)])
        assert shown_of(arm, case, two)["step"] == 0.333
        pages = shown_of(arm, case, Shown([Shot(2), Shot(5)]))
        assert pages == {"times": [], "step": None, "pages": [2, 5], "parts": 2}
        halves = replace(arm, prep=Prep.model_validate({"split": {"across": 2, "down": 3}}))
        assert shown_of(halves, case, Shown([Shot(1), Shot(2)]))["parts"] == 12


def test_pictures_that_later_turns_show_by_number_or_tag_are_not_shown_at_the_beginning(tmp_path: Path) -> None:
    files = {
        "tasks/look/question.toml": '[answer]\nform = "text"\n',
        "tasks/look/prompts/v1.toml": 'ask = "a"\n[[turns]]\nask = "{{ picture(\'back\') }} b {{ picture(2) }}"\n',
        "cases.jsonl": json.dumps({"id": "c", "images": ["0.png", "1.png", {"path": "2.png", "tag": "back"}]}) + "\n",
    }
    with in_process(tmp_path, files, cases=3) as made:
        thread = made.threads("look", "gull/v1")[0]
        first = thread.requests[0].conversation().turns
        assert [part.number for part in first[0].parts if hasattr(part, "number")] == [0]
        made.answer(thread.requests[0], "So.")
        later = made.threads("look", "gull/v1")[0].requests[1].conversation().turns
        assert [part.number for part in later[2].parts if hasattr(part, "number")] == [2, 1]


def test_threads_are_as_many_as_arms_cases_and_repeats(made: InProcess) -> None:
    found = [(one.arm.model_name, one.case.id, one.repeat) for one in made.threads("look")]
    wanted = {
        (model, case.id, n) for case in made.project.cases for model, n in (("gull", 1), ("fulmar", 1), ("fulmar", 2))
    }
    assert set(found) == wanted
    assert len(found) == len(wanted) * len({arm.prompt_name for arm in made.arms("look")})
