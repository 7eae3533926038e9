"""What is counted while sending: progress for the eye, and the summary at the end."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from decimal import Decimal

from drovik.problems import Problem
from drovik.store.records import Spent


@dataclass
class Tally:
    """The counts of one run. `total` is how many requests it set out to make."""

    total: int
    answered: int = 0
    failed: int = 0
    left: int = 0
    attempts: int = 0
    without_reply: int = 0
    tried_again: int = 0
    statuses: Counter[str] = field(default_factory=Counter)
    kinds: Counter[str] = field(default_factory=Counter)
    money: dict[str, Decimal] = field(default_factory=dict)
    input_tokens: int = 0
    output_tokens: int = 0
    stops: list[Problem] = field(default_factory=list)
    warnings: dict[str, Problem] = field(default_factory=dict)
    interrupted: bool = False
    quiet_until: float = 0.0
    """Until when, by the monotonic clock, some service asked not to be asked."""

    def pay(self, spent: Spent | None) -> None:
        """Add what a reply cost."""
        if spent is not None:
            self.money[spent.currency] = self.money.get(spent.currency, Decimal(0)) + spent.amount

    def warn(self, about: str, problem: Problem) -> None:
        """Keep a warning once for each thing it is about."""
        self.warnings.setdefault(about, problem)
