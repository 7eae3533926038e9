"""The records that the store takes and gives."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field

from drovik.project.settings import Price
from drovik.project.spending import CountedTokens, Spending


@dataclass(frozen=True)
class RequestRecord:
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
    counters: Mapping[str, CountedTokens] = field(default_factory=dict)
    pictures: int | None = None

    def spent(self) -> Spending | None:
        """What it cost by that price."""
        return Spending.of(self.price, self.input_tokens, self.output_tokens, self.counters, self.pictures)


def counted_of(text: str | None) -> dict[str, CountedTokens]:
    """Tokens counted by name, out of the JSON that the store keeps of them."""
    return {name: CountedTokens(*one) for name, one in json.loads(text).items()} if text else {}


@dataclass(frozen=True)
class Attempt:
    """One request that was sent: when, what came of it (None: nobody knows), its seconds, the service's words."""

    started: str
    outcome: str | None
    seconds: float | None
    words: str


@dataclass(frozen=True)
class AttemptCounts:
    """What was sent: attempts, those with a reply, and those that may have been billed without one."""

    attempts: int
    replies: int
    unknown: int
