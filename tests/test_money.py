"""Prices, quotes against an independent reckoning and the bill, and a limit that is never crossed."""

from __future__ import annotations

import json
import math
import threading
import time
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from conftest import Drovik, FakeService, Reply, Result, StandInProcess, demo_on_port, good
from scipy import stats
from test_safety import SORT, Serve, rows

from drovik.cost.estimate import ArmQuote, break_even, less_allowances, seconds_for
from drovik.cost.token_rates import Bounds, Rates, RequestSize, _fitted, _length_of, max_cost
from drovik.project.models import Model, Price
from drovik.project.settings import Limits
from drovik.project.spending import CountedTokens, Spending
from drovik.store.answer_store import Store
from drovik.store.claims import Budget
from drovik.store.sums import CountedReply

Start = Callable[..., StandInProcess]


def test_what_a_reply_costs_is_the_sum_of_its_parts() -> None:
    """By hand: 1000 in at 2.00 and 200 cached of them at 0.60, 50 out at 7.00, per million; 2 pictures, 1 request."""
    price = Price(currency="EUR", input="2", output="7", picture="0.01", request="0.002", counters={"cached": "0.6"})
    spent = Spending.of(price, 1000, 50, {"cached": CountedTokens(200, "input")}, pictures=2)
    assert spent == Spending("EUR", Decimal("0.0016") + Decimal("0.00012") + Decimal("0.00035") + Decimal("0.022"))
    assert Spending.of(price, 1000, 50) == Spending("EUR", Decimal("0.00235"))
    by_request = Price(currency="EUR", request="0.05")
    assert Spending.of(by_request, None, None, pictures=0) == Spending("EUR", Decimal("0.05"))
    assert Spending.of(by_request, None, None) is None
    with pytest.raises(ValueError, match="a price has input and output"):
        Price(currency="EUR", input="2")


def quote(model: str, task: str, requests: int, tokens: int, price: dict[str, Any]) -> ArmQuote:
    from types import SimpleNamespace

    arm: Any = SimpleNamespace(name=model, model_name=model, model=SimpleNamespace(price=Price.model_validate(price)))
    count, size = Bounds(requests, requests, requests), Bounds(tokens, tokens, tokens)
    return ArmQuote(task, arm, count, size, Bounds(), Bounds())


def test_what_is_free_is_taken_off_once_for_a_model_and_a_fixed_sum_breaks_even() -> None:
    price = {"currency": "EUR", "input": 1, "output": 1, "free": {"within": "month", "tokens": 1_000_000}}
    both = [quote("a", "one", 10, 600_000, price), quote("a", "two", 10, 900_000, price)]
    assert [one.expected for one in less_allowances(both, 1).values()] == pytest.approx([0.0, 0.5])
    assert [one.expected for one in less_allowances(both, 31).values()] == pytest.approx([0.0, 0.0])
    even = break_even(Decimal(4000), Bounds(1.0, 2.0, 4.0), 1000)
    assert even == Bounds(1_000_000, 2_000_000, 4_000_000)


def test_how_long_it_takes_follows_the_slowest_limit() -> None:
    def span(limits: Limits, count: int = 1000) -> float:
        size = Bounds(count * 500.0, count * 500.0, count * 500.0)
        return seconds_for(Bounds(count, count, count), size, limits, Bounds(2, 2, 2)).expected

    assert span(Limits(concurrency=8)) == 250
    assert span(Limits(concurrency=8, per_minute=60)) == pytest.approx(1000)
    assert span(Limits(concurrency=8, per_minute=600, tokens_per_minute=10_000)) == 3000
    assert span(Limits(concurrency=100, per_day=300)) == 3 * 86400  # on four days


def test_letters_and_pixels_are_learned_where_they_vary() -> None:
    letters = [100.0, 400.0, 900.0, 1600.0, 2500.0, 350.0]
    pixels = [1e5, 5e5, 2e5, 9e5, 3e5, 7e5]
    tokens = [20 + 0.3 * one + other / 900 for one, other in zip(letters, pixels, strict=True)]
    found = _fitted(letters, pixels, tokens)
    assert found.around.expected == pytest.approx(20, abs=0.01)
    assert found.a_letter.expected == pytest.approx(0.3, rel=1e-6)
    assert found.a_pixel is not None
    assert found.a_pixel.expected == pytest.approx(1 / 900, rel=1e-6)


