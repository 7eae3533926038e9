"""Money by currency: sums are never made across currencies, and are written in one way."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal

Amounts = dict[str, Decimal]
"""How much of each currency."""


def add_money(amounts: Amounts, currency: str, amount: Decimal) -> None:
    """Add an amount to the sum of its currency."""
    amounts[currency] = amounts.get(currency, Decimal(0)) + amount


def money_text(amounts: Mapping[str, Decimal], places: int = 4) -> str:
    """Money by currency, in the order of the currencies' names; a dash where none is known."""
    return ", ".join(f"{amount:.{places}f} {currency}" for currency, amount in sorted(amounts.items())) or "–"
