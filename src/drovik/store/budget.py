"""What may still be spent: what replies cost, and the most that those under way may come to.

An attempt that is sent under a limit is kept with its upper bound. As long as it has no reply (it is under
way, its reply was lost, or its program was killed) it counts as that much, for it may be billed so; once
there is a reply, it counts as what the service reported.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from decimal import Decimal

from drovik.project.settings import Price
from drovik.store.records import Spent, counted_of


class Budget:
    """Limits by currency, held against all that this store's replies have cost, whoever sent them.

    :param most: by currency; the other currencies have no limit.
    """

    def __init__(self, connection: sqlite3.Connection, most: Mapping[str, Decimal]) -> None:
        self._connection, self.most = connection, dict(most)
        self._paid: dict[str, Decimal] = {}
        self._seen = 0
        self._prices: dict[str, Price] = {}

    def paid(self) -> dict[str, Decimal]:
        """What replies cost so far, by currency; only those that are new are looked at."""
        rows = self._connection.execute(
            "SELECT id, price, input_tokens, output_tokens, counters, pictures FROM replies"
            " WHERE id > ? AND price IS NOT NULL ORDER BY id",
            (self._seen,),
        )
        for number, price, tokens_in, tokens_out, counters, pictures in rows.fetchall():
            if price not in self._prices:
                self._prices[price] = Price.model_validate_json(price)
            counted = counted_of(counters)
            spent = Spent.of(self._prices[price], tokens_in, tokens_out, counted, pictures)
            if spent:
                self._paid[spent.currency] = self._paid.get(spent.currency, Decimal(0)) + spent.amount
            self._seen = number
        return dict(self._paid)

    def held(self) -> dict[str, Decimal]:
        """The most that attempts without a reply may yet come to, by currency."""
        found: dict[str, Decimal] = {}
        rows = self._connection.execute(
            "SELECT bound FROM attempts WHERE bound IS NOT NULL"
            " AND (outcome IS NULL OR outcome IN ('lost', 'timeout'))"
        )
        for (bound,) in rows:
            currency, amount = json.loads(bound)
            found[currency] = found.get(currency, Decimal(0)) + Decimal(amount)
        return found

    def allows(self, bound: Spent) -> bool:
        """Whether so much more may be spent; asked within the transaction that enters the attempt."""
        most = self.most.get(bound.currency)
        if most is None:
            return True
        nothing = Decimal(0)
        before = self.paid().get(bound.currency, nothing) + self.held().get(bound.currency, nothing)
        return before + bound.amount <= most
