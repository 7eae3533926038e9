"""How often a bill lies within what was quoted: a simulation of services that count as services do.

    python benchmarks/bills.py [TRIALS]

Each trial makes up a service: how it counts text and pictures, how long its answers are (a few are very long), how much it
thinks and how often it has a request's beginning cached, each at a price of its own. Some requests are seen, more are
quoted, and then billed. Nothing is sent: replies are drawn, and the quote is Drovik's own.
"""

from __future__ import annotations

import sys
from decimal import Decimal
from typing import Any

import numpy as np

from drovik.cost.estimate import ArmQuote, Estimator
from drovik.cost.token_rates import Bounds, Rates, RequestSize
from drovik.project.arms import Arm
from drovik.project.models import Model, Price
from drovik.project.spending import CountedTokens, Spending
from drovik.store.sums import CountedReply, CountedRequest

SEEN, COMING = (10, 20, 48, 200), (20, 100, 1000)
PRICE = Price(
    currency="EUR",
    input=Decimal("1.7"),
    output=Decimal("6.1"),
    counters={"cached": Decimal("0.4"), "thinking": Decimal("5.2")},
)


class Service:
    """A made-up service: draws what a request weighs, and how its reply is counted."""

    def __init__(self, rng: np.random.Generator) -> None:
        self.rng = rng
        self.letter, self.around, self.pixel = rng.uniform(0.2, 0.45), rng.uniform(5, 60), 1 / rng.uniform(400, 1500)
        self.length, self.spread = rng.uniform(15, 150), rng.uniform(0.2, 0.9)
        self.thinks, self.cached = rng.choice([0.0, rng.uniform(50, 400)]), rng.choice([0.0, rng.uniform(0.2, 0.9)])

    def request(self) -> tuple[RequestSize, CountedReply]:
        """What is sent, and what comes back."""
        rng = self.rng
        size = int(rng.integers(200, 1200)), int(rng.integers(200, 1200))
        letters = int(rng.integers(150, 600))
        counted = round(self.around + self.letter * letters + self.pixel * size[0] * size[1] + rng.normal(0, 3))
        thought = round(rng.gamma(0.7, self.thinks)) if self.thinks else 0
        output = max(1, round(self.length * rng.lognormal(0, self.spread))) + thought
        counters = {
            "cached": CountedTokens(counted // 2 if rng.random() < self.cached else 0, "input"),
            "thinking": CountedTokens(thought, "output"),
        }
        return RequestSize(letters, letters, 2, (size,)), CountedReply(max(1, counted), output, counters)


class Seen(Rates):
    """Rates that know the replies that were drawn, in place of a store."""

    def __init__(self, drawn: list[tuple[RequestSize, CountedReply]]) -> None:
        self._drawn, self._wordings, self._replies, self._known = drawn, {}, {}, {}

    def _counted(self, model: Model) -> list[CountedRequest]:
        return [CountedRequest(load.letters, load.pictures, reply.input_tokens) for load, reply in self._drawn]

    def _seen(self, task: Any, arm: Arm) -> list[CountedReply]:
        return [reply for _, reply in self._drawn]


def trial(rng: np.random.Generator, seen: int, coming: int) -> tuple[bool, float]:
    """Whether the bill lies within the quote, and how wide that is beside its middle."""
    service = Service(rng)
    model = Model(endpoint="e", id="m", price=PRICE)
    arm: Any = type("AnArm", (), {"model": model, "model_name": "m", "name": "m/v1", "digest": "d"})()
    task: Any = type("ATask", (), {"name": "t"})()
    estimator = Estimator({}, Seen([service.request() for _ in range(seen)]))  # type: ignore[arg-type]
    estimator._coming = {("t", "m/v1"): float(coming)}
    quote, bill = ArmQuote("t", arm), Decimal(0)
    for _ in range(coming):
        load, reply = service.request()
        estimator._count(quote, task, load, Bounds(1, 1, 1))
        spent = Spending.of(PRICE, reply.input_tokens, reply.output_tokens, reply.counters)
        bill += spent.amount if spent else 0
    money = quote.money()
    assert money is not None
    return money.low <= float(bill) <= money.high, (money.high - money.low) / money.expected


def main(trials: int) -> None:
    print(f"{trials} made-up services a line")
    print(f"{'seen':>6} {'to come':>8} {'bills within':>13} {'width beside the quote':>23}")
    every = []
    for seen in SEEN:
        for coming in COMING:
            rng = np.random.default_rng([seen, coming])
            found = [trial(rng, seen, coming) for _ in range(trials)]
            within = float(np.mean([one for one, _ in found]))
            every.append(within)
            print(
                f"{seen:6} {coming:8} {within * 100:12.1f} % {np.median([wide for _, wide in found]) * 100:21.1f} %",
                flush=True,
            )
    print(f"in all {np.mean(every) * 100:.1f} % of bills within what was quoted (aim: nine in ten)")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 300)