@pytest.mark.parametrize(("schema", "answer"), [
    ({"type": "object", "properties": {"kind": {"enum": ["cap", "glove"]}}}, {"kind": "cap"}),
    ({"type": "object", "properties": {"number": {"type": "string"}, "count": {"type": "integer"}, "wet": {"type": "boolean"}}},
     {"number": "SK-11 04 north", "count": 12, "wet": True}),
    ({"type": "object", "properties": {"things": {"type": "array", "items": {"type": "object", "properties": {"name": {"type": "string"}}}}}},
     {"things": [{"name": "a red umbrella"}, {"name": "two keys, old"}]}),
])  # fmt: skip
def test_how_long_an_answer_is_guessed_to_be_fits_what_the_schema_asks_for(
    schema: dict[str, Any], answer: dict[str, Any]
) -> None:
    """Before anything was seen: JSON has about three letters to a token. A guess half or twice as long still serves."""
    assert 0.6 < _length_of(schema) / (len(json.dumps(answer)) / 3) < 1.7


def test_where_only_letters_or_only_pixels_vary_the_other_keeps_its_guess() -> None:
    letters, same = [100.0, 400.0, 900.0, 1600.0, 2500.0, 350.0], [2e5] * 6
    found = _fitted(letters, same, [300 + 0.3 * one for one in letters])
    assert found.a_letter == pytest.approx((0.3, 0.3, 0.3))
    assert found.a_pixel is not None
    # Nobody can say how much of the 300 the pictures are: all of what stays is given to them, within a tenth.
    assert found.a_pixel.expected * 2e5 + found.around.expected == pytest.approx(300)
    assert (found.a_pixel.low, found.a_pixel.high) == pytest.approx(
        (0.9 * found.a_pixel.expected, 1.1 * found.a_pixel.expected)
    )
    pixels = [1e5, 5e5, 2e5, 9e5, 3e5, 7e5]
    found = _fitted([200.0] * 6, pixels, [90 + one / 900 for one in pixels])
    assert found.a_letter == pytest.approx((0.25 * 0.97, 0.25, 0.25 * 1.03))
    assert found.a_pixel is not None
    assert found.a_pixel.expected == pytest.approx(1 / 900)
    assert found.around.expected == pytest.approx(90 - 200 / 4)


def test_what_was_learned_is_as_sure_as_what_was_seen_and_what_is_to_come_allow() -> None:
    """A prediction interval of the mean of m to come from n seen, at nine in ten, against SciPy's quantiles."""
    letters = [100.0, 400.0, 900.0, 1600.0, 2500.0, 350.0, 700.0, 1200.0]
    off = [3.0, -3.0, 2.0, -2.0, 1.0, -1.0, 4.0, -4.0]
    tokens = [20 + 0.3 * one + wrong for one, wrong in zip(letters, off, strict=True)]
    found = _fitted(letters, None, tokens)
    slope, around = np.polyfit(letters, tokens, 1)
    residuals = np.array(tokens) - around - slope * np.array(letters)
    assert found.spread == pytest.approx(math.sqrt(np.square(residuals).sum() / (8 - 2)))
    for coming in (1, 50):
        text = found.of_text(1000, coming)
        half = stats.t.ppf(0.95, 7) * found.spread * math.sqrt(1 / 8 + 1 / coming)
        assert text == pytest.approx(
            (around + slope * 1000 - half, around + slope * 1000, around + slope * 1000 + half)
        )
    exact = _fitted(letters, None, [20 + 0.25 * one for one in letters])
    assert exact.spread == pytest.approx(1 / math.sqrt(12), abs=0.02)  # that of rounding to whole tokens


