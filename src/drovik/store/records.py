"""The records that the store takes and gives."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, NamedTuple

from drovik.project.settings import Price
from drovik.reading.answer_text import Status
from drovik.reading.schema_errors import SchemaError


@dataclass(frozen=True)
class Asked:
    """What is asked for one arm, case and repeat; `text` is the canonical form that `identity` digests."""

    task: str
    arm: str
    arm_name: str
    case_id: str
    repeat: int
    identity: str
    text: str
    turn: int = 1
    second: bool = False


@dataclass(frozen=True)
class Reply:
    """A reply as it came, and what was read off it at once."""

    http_status: int
    body: bytes
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    price: Price | None = None
    counters: Mapping[str, Counted] = field(default_factory=dict)
    pictures: int | None = None

    def spent(self) -> Spent | None:
        """What it cost by that price."""
        return Spent.of(self.price, self.input_tokens, self.output_tokens, self.counters, self.pictures)


class Counted(NamedTuple):
    """Tokens that a service counts by a name of their own, and whether its input or output counts them too."""

    tokens: int
    within: str | None = None


def counted_of(text: str | None) -> dict[str, Counted]:
    """Tokens counted by name, out of the JSON that the store keeps of them."""
    return {name: Counted(*one) for name, one in json.loads(text).items()} if text else {}


@dataclass(frozen=True)
class Spent:
    """Money in one currency."""

    currency: str
    amount: Decimal

    @staticmethod
    def of(
        price: Price | None,
        input_tokens: int | None,
        output_tokens: int | None,
        counters: Mapping[str, Counted] | None = None,
        pictures: int | None = None,
        requests: int = 1,
    ) -> Spent | None:
        """What a reply cost; None where the price, or what it counts, is not known.

        Tokens counted by name have their own price where there is one, and then are not paid as input or
        output as well.

        :param pictures: how many went with the request; None where nothing is billed for the request itself.
        :param requests: of how many the counts are the sums.
        """
        if price is None:
            return None
        by_request = pictures is not None and (price.request is not None or price.picture is not None)
        if input_tokens is None and output_tokens is None and not by_request:
            return None
        plain = {"input": input_tokens or 0, "output": output_tokens or 0}
        amount = Decimal(0)
        for name, one in (counters or {}).items():
            if name in price.counters:
                amount += price.counters[name] * one.tokens
                if one.within is not None:
                    plain[one.within] = max(0, plain[one.within] - one.tokens)
        amount += (price.input or 0) * plain["input"] + (price.output or 0) * plain["output"]
        amount /= 1_000_000
        if pictures is not None:
            amount += (price.request or 0) * requests + (price.picture or 0) * pictures
        return Spent(price.currency, amount)


@dataclass(frozen=True)
class Answer:
    """What is read out of a reply. Its tokens, money and seconds are those of the reply it was read from.

    `pictures` tell where the pictures come from that it is about, where a measure has to know.
    """

    status: Status
    how: str = ""
    text: str = ""
    value: Any = None
    errors: tuple[SchemaError, ...] = ()
    note: str = ""
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    spent: Spent | None = None
    seconds: float | None = None
    pictures: tuple[Mapping[str, Any], ...] = ()


@dataclass(frozen=True)
class Attempt:
    """One request that was sent: when, what came of it (None: nobody knows), its seconds, the service's words."""

    started: str
    outcome: str | None
    seconds: float | None
    words: str


@dataclass(frozen=True)
class Bill:
    """What was sent: attempts, those with a reply, and those that may have been billed without one."""

    attempts: int
    replies: int
    unknown: int
