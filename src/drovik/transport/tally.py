"""What is counted while sending: progress for the eye, and the summary at the end."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from decimal import Decimal

from drovik.errors import Problem
from drovik.project.spending import Spent
from drovik.store.budget import Budget


@dataclass
class Counts:
    """What came of a number of asks. `first_time` counts those answered by their first try."""

    total: int = 0
    answered: int = 0
    failed: int = 0
    first_time: int = 0
    attempts: int = 0
    kinds: Counter[str] = field(default_factory=Counter)
    """Of the asks that failed."""
    troubles: Counter[str] = field(default_factory=Counter)
    """Of all attempts that did not bring an answer, whether a later one did or not."""
    money: dict[str, Decimal] = field(default_factory=dict)

    @property
    def open(self) -> int:
        """How many have neither an answer nor failed."""
        return self.total - self.answered - self.failed

    def pay(self, spent: Spent | None) -> None:
        """Add what a reply cost."""
        if spent is not None:
            self.money[spent.currency] = self.money.get(spent.currency, Decimal(0)) + spent.amount

    def end(self, kind: str, first_try: bool) -> None:
        """Count an ask that came to its end."""
        if kind == "answered":
            self.answered += 1
            self.first_time += first_try
        else:
            self.failed += 1
            self.kinds[kind] += 1


@dataclass
class Tally(Counts):
    """The counts of one run. `total` is how many requests it set out to make; `arms` and `models` are its parts.

    `elsewhere` is how many of them another program asked meanwhile.
    """

    left: int = 0
    elsewhere: int = 0
    without_reply: int = 0
    tried_again: int = 0
    repair_turns: int = 0
    input_tokens: int = 0
    output_tokens: int = 0
    stops: list[Problem] = field(default_factory=list)
    warnings: dict[str, Problem] = field(default_factory=dict)
    interrupted: bool = False
    arms: dict[tuple[str, str], Counts] = field(default_factory=dict)
    models: dict[str, Counts] = field(default_factory=dict)
    quiet_until: float = 0.0
    """Until when, by the monotonic clock, some service asked not to be asked."""
    state: str = ""
    """What it waits for, if it waits."""
    budget: Budget | None = None
    """The limit of money, where there is one."""
    paid_before: dict[str, Decimal] = field(default_factory=dict)
    """What this store had cost before, where there is a limit."""
    over: bool = False
    """Whether the limit kept something from being sent."""

    @classmethod
    def of(cls, total: int, budget: Budget | None) -> Tally:
        """The counts of a run that begins now."""
        return cls(total, budget=budget, paid_before=budget.paid() if budget else {})

    @property
    def most(self) -> dict[str, Decimal]:
        """The limits of money, by currency; none where there is no budget."""
        return self.budget.most if self.budget else {}

    def parts(self, task: str, arm: str, model: str) -> tuple[Counts, Counts, Counts]:
        """The counts that an ask belongs to: the run's, its arm's, its model's."""
        return self, self.arms.setdefault((task, arm), Counts()), self.models.setdefault(model, Counts())

    def warn(self, about: str, problem: Problem) -> None:
        """Keep a warning once for each thing it is about."""
        self.warnings.setdefault(about, problem)
