"""Quotes in one process: what arms would send, by figures that a person can add up."""

from __future__ import annotations

import json
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from in_process import SETTINGS, InProcess, in_process
from scipy import stats

from drovik.cost.estimate import ArmQuote, Estimator, break_even, days_of, less_allowances, seconds_for
from drovik.cost.token_rates import (
    PICTURE_UNKNOWN,
    Bounds,
    Rates,
    RequestSize,
    _fitted,
    _length_of,
    bounds_of_mean,
    estimate_tokens,
    max_cost,
    size_of_request,
)
from drovik.project.models import Model, Price
from drovik.project.settings import Limits
from drovik.project.spending import Spending
from drovik.project.token_rules import PictureTokens
from drovik.store.sums import CountedRequest

PRICED = SETTINGS.replace(
    'id = "gull-1"',
    'id = "gull-1"\nprice = { currency = "EUR", input = 2.0, output = 8.0, request = 0.001, picture = 0.01 }\n'
    "picture_tokens = { count = { flat = 100 } }\nsettings = { max_output_tokens = 50 }",
)
LOOK = {
    "tasks/look/question.toml": '[answer]\nform = "text"\n',
    "tasks/look/prompts/v1.toml": 'ask = "abcdefghij"\n',
}


def quote_of(made: InProcess, *tasks: str, every: bool = True, share: float = 1.0) -> dict[str, ArmQuote]:
    threads = {name: made.threads(name) for name in tasks}
    to_send = [request for own in threads.values() for one in own for request in one.requests]
    quotes = Estimator(made.digests, Rates(made.project, made.store)).quotes(threads, to_send, every, share)
    return {f"{one.task}/{one.arm.name}": one for one in quotes}


def test_before_anything_is_known_a_quote_is_letters_pictures_and_the_output_limit(tmp_path: Path) -> None:
    """10 letters in 3 cases: 12 around and 10 / 4 in the middle, 0 and 10 / 6 at the least, 80 and 10 / 2.2 at most."""
    with in_process(tmp_path, LOOK, cases=3, settings=PRICED) as made:
        quotes = quote_of(made, "look")
        gull = quotes["look/gull/v1"]
        assert gull.requests == gull.pictures == Bounds(3, 3, 3)
        size = size_of_request(made.threads("look")[0].requests[0].conversation(), None, {0: ((4, 4),)})
        assert size == RequestSize(10, 10, 2, ((4, 4),))
        assert gull.input_tokens == pytest.approx(
            (3 * (100 + 10 / 6), 3 * (112 + 10 / 4), 3 * (180 + 10 / 2.2)), rel=0.02
        )
        assert gull.output_tokens == Bounds(3, 150, 150)
        assert gull.unknown == {}
        money = gull.money()
        assert money is not None
        tokens = [round(one) for one in gull.input_tokens]
        assert money == pytest.approx(
            [3 * 0.011 + (2 * one + 8 * out) / 1e6 for one, out in zip(tokens, (3, 150, 150), strict=True)]
        )
        fulmar = quotes["look/fulmar/v1"]
        assert fulmar.requests == Bounds(6, 6, 6)  # two repeats
        assert fulmar.money() is None
        assert set(fulmar.unknown) == {"input", "output"}
        pixels = 4 * (4 + 5 + 6) * 2
        assert fulmar.input_tokens.low == pytest.approx(pixels / 2500 + 6 * 10 / 6)
        assert fulmar.input_tokens.high == pytest.approx(pixels / 250 + 6 * (80 + 10 / 2.2))
        assert fulmar.output_tokens.expected == 6 * 60
        twice = quote_of(made, "look", share=2.0)["look/gull/v1"]
        assert (twice.requests, twice.output_tokens) == (Bounds(6, 6, 6), Bounds(6, 300, 300))


def test_what_is_answered_is_quoted_only_where_all_is(tmp_path: Path) -> None:
    with in_process(tmp_path, LOOK, cases=3, settings=PRICED) as made:
        threads = {"look": made.threads("look")}
        quotes = Estimator(made.digests, Rates(made.project, made.store)).quotes(
            threads, [threads["look"][0].requests[0]], False
        )
        assert [(one.arm.name, one.requests.expected) for one in quotes] == [("gull/v1", 1)]


