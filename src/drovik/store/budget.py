"""What may still be spent: what replies cost, and the most that those under way may come to.

Each attempt is kept with its upper bound. As long as it has no reply (it is under way, its reply was lost, or its
program was killed) it counts as that much, for it may be billed so. Once there is a reply, it counts as what the
service reported; a reply that reports no tokens, or cannot be read, counts as the bound again.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from decimal import Decimal

from drovik.project.settings import Price
from drovik.project.spending import Spent
from drovik.store.records import counted_of


class Budget:
    """Limits by currency, held against all that this store's replies have cost, whoever sent them.

    :param most: by currency; the other currencies have no limit.
    """

    def __init__(self, connection: sqlite3.Connection, most: Mapping[str, Decimal]) -> None:
        self._connection, self.most = connection, dict(most)
        self._paid: dict[str, Decimal] = {}
        self._seen = 0
        self._prices: dict[str, Price] = {}
        self._uncounted: dict[str, Decimal] = {}
        self.uncounted_replies = 0
        """How many good replies said nothing of their tokens, so that they count as the most that they may cost."""

    def paid(self) -> dict[str, Decimal]:
        """What replies cost so far, by currency; only those that are new are looked at."""
        rows = self._connection.execute(
            "SELECT r.id, r.price, r.input_tokens, r.output_tokens, r.counters, r.pictures, r.http_status, a.bound"
            " FROM replies r JOIN attempts a ON a.id = r.attempt"
            " WHERE r.id > ? AND r.price IS NOT NULL ORDER BY r.id",
            (self._seen,),
        )
        for number, price, tokens_in, tokens_out, counters, pictures, status, bound in rows.fetchall():
            if price not in self._prices:
                self._prices[price] = Price.model_validate_json(price)
            by = self._prices[price]
            spent = Spent.of(by, tokens_in, tokens_out, counted_of(counters), pictures)
            if 200 <= status < 300 and not by.is_counted(tokens_in, tokens_out):
                self.uncounted_replies += 1
                upper = json.loads(bound) if bound else [by.currency, str(spent.amount if spent else 0)]
                spent = Spent(upper[0], Decimal(upper[1]))
                _add(self._uncounted, spent)
            if spent:
                _add(self._paid, spent)
            self._seen = number
        return dict(self._paid)

    def held(self) -> dict[str, Decimal]:
        """The most that attempts without a reply may yet come to, by currency."""
        found: dict[str, Decimal] = {}
        rows = self._connection.execute(
            "SELECT bound FROM attempts a WHERE bound IS NOT NULL"
            " AND (outcome IS NULL OR outcome IN ('lost', 'timeout', 'unreadable', 'incomplete', 'unhandled'))"
            " AND NOT EXISTS (SELECT 1 FROM replies r WHERE r.attempt = a.id AND r.price IS NOT NULL)"
        )
        for (bound,) in rows:
            currency, amount = json.loads(bound)
            _add(found, Spent(currency, Decimal(amount)))
        return found

    def uncounted(self) -> dict[str, Decimal]:
        """What of `paid` is the upper bound of replies that say nothing of their tokens."""
        return dict(self._uncounted)

    def allows(self, bound: Spent | None) -> bool:
        """Whether so much more may be spent; asked within the transaction that enters the attempt.

        :param bound: None where nobody can say what it may cost: that is never allowed under a limit.
        """
        if bound is None:
            return not self.most
        most = self.most.get(bound.currency)
        if most is None:
            return True
        nothing = Decimal(0)
        before = self.paid().get(bound.currency, nothing) + self.held().get(bound.currency, nothing)
        return before + bound.amount <= most


def _add(sums: dict[str, Decimal], spent: Spent) -> None:
    sums[spent.currency] = sums.get(spent.currency, Decimal(0)) + spent.amount
