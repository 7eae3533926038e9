"""The records that the store takes and gives."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any, NamedTuple

from drovik.project.arms import canonical
from drovik.project.models import Price
from drovik.project.spending import CountedTokens, Spending


class RequestRecord(NamedTuple):
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


class Reply(NamedTuple):
    """A reply as it came, and what was read off it at once."""

    http_status: int
    body: bytes
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    price: Price | None = None
    counters: Mapping[str, CountedTokens] = {}
    pictures: int | None = None

    def spent(self) -> Spending | None:
        """What it cost by that price."""
        return Spending.of(self.price, self.input_tokens, self.output_tokens, self.counters, self.pictures)


REPLY_COLUMNS = (
    "at", "http_status", "body", "model", "input_tokens", "output_tokens", "price", "counters", "pictures",
)  # fmt: skip
"""The columns of `replies`, but for its keys."""
SPENT_COLUMNS = "r.price, r.input_tokens, r.output_tokens, r.counters, r.pictures"
"""What `spending_of` takes, of replies called `r`."""


@lru_cache(maxsize=1_000)
def price_of(text: str) -> Price:
    """A price, out of the JSON that the store keeps of it."""
    return Price.model_validate_json(text)


def spending_of(
    price: str | None,
    tokens_in: int | None,
    tokens_out: int | None,
    counters: str | None,
    pictures: int | None,
    requests: int = 1,
) -> Spending | None:
    """What a reply cost, of `SPENT_COLUMNS` as the store has them; None where nobody knows."""
    if price is None:
        return None
    return Spending.of(price_of(price), tokens_in, tokens_out, counted_of(counters), pictures, requests)


def counted_of(text: str | None) -> dict[str, CountedTokens]:
    """Tokens counted by name, out of the JSON that the store keeps of them."""
    return {name: CountedTokens(*one) for name, one in json.loads(text).items()} if text else {}


class Attempt(NamedTuple):
    """One request that was sent: when, the outcome (None: nobody knows), its seconds, the service's words."""

    started: str
    outcome: str | None
    seconds: float | None
    words: str


class AttemptCounts(NamedTuple):
    """What was sent: attempts, those with a reply, and those that may have been billed without one."""

    attempts: int
    replies: int
    unknown: int


def preparations(asked: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Each picture of a request by its source and prep, which the maps back to the source are kept by."""
    return [
        (part["picture"], canonical([part["preparing"], part["prep"]]))
        for turn in asked.get("turns", ())
        for part in turn.get("parts", ())
        if "picture" in part
    ]


Facts = tuple[str | None, int | None, int | None, Spending | None, float | None]
"""Of a reply: the model that it reports, tokens in and out, money, seconds."""


def facts_of(model: str | None, seconds: float | None, spending: Sequence[Any]) -> Facts:
    """The facts of a reply.

    :param spending: the values of `SPENT_COLUMNS`.
    """
    _, tokens_in, tokens_out, *_ = spending
    return model, tokens_in, tokens_out, spending_of(*spending), seconds