def test_turns_repair_turns_and_tasks_that_wait_are_within_the_bounds(tmp_path: Path) -> None:
    files = {
        **LOOK,
        "tasks/look/prompts/v1.toml": 'ask = "abcdefghij"\n[[turns]]\nask = "klmno"\n[[turns]]\nask = "pq"\n',
        "tasks/sort/question.toml": (
            'after = "look"\nwhere = { at = "", has = "cap" }\n[answer]\nform = "json"\n'
            'schema = "answer.schema.json"\nrepair_turn = true\nsend_schema = true\n'
        ),
        "tasks/sort/answer.schema.json": '{"type": "object"}',
        "tasks/sort/prompts/v1.toml": 'ask = "{{ earlier.look }}"\n',
    }
    with in_process(tmp_path, files, cases=2, settings=PRICED) as made:
        quotes = quote_of(made, "look", "sort")
        look, sort = quotes["look/gull/v1"], quotes["sort/gull/v1"]
        assert look.requests == Bounds(6, 6, 6)  # three turns of two cases
        assert look.pictures == Bounds(6, 6, 6)  # the picture goes with each turn
        # 10 letters; then 10 and 40 of an answer and 5; then 10, 40, 5, 40 and 2.
        letters = 10 + 55 + 97
        assert look.input_tokens.low == pytest.approx(2 * (3 * 100 + letters / 6))
        assert sort.requests == Bounds(0, 1, 2)  # each may be asked, or not
        each = 100 + (40 + len('{"type": "object"}')) / 6
        assert sort.input_tokens.high == pytest.approx(2 * (80 + 100 + (40 + 18) / 2.2))
        assert each > 0
        for one in made.threads("look", "gull/v1"):
            made.answer(one.requests[0], "x" * 20)
        look = quote_of(made, "look", "sort")["look/gull/v1"]
        assert look.requests == Bounds(6, 6, 6)
        assert look.input_tokens.low == pytest.approx(2 * (3 * 100 + (10 + 35 + 97) / 6))
        while len(found := made.threads("look", "gull/v1")[0].requests) < 3:
            for one in made.threads("look", "gull/v1"):
                made.answer(one.requests[-1], "a cap")
        for one, text in zip(made.threads("look", "gull/v1"), ("a cap", "a hat"), strict=True):
            made.answer(one.requests[-1], text)
        assert len(found) == 3
        sort = quote_of(made, "sort")["sort/gull/v1"]
        # One is asked for sure, and may have a repair turn: in a tenth as long as nobody knows.
        assert sort.requests == pytest.approx((1, 1.1, 2))


def test_tokens_are_learned_from_what_the_service_reported(tmp_path: Path) -> None:
    """Of 8 requests that count as 30 + letters / 2, to a model that does not see: the text is known to its rounding."""
    files = {**LOOK, "tasks/look/prompts/v1.toml": 'ask = "{{ words }}"\n'}
    rows = [{"id": f"c{n}", "images": ["0.png"], "given": {"words": "a" * (20 * n + 10)}} for n in range(12)]
    files["cases.jsonl"] = "".join(json.dumps(row) + "\n" for row in rows)
    settings = PRICED.replace('id = "gull-1"', 'id = "gull-1"\ntakes_pictures = false')
    with in_process(tmp_path, files, cases=1, settings=settings) as made:
        requests = [one.requests[0] for one in made.threads("look", "gull/v1")]
        for number, request in enumerate(requests[:4]):
            made.answer(request, "A cap.", tokens=(30 + 10 * number + 5, 20 + number))
        before = quote_of(made, "look", every=False)["look/gull/v1"]
        assert before.output_tokens == Bounds(12, 600, 600)  # four are too few
        for number, request in enumerate(requests[4:8], 4):
            made.answer(request, "A cap.", tokens=(30 + 10 * number + 5, 20 + number))
        quotes = Estimator(made.digests, Rates(made.project, made.store)).quotes({"look": []}, requests[8:], False)
        (gull,) = quotes
        wanted = sum(30 + 10 * number + 5 for number in range(8, 12))
        assert gull.input_tokens.expected == pytest.approx(wanted, abs=0.5)
        assert wanted - 4 < gull.input_tokens.low < wanted < gull.input_tokens.high < wanted + 4
        known = np.arange(20, 28)
        off = stats.t.ppf(0.95, 7) * known.std(ddof=1) * np.sqrt(1 / 8 + 1 / 4)
        assert gull.output_tokens == pytest.approx([4 * (known.mean() + one * off) for one in (-1, 0, 1)])
        # Of ten times as many the sum is known better for its size.
        (many,) = Estimator(made.digests, Rates(made.project, made.store)).quotes(
            {"look": []}, requests[8:], False, 10
        )
        off = stats.t.ppf(0.95, 7) * known.std(ddof=1) * np.sqrt(1 / 8 + 1 / 40)
        assert many.output_tokens == pytest.approx([40 * (known.mean() + one * off) for one in (-1, 0, 1)])


