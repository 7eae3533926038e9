"""The records that the store takes and gives."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Any

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


@dataclass(frozen=True)
class Reply:
    """A reply as it came, and what was read off it at once."""

    http_status: int
    body: bytes
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    price: Price | None = None


@dataclass(frozen=True)
class Spent:
    """Money in one currency."""

    currency: str
    amount: Decimal

    @staticmethod
    def of(price: Price | None, input_tokens: int | None, output_tokens: int | None) -> Spent | None:
        """What a reply cost by the price per million tokens; None where price or counts are not known."""
        if price is None or (input_tokens is None and output_tokens is None):
            return None
        amount = (price.input * (input_tokens or 0) + price.output * (output_tokens or 0)) / 1_000_000
        return Spent(price.currency, amount)


@dataclass(frozen=True)
class Answer:
    """What is read out of a reply. Its tokens, money and seconds are those of the reply it was read from."""

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
