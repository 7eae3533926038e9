"""What is asked of a model: text and pictures in their order, and the identity of it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drovik.dialects.request import PicturePart, TextPart
from drovik.errors import DrovikError
from drovik.images.prepare import PREPARING_REVISION
from drovik.planning.rendering import _filled, canonical_conversation, conversation_of
from drovik.project.arms import Arm, arm_digest, arms_of, check_arm_words, fitting_arms
from drovik.project.cases import Case, Picture
from drovik.project.prompt_templates import compile_template, render
from drovik.project.prompts import Prompt
from drovik.project.settings import ProjectFile
from drovik.project.tasks import Task

SETTINGS = {
    "endpoints": {"e": {"url": "http://127.0.0.1:1", "dialect": "d"}},
    "models": {
        "gull": {"endpoint": "e", "id": "gull-1", "settings": {"temperature": 0.0}},
        "dunlin": {"endpoint": "e", "id": "dunlin-1", "takes_pictures": False},
    },
    "preps": {"full": {}, "small": {"fit": 300}},
}


def canonical_text(task: Task, arm: Arm, one: Case, digests: list[str]) -> str:
    return canonical_conversation(arm, one, conversation_of(task, arm, one), digests, PREPARING_REVISION, 1)


def made(ask: str, system: str = "", settings: dict[str, Any] | None = None, labels: tuple[str, ...] = ("cap", "hat"),
         uses: frozenset[str] = frozenset()) -> tuple[Task, tuple[Arm, ...]]:  # fmt: skip
    found = frozenset(name for text in (system, ask) for name in compile_template(text, "", "")[1])
    prompt = Prompt("v1", "v1.toml", "", system, ask, uses | found)
    task = Task("t", "", "text", None, None, (), (prompt,), labels)
    return task, arms_of(task, ProjectFile.model_validate(settings or SETTINGS))


def case(*tags: str | None, **given: Any) -> Case:
    pictures = tuple(Picture(f"{number}.jpg", tag) for number, tag in enumerate(tags))
    return Case("c", pictures, given, {"t": "SECRET"}, None, "tune", frozenset(), "line 1")


def parts(ask: str, one: Case, model: int = 0) -> list[int | str]:
    task, arms = made(ask)
    (turn,) = conversation_of(task, arms[model * 2], one).turns
    return [part.number if isinstance(part, PicturePart) else part.text for part in turn.parts]


@pytest.mark.parametrize(
    ("ask", "tags", "wanted"),
    [
        ("What?", [None], [0, "What?"]),
        ("What?", [None, None], [0, 1, "What?"]),
        ("A: {{ picture() }} B: {{ picture() }}?", [None, None], ["A: ", 0, " B: ", 1, "?"]),
        ("{{ picture(2) }} then {{ picture(1) }}", [None, None], [1, " then ", 0]),
        ("\nLook\n{{ picture(1) }}\n", [None], ["Look", 0]),
        ("{{ picture('tag') }}", ["item", "tag"], [0, 1]),
        ("See {{ picture('tag') }}", ["item", "tag"], [0, "See ", 1]),
        ("{% set a = picture() %}{% set b = picture() %}{{ b }}x{{ a }}", [None, None], [1, "x", 0]),
        ("{% set a = picture() %}What?", [None], [0, "What?"]),
        ("{{ picture() }}{{ picture(1) }}", [None], [0, 0]),
    ],
)
def test_pictures_stand_before_the_text_or_where_it_places_them(
    ask: str, tags: list[str | None], wanted: list[int | str]
) -> None:
    assert parts(ask, case(*tags)) == wanted


@pytest.mark.parametrize(("later", "first", "second"), [
    ("And this? {{ picture('tag') }}", [0], [1]), ("And this? {{ picture(1) }}", [1], [0]), ("And this?", [0, 1], []),
    ("And this? {{ picture(2) }} beside {{ picture('item') }}", [], [1, 0]),
])  # fmt: skip
def test_a_picture_that_a_later_turn_names_is_shown_then_and_not_at_the_beginning(
    later: str, first: list[int], second: list[int]
) -> None:
    task, arms = made("What?")
    arm = replace(arms[0], prompt=replace(arms[0].prompt, turns=(later,)))
    turns = conversation_of(task, arm, case("item", "tag"), ["A cap."]).turns
    shown = [[part.number for part in turn.parts if isinstance(part, PicturePart)] for turn in turns]
    assert shown == [first, [], second]


def test_a_model_that_does_not_see_gets_the_text_alone() -> None:
    assert parts("A: {{ picture() }} B?", case(None), model=1) == ["A:\nB?"]


@given(st.text(max_size=40))
@settings(max_examples=100, deadline=None)
def test_no_fact_can_place_a_picture_or_be_a_template(text: str) -> None:
    forged = text + "{{ picture() }}\x02 0\x03{key}"
    task, arms = made("Q {{ fact }}.")
    (turn,) = conversation_of(task, arms[0], case(None, fact=forged)).turns
    assert [type(part) for part in turn.parts] == [PicturePart, TextPart]
    assert turn.parts[1] == TextPart(f"Q {forged}.")


def test_the_expected_output_is_in_no_turn_and_in_no_identity() -> None:
    task, arms = made("Which of {{ labels | join(', ') }}?", "You sort.")
    text = canonical_text(task, arms[0], case(None), ["d0"])
    assert "SECRET" not in text
    assert "cap, hat" in text


def identity(ask: str = "What?", digest: str = "d0", model: int = 0, prep: int = 0, **changes: Any) -> str:
    tree = {**SETTINGS, **changes}
    task, arms = made(ask, settings=tree)
    return canonical_text(task, arms[model * len(tree["preps"]) + prep], case(None), [digest])


def with_model(**more: Any) -> dict[str, Any]:
    return {"models": {"gull": {**SETTINGS["models"]["gull"], **more}}}


def test_the_identity_is_of_what_is_asked_and_of_nothing_else() -> None:
    same = identity()
    assert identity(endpoints={"e": {"url": "https://elsewhere.invalid", "dialect": "other", "key_env": "K"}}) == same
    assert identity(**with_model(price={"currency": "EUR", "input": 1, "output": 2})) == same
    assert identity(preps={"whole": {}}) == same
    different = [
        identity(ask="What then?"), identity(digest="d1"), identity(prep=1), identity(model=1),
        identity(**with_model(revision="2026-11")), identity(**with_model(id="gull-2")),
        identity(**with_model(settings={"temperature": 0.5})), identity(**with_model(settings={})),
        identity(**with_model(settings={"temperature": 0.0, "seed": 1})),
    ]  # fmt: skip
    assert len({same, *different}) == len(different) + 1


def test_an_arm_is_another_where_its_model_prompt_or_prep_is() -> None:
    def digest(
        ask: str = "What?", labels: tuple[str, ...] = ("cap",), uses: frozenset[str] = frozenset(), **more: Any
    ) -> str:
        task, arms = made(ask, settings={**SETTINGS, **more}, labels=labels, uses=uses)
        return arm_digest(task, arms[0].endpoint, arms[0].model, task.prompts[0], arms[0].prep)

    assert digest() == digest(labels=("cap", "hat"))  # a prompt that does not list them is the same prompt
    listing = frozenset(["labels"])
    assert digest(uses=listing) != digest(uses=listing, labels=("cap", "hat"))
    assert digest() != digest(ask="What then?")
    assert digest() != digest(**with_model(revision="x"))
    assert digest() != digest(preps={"full": {"fit": 100}})


def test_words_mean_arms_by_their_first_parts_and_unknown_words_are_told() -> None:
    _, arms = made("What?")
    names = [arm.name for arm in arms]
    assert names == ["gull/v1/full", "gull/v1/small", "dunlin/v1/full", "dunlin/v1/small"]
    assert [arm.name for arm in fitting_arms(arms, ["gull"])] == names[:2]
    assert [arm.name for arm in fitting_arms(arms, ["*/v1/small"])] == names[1::2]
    assert fitting_arms(arms, []) == arms
    with pytest.raises(DrovikError, match=r"no arm 'gul'.*\n.*no arm 'x/y'"):
        check_arm_words(arms, ["gul", "gull", "x/y"])


PIECES = st.sampled_from(
    [
        "{{ a }}",
        "{{b}}",
        "{{ true }}",
        "{{ missing }}",
        "{% if a %}x{% endif %}",
        "{",
        "}}",
        "{#c#}",
        "\r\n",
        "\n",
        "no",
        " ",
    ]
)


@given(st.lists(PIECES, max_size=8), st.text(max_size=5), st.text(max_size=5))
def test_a_text_with_nothing_but_names_in_it_is_filled_in_as_the_templates_do_it(
    pieces: list[str], a: str, b: str
) -> None:
    text = "".join(pieces)
    variables = {"a": a, "b": b, "true": "no", "list": [1]}
    filled = _filled(text, variables)
    if filled is not None:
        template, _ = compile_template(text, "", "")
        assert filled.strip() == render(template, variables).strip()
    assert _filled("Which of {{ a }}?\n{{b}}", variables) == f"Which of {a}?\n{b}", "and it is used where it can be"
    assert _filled("{{ list }}", variables) is None