def test_how_pictures_are_counted_is_learned_from_their_pixels_unless_the_model_says_it() -> None:
    """Of eight requests of 40 letters that count as 50 + a token for four letters + a token for 500 pixels."""

    class Counted(Rates):
        def __init__(self, count: int, picture: Any) -> None:
            self._wordings, self._count, self._picture = {}, count, picture

        def _counted(self, model: Model) -> list[CountedRequest]:
            sizes = [((100 * n, 50), (200, 30)) for n in range(1, self._count + 1)]
            return [CountedRequest(40, one, 60 + sum(map(self._picture, one))) for one in sizes]

    load = RequestSize(40, 40, 2, ((400, 300),))
    by_pixels = Counted(8, lambda size: size[0] * size[1] // 500)
    tokens, why = by_pixels.input_tokens("m", Model(endpoint="e", id="m"), load, 1)
    assert (tokens.expected, why) == (pytest.approx(50 + 40 / 4 + 400 * 300 / 500, abs=0.5), "")
    told = Model(endpoint="e", id="m", picture_tokens=PictureTokens(count={"flat": 90}))
    tokens, _ = Counted(8, lambda size: 90).input_tokens("m", told, load, 1)
    assert tokens.expected == pytest.approx(50 + 40 / 4 + 90, abs=0.5)
    too_few, why = Counted(4, lambda size: 90).input_tokens("m", Model(endpoint="e", id="m"), load, 1)
    assert why == "how it counts pictures: give it picture_tokens"
    assert too_few.high > too_few.low + 300


def test_five_answers_are_enough_to_learn_how_long_one_takes(tmp_path: Path) -> None:
    with in_process(tmp_path, LOOK, cases=5, settings=PRICED) as made:
        threads = made.threads("look", "gull/v1")
        for number, one in enumerate(threads):
            assert Rates(made.project, made.store).seconds("desk") == Bounds(1, 5, 20)
            made.answer(one.requests[0], "A cap.", seconds=2.0 + number)
        assert Rates(made.project, made.store).seconds("desk").expected == pytest.approx(4.0)


@pytest.mark.parametrize(("where", "sure"), [("", (2, 2, 2)), ('where = { at = "", has = "cap" }', (0, 1, 2))])
def test_a_task_that_waits_is_sure_to_be_asked_unless_an_answer_decides(
    tmp_path: Path, where: str, sure: tuple[float, ...]
) -> None:
    files = {
        **LOOK,
        "tasks/sort/question.toml": f'after = "look"\n{where}\n[answer]\nform = "text"\n',
        "tasks/sort/prompts/v1.toml": 'ask = "{{ earlier.look }}"\n',
    }
    with in_process(tmp_path, files, cases=2, settings=PRICED) as made:
        assert quote_of(made, "look", "sort")["sort/gull/v1"].requests == sure


def test_answers_that_differ_much_are_not_expected_to_be_shorter_than_a_token(tmp_path: Path) -> None:
    with in_process(tmp_path, LOOK, cases=6, settings=PRICED) as made:
        requests = [one.requests[0] for one in made.threads("look", "gull/v1")]
        for request, tokens in zip(requests, (1, 1, 1, 1, 400), strict=False):
            made.answer(request, "A cap.", tokens=(10, tokens))
        threads = {"look": made.threads("look", "gull/v1")}
        (gull,) = Estimator(made.digests, Rates(made.project, made.store)).quotes(threads, requests[5:], False)
        assert (gull.output_tokens.low, gull.output_tokens.expected) == (1, pytest.approx(404 / 5))


@pytest.mark.parametrize(
    ("schema", "tokens"),
    [
        ({"type": "array", "items": {"type": "string"}}, (4 + 2 * 14) / 3),
        ({"type": "array", "items": {"type": "array", "items": {"enum": ["abcdef"]}}}, (4 + 2 * (4 + 2 * 8)) / 3),
        ({"properties": {"ab": {"type": ["boolean", "null"]}, "c": {}}}, (2 + 2 + 6 + 5 + 1 + 6 + 5) / 3),
        (
            {"type": "object", "properties": {"a": {"type": "string"}, "b": {"type": "boolean"}}},
            (2 + 7 + 14 + 7 + 5) / 3,
        ),
        (True, 4),
        ({"type": ["array", "null"], "items": {"type": "string"}}, (4 + 2 * 14) / 3),
    ],
)
def test_an_answer_is_guessed_to_be_as_long_as_its_schema_makes_it(schema: Any, tokens: float) -> None:
    assert _length_of(schema) == round(tokens)


def test_a_schema_within_itself_is_guessed_to_be_of_some_depth() -> None:
    deep: dict[str, Any] = {"type": "string"}
    for _ in range(12):
        deep = {"type": "array", "items": deep}
    letters = 6
    for _ in range(7):
        letters = 4 + 2 * letters
    assert _length_of(deep) == round(letters / 3)


def test_seconds_and_the_share_of_repair_turns_are_learned(tmp_path: Path) -> None:
    files = {
        **LOOK,
        "tasks/look/question.toml": '[answer]\nform = "json"\nschema = "a.json"\nrepair_turn = true\n',
        "tasks/look/a.json": '{"type": "object"}',
    }
    with in_process(tmp_path, files, cases=20, settings=PRICED) as made:
        rates = Rates(made.project, made.store)
        task, (arm, *_) = made.task("look"), made.arms("look", "gull/v1")
        assert rates.seconds("desk") == Bounds(1, 5, 20)
        assert rates.repair_turns(task, arm, 10) == Bounds(0, 0.1, 1)
        for number, one in enumerate(made.threads("look", "gull/v1")):
            made.answer(one.requests[0], "{}" if number % 4 else "no JSON", seconds=2.0 + number / 10)
        made.threads("look", "gull/v1")
        mean = 2.0 + 19 / 20
        assert rates.seconds("desk") == pytest.approx((0.8 * mean, mean, 1.5 * mean))
        assert rates.seconds("far") == Bounds(1, 5, 20)
        share, likely = 5 / 20, 6 / 22
        off = stats.t.ppf(0.95, 19) * np.sqrt(likely * (1 - likely)) * np.sqrt(1 / 20 + 1 / 10)
        assert rates.repair_turns(task, arm, 10) == pytest.approx((max(0, share - off), share, share + off))


def test_where_nobody_says_how_pictures_are_counted_an_address_is_as_large_as_a_guess() -> None:
    class Unknown(Rates):
        def __init__(self) -> None:
            self._wordings = {}

        def _learned(self, model: Model) -> None:
            return None

    load = RequestSize(36, 36, 2, ((50, 100), (0, 0)))
    tokens, why = Unknown().input_tokens("m", Model(endpoint="e", id="m"), load, 1)
    assert why == "how it counts pictures: give it picture_tokens"
    text = (36 / 6, 12 + 36 / 4, 80 + 36 / 2.2)
    guessed = (5000 / 2500, 5000 / 900 + PICTURE_UNKNOWN, 5000 / 250 + 2 * PICTURE_UNKNOWN)
    assert tokens == pytest.approx([a + b for a, b in zip(text, guessed, strict=True)], rel=0.03)
    no_picture, why = Unknown().input_tokens("m", Model(endpoint="e", id="m"), RequestSize(36, 36, 2, ()), 1)
    assert (no_picture, why) == (pytest.approx(text, rel=0.03), "")
    two = RequestSize(36, 36, 2, ((5, 5), (9, 9)))
    assert estimate_tokens(two, Model(endpoint="e", id="m")) == 36 / 4 + 2 * PICTURE_UNKNOWN + 300


def test_the_most_that_a_request_costs_takes_every_token_as_the_most_expensive_kind() -> None:
    settings = {"max_output_tokens": 100}
    price = Price(currency="EUR", input="2", output="8", counters={"thinking": "20"})
    model = Model(endpoint="e", id="m", price=price, settings=settings, picture_tokens={"count": {"flat": 85}})
    load = RequestSize(10, 12, 3, ((1, 1), (2, 2)))
    most = max_cost(load, model)
    assert most is not None
    assert most.amount == Decimal(20 * (12 + 3 * 256 + 2 * 85) + 20 * 100) / 1_000_000
    assert max_cost(load, model.model_copy(update={"price": None})) is None
    assert max_cost(load, Model(endpoint="e", id="m", price=price)) is None
    unseen = Model(endpoint="e", id="m", price=price, settings=settings)
    assert max_cost(load, unseen) is None
    assert max_cost(RequestSize(10, 12, 3, ()), unseen) == Spending(
        "EUR", Decimal(20 * (12 + 768) + 2000) / 1_000_000
    )
    by_picture = Price(currency="EUR", request="0.25", picture="0.5")
    assert max_cost(load, Model(endpoint="e", id="m", price=by_picture, settings=settings)) == Spending(
        "EUR", Decimal("1.25")
    )


def test_a_mean_of_few_is_known_less_well_and_of_more_to_come_better() -> None:
    """t(4) · 2 · √(1/5 + 1/m), by the tables: t is 2.132."""
    assert bounds_of_mean(10, 2, 5, 20) == pytest.approx((10 - 2.132, 10, 10 + 2.132), abs=0.001)
    assert bounds_of_mean(10, 2, 5, 0.2) == bounds_of_mean(10, 2, 5, 1)
    assert bounds_of_mean(10, 2, 5, 4).high > bounds_of_mean(10, 2, 5, 20).high


def test_how_long_sending_takes_and_what_is_free_in_that_time() -> None:
    def limits(**more: Any) -> Limits:
        return Limits.model_validate({"concurrency": 4, **more})

    def sure(value: float) -> Bounds:
        return Bounds(value, value, value)

    assert seconds_for(sure(100), sure(0), limits(), sure(2)) == sure(50)
    assert seconds_for(sure(1), sure(0), limits(), sure(2)) == sure(2)
    assert seconds_for(sure(0), sure(0), limits(), sure(2)) == sure(0)
    assert seconds_for(sure(120), sure(0), limits(per_minute=60), sure(0.1)) == sure(120)
    assert seconds_for(sure(1), sure(9000), limits(tokens_per_minute=3000), sure(0.1)) == sure(180)
    assert [days_of(one) for one in (0, 86400, 86401, 3 * 86400)] == [1, 1, 2, 3]
    daily = {"currency": "EUR", "input": 1, "output": 1, "free": {"within": "day", "requests": 10}}
    quote = arm_quote("a", 40, 1_000_000, daily)
    assert less_allowances([quote], 1)["one", "a"].expected == pytest.approx(0.75)
    assert less_allowances([quote], 2)["one", "a"].expected == pytest.approx(0.5)
    both = [arm_quote("a", 10, 1_000_000, daily), replace(arm_quote("a", 10, 1_000_000, daily), task="two")]
    assert {name: one.expected for name, one in less_allowances(both, 1).items()} == {
        ("one", "a"): 0,
        ("two", "a"): 1,
    }
    money = {"currency": "EUR", "input": 1, "output": 1, "free": {"within": "once", "money": "0.4"}}
    assert less_allowances([arm_quote("a", 1, 1_000_000, money)], 9)["one", "a"].expected == pytest.approx(0.6)
    none = {"currency": "EUR", "input": 1, "output": 1}
    assert less_allowances([arm_quote("a", 1, 1_000_000, none)], 9)["one", "a"] == Bounds(1, 1, 1)


def arm_quote(model: str, requests: int, tokens: int, price: dict[str, Any]) -> ArmQuote:
    from types import SimpleNamespace

    arm: Any = SimpleNamespace(name=model, model_name=model, model=SimpleNamespace(price=Price.model_validate(price)))
    count, size = Bounds(requests, requests, requests), Bounds(tokens, tokens, tokens)
    return ArmQuote("one", arm, count, size, Bounds(), Bounds())


def test_cached_tokens_make_a_quote_cheaper_and_never_less_than_nothing() -> None:
    quote = arm_quote("a", 1, 1000, {"currency": "EUR", "input": 2, "output": 2})
    quote.counter_money = Bounds(-1, -0.001, 0.5)
    money = quote.money()
    assert money is not None
    assert money == pytest.approx((0.0, 0.001, 0.502))


def test_pictures_that_are_all_alike_are_what_the_text_leaves_and_known_to_a_tenth() -> None:
    """40 letters are 10 tokens; of 30 the other 20 are a picture of 100 pixels, and of 5 none can be."""
    fitted = _fitted([40.0] * 6, [100.0] * 6, [30.0] * 6)
    assert fitted.a_pixel == pytest.approx((0.18, 0.2, 0.22))
    assert fitted.around.expected == pytest.approx(0.0)
    assert fitted.a_letter == pytest.approx((0.25 * 0.97, 0.25, 0.25 * 1.03))
    assert _fitted([40.0] * 6, [1.0] * 6, [30.0] * 6).a_pixel == pytest.approx((18.0, 20.0, 22.0))
    few = _fitted([40.0] * 6, [100.0] * 6, [5.0] * 6)
    assert (few.a_pixel, few.around.expected) == (Bounds(0, 0, 0), pytest.approx(-5.0))
    assert _fitted([40.0] * 6, [0.0] * 6, [30.0] * 6).a_pixel is None


def test_letters_and_pixels_that_vary_are_told_apart_and_the_spread_is_what_they_leave() -> None:
    chance = np.random.default_rng(5)
    letters, pixels = chance.uniform(20, 400, 40), chance.uniform(1000, 90_000, 40)
    tokens = 50 + 0.3 * letters + 0.002 * pixels + chance.normal(0, 4, 40)
    fitted = _fitted(list(letters), list(pixels), list(tokens))
    design = np.stack([np.ones(40), letters, pixels], axis=1)
    solved, (squares,), *_ = np.linalg.lstsq(design, tokens, rcond=None)
    assert fitted.a_letter == pytest.approx([solved[1]] * 3)
    assert fitted.a_pixel == pytest.approx([solved[2]] * 3)
    assert fitted.around.expected == pytest.approx(solved[0])
    assert fitted.spread == pytest.approx(np.sqrt(squares / (40 - 3)))


def test_another_way_is_cheaper_for_ever_where_an_arm_may_cost_nothing() -> None:
    assert break_even(Decimal(10), Bounds(0, 2, 4), 8) == Bounds(20, 40, float("inf"))
    assert break_even(Decimal(10), Bounds(1, 2, 4), 8) == Bounds(20, 40, 80)
    assert break_even(Decimal(10), Bounds(0, 0, 0), 8) is None


def test_a_long_answer_that_nothing_bounds_is_quoted_at_four_times_its_guess(tmp_path: Path) -> None:
    members = {f"member_{n:02d}": {"type": "string"} for n in range(20)}
    files = {
        "tasks/look/question.toml": '[answer]\nform = "json"\nschema = "answer.schema.json"\n',
        "tasks/look/answer.schema.json": json.dumps({"type": "object", "properties": members}),
        "tasks/look/prompts/v1.toml": 'ask = "Read it."\n',
    }
    with in_process(tmp_path, files, cases=1) as made:
        found = quote_of(made, "look")["look/fulmar/v1"]
        guess = _length_of({"type": "object", "properties": members})
        assert guess > 75
        assert found.output_tokens == Bounds(2, 2 * guess, 2 * 4 * guess)
        assert found.unknown["output"] == "how long answers may get: set max_output_tokens"
