"""What a reply cost, by a model's price: money in one currency."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import NamedTuple

from drovik.project.models import Price


class CountedTokens(NamedTuple):
    """Tokens that a service counts by a name of their own, and whether its input or output counts them too."""

    tokens: int
    within: str | None = None


@dataclass(frozen=True, slots=True)
class Spending:
    """Money in one currency."""

    currency: str
    amount: Decimal

    @staticmethod
    def of(
        price: Price | None,
        input_tokens: int | None,
        output_tokens: int | None,
        counters: Mapping[str, CountedTokens] | None = None,
        pictures: int | None = None,
        requests: int = 1,
    ) -> Spending | None:
        """What a reply cost; None where the price, or what it counts, is not known.

        Tokens counted by name have their own price if there is one, and then are not paid as input or
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
        return Spending(price.currency, amount)