def test_a_quote_is_what_an_independent_reckoning_comes_to(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=4)
    document = drovik("quote", *SORT, "--json").json
    (arm,) = document["arms"]
    prompt = (folder / "tasks/sort/prompts/v1.toml").read_text()
    import tomllib

    table = tomllib.loads(prompt)
    letters = len(table.get("system", "").strip()) + len(table["ask"].strip())
    pictures = 4 * -(-640 * 480 // 900)
    assert arm["requests"]["expected"] == 4
    assert arm["input_tokens"]["expected"] == pytest.approx(pictures + 4 * (12 + letters / 4))
    assert arm["money"]["expected"] == pytest.approx(
        (arm["input_tokens"]["expected"] * 2.0 + arm["output_tokens"]["expected"] * 7.0) / 1e6, rel=1e-3
    )
    assert arm["output_tokens"]["high"] == 4 * 300
    million = drovik("quote", *SORT, "--cases", "1000000", "--break-even", "4000", "--json").json["arms"][0]
    assert million["money"]["expected"] == pytest.approx(arm["money"]["expected"] * 250_000, rel=1e-3)
    even = million["break_even_cases"]["expected"]
    assert even == pytest.approx(4000 / (arm["money"]["expected"] / 4), rel=1e-3)
    assert drovik("quote", "--break-even", "many").code == 2


def test_the_bill_lies_within_the_quote_and_a_sample_makes_the_next_quote_close(
    drovik: Drovik, start_standin: Start
) -> None:
    standin = start_standin()
    demo_on_port(drovik.folder, standin.port)
    words = ("--task", "read-tag", "--arm", "fulmar")
    drovik("quote", *words)
    drovik("send", *words, "--sample", "10")
    cold = {one["arm"]: one for one in drovik("quote", *words, "--json").json["billed"]}
    assert all(one["within"] for one in cold.values())
    drovik("send", *words)
    warm = {one["arm"]: one for one in drovik("quote", *words, "--json").json["billed"]}
    for arm, one in warm.items():
        assert one["requests"] == one["quoted_requests"] == 38
        assert abs(one["error"]) < 0.05
        assert abs(one["error"]) < abs(cold[arm]["error"])
    ledger = [entry for entry in standin.entries() if entry["billed"]]
    paid = sum(entry["tokens_in"] * 2.0 + entry["tokens_out"] * 7.0 for entry in ledger) / 1e6
    assert sum(one["billed"] for one in warm.values()) < paid
    assert "Together" in drovik("quote", *words).out


def test_the_most_that_a_request_may_cost_is_the_sum_of_all_that_is_billed() -> None:
    """By hand: 40 bytes and 2 turns wrapped by 256 tokens each, at the dearer price of what may be counted by name."""
    price = Price(currency="EUR", input="2", output="7", picture="0.01", request="0.002", counters={"cached": "3"})
    load = RequestSize(letters=30, bytes=40, turns=2, pictures=((100, 100), (50, 50)))
    model = Model(
        endpoint="e", id="m", price=price, picture_tokens={"count": {"flat": 85}}, settings={"max_output_tokens": 200}
    )
    wanted = Decimal((40 + 2 * 256 + 2 * 85) * 3 + 200 * 7) / 1_000_000 + Decimal("0.002") + 2 * Decimal("0.01")
    assert max_cost(load, model) == Spending("EUR", wanted)


def test_every_attempt_whose_bill_nobody_knows_holds_its_most_and_no_other_does(tmp_path: Path) -> None:
    with Store(tmp_path / "answers.sqlite") as store:
        outcomes = [None, "lost", "timeout", "unreadable", "incomplete", "unhandled", "refused", "answered"]
        for number, outcome in enumerate(outcomes):
            store.connection.execute(
                "INSERT INTO attempts (identity, round, try, endpoint, started, outcome, bound) VALUES (?, 1, 1, 'e', '', ?, ?)",
                (f"i{number}", outcome, json.dumps(["EUR", str(2**number)])),
            )
        store.connection.commit()
        budget = Budget(store.connection, {"EUR": Decimal(100)})
        assert budget.held() == {"EUR": Decimal(sum(2**n for n in range(6)))}
        assert budget.allows(Spending("EUR", Decimal(37)))
        assert not budget.allows(Spending("EUR", Decimal("37.01")))


def test_what_a_service_counts_by_name_is_quoted_once_it_was_seen() -> None:
    """Of every second request half is cached, at a quarter of the price: 0.75 * 500 tokens in the mean of two less."""
    price = Price(currency="EUR", input="2", output="7", counters={"cached": "0.5"})
    cached, plain = {"cached": CountedTokens(500, "input")}, {"cached": CountedTokens(0, "input")}

    class Seen(Rates):
        def __init__(self) -> None:
            self._known: dict[Any, Bounds] = {}

        def _seen(self, task: Any, arm: Any) -> list[CountedReply]:
            return [CountedReply(1000, 10, one) for one in (cached, plain) * 10]

    arm: Any = SimpleNamespace(digest="d", model=Model(endpoint="e", id="m", price=price))
    found = Seen().counter_money(SimpleNamespace(name="t"), arm, 20)
    assert found.expected == pytest.approx(-0.5 * 500 * 1.5e-6)
    # 19 degrees of freedom, standard deviation 375e-6 * sqrt(20 / 19), 20 seen and 20 to come.
    half = stats.t.ppf(0.95, 19) * 375e-6 * math.sqrt(20 / 19) * math.sqrt(1 / 20 + 1 / 20)
    assert (found.low, found.high) == pytest.approx((found.expected - half, found.expected + half))


# A limit of money.


def billing(price: Callable[[int], tuple[int, int]]) -> Callable[[int, dict[str, Any]], Reply]:
    def decide(number: int, body: dict[str, Any]) -> Reply:
        time.sleep(0.05)
        tokens_in, tokens_out = price(number)
        return good('{"kind": "cap"}', count={"in": tokens_in, "out": tokens_out})

    return decide


def paid(folder: Path) -> float:
    found = rows(folder, "SELECT TOTAL(input_tokens) * 2.0 + TOTAL(output_tokens) * 7.0 FROM replies")
    return float(found[0][0]) / 1e6


def test_a_limit_is_never_crossed_and_raising_it_goes_on(drovik: Drovik, serve: Serve) -> None:
    service = serve(billing(lambda n: (600, 280)))
    folder = demo_on_port(drovik.folder, service.port)
    each = (600 * 2.0 + 280 * 7.0) / 1e6
    result = drovik("send", *SORT, "--budget", "0.05", "--json")
    assert result.code == 1
    assert result.json["limit_reached"]
    assert paid(folder) <= 0.05 < paid(folder) + 2.5 * each
    assert result.json["left"] == 48 - len(service.requests) > 20
    told = drovik("send", *SORT, "--budget", "0.08")
    assert "The limit is reached" in told.out
    assert paid(folder) <= 0.08
    assert drovik("send", *SORT, "--budget", "EUR 5", "--json").json["left"] == 0
    assert len(service.requests) == 48
    over = drovik("send", *SORT, "--resend", "ok", "--budget", "0.01")
    assert over.code == 2
    assert f"have cost {48 * each:.4f} EUR already" in over.err


def test_two_senders_under_one_limit_do_not_cross_it_together(drovik: Drovik, serve: Serve) -> None:
    service = serve(billing(lambda n: (600, 280)))
    folder = demo_on_port(drovik.folder, service.port)
    words = ("send", *SORT, "--budget", "0.06", "--json")
    results: list[Result] = []
    threads = [threading.Thread(target=lambda: results.append(drovik(*words))) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert paid(folder) <= 0.06
    assert len({one.code for one in results} - {0, 1, 2}) == 0
    assert 10 < len(service.requests) < 22  # 0.06 EUR are 21 requests


def test_what_was_lost_is_held_at_its_upper_bound(drovik: Drovik, serve: Serve) -> None:
    def decide(number: int, body: dict[str, Any]) -> Reply | None:
        return None if number < 5 else good('{"kind": "cap"}', count={"in": 600, "out": 280})

    service: FakeService = serve(decide)
    folder = demo_on_port(drovik.folder, service.port, cases=30, limits="concurrency = 2, timeout = 30")
    result = drovik("send", *SORT, "--budget", "0.06", "--json").json
    held = Decimal(str(result["held"]["EUR"]))
    bounds = [json.loads(one[0]) for one in rows(folder, "SELECT bound FROM attempts WHERE outcome = 'lost'")]
    assert len(bounds) == 5
    assert held == sum(Decimal(one[1]) for one in bounds)
    assert paid(folder) + float(held) <= 0.06


@pytest.mark.parametrize(
    ("old", "new", "line"),
    [
        ("max_output_tokens = 300", "top_k = 3", "one answer may cost any sum"),
        ('price = { currency = "EUR", input = 2.00, output = 7.00 }', "", "has no price"),
        ("picture_tokens = { count = { area = 900 } }", "", "what a picture costs is not known beforehand"),
    ],
)
def test_an_arm_without_a_bound_is_not_sent_under_a_limit(drovik: Drovik, old: str, new: str, line: str) -> None:
    folder = demo_on_port(drovik.folder, 1)
    text = (folder / "drovik.toml").read_text()
    (folder / "drovik.toml").write_text(text.replace(old, new, 1))
    if "top_k" in new:
        dialect = (folder / "dialects/plain.toml").read_text()
        (folder / "dialects/plain.toml").write_text(dialect.replace('"room":', '"top": "{top_k?}", "room":'))
    result = drovik("send", *SORT, "--budget", "1")
    assert result.code == 2
    assert line in result.err
    assert not (folder / ".drovik/answers.sqlite-wal").exists() or rows(folder, "SELECT COUNT(*) FROM attempts") == [
        (0,)
    ]


def test_currencies_are_never_added_up(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1)
    text = (folder / "drovik.toml").read_text()
    (folder / "drovik.toml").write_text(
        text.replace('currency = "EUR", input = 0.20', 'currency = "SEK", input = 0.20')
    )
    words = ("--task", "sort", "--arm", "fulmar", "--arm", "gull")
    assert set(drovik("quote", *words, "--json").json["money"]) == {"EUR", "SEK"}
    bare = drovik("send", *words, "--budget", "5")
    assert (bare.code, bare.err.count("\n")) == (2, 1)
    assert "in which currency" in bare.err
    assert "--budget says nothing of SEK" in drovik("send", *words, "--budget", "5 EUR").err
    assert "nothing that is sent costs USD" in drovik("send", *words, "--budget", "5 USD").err
