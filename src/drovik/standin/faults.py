"""Faults on order: how often the stand-in answers with something else than an answer."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from typing import Literal

from drovik.problems import DrovikError, Problem, known_words

Fault = Literal["none", "limit", "error", "lost", "stall"]
KINDS: tuple[Fault, ...] = ("limit", "error", "lost", "stall")
MEANINGS = {
    "limit": "429 with Retry-After, not billed",
    "error": "500, not billed",
    "lost": "billed, and the connection closed before the reply",
    "stall": "billed, and the reply held back for an hour",
}


@dataclass
class FaultPlan:
    """Shares of requests, by kind of fault, drawn in the order in which requests arrive."""

    shares: dict[str, float] = field(default_factory=dict)
    seed: int = 1

    def __post_init__(self) -> None:
        self._chance = random.Random(self.seed)

    def draw(self) -> Fault:
        """The fault of the next request."""
        at = self._chance.random()
        for kind in KINDS:
            at -= self.shares.get(kind, 0.0)
            if at < 0:
                return kind
        return "none"


def read_faults(text: str) -> FaultPlan:
    """A plan such as `limit=0.1,lost=0.05,seed=7`.

    :raises DrovikError: where a word or a share is wrong.
    """
    shares: dict[str, float] = {}
    seed = 1
    for part in filter(None, (one.strip() for one in text.split(","))):
        name, _, value = part.partition("=")
        try:
            if name == "seed":
                seed = int(value)
                continue
            share = float(value)
        except ValueError:
            raise DrovikError(
                Problem(f"--faults: '{part}' has no number", "write it like limit=0.1,error=0.05")
            ) from None
        if name not in KINDS:
            raise DrovikError(Problem(f"--faults: there is no fault '{name}'", known_words(name, (*KINDS, "seed"))))
        if not 0 <= share <= 1:
            raise DrovikError(Problem(f"--faults: '{part}' is no share", "give one from 0 to 1"))
        shares[name] = share
    if sum(shares.values()) > 1:
        raise DrovikError(Problem("--faults: the shares come to more than 1", "lower them"))
    return FaultPlan(shares, seed)
