"""Limits of a run: of money, and of files that this machine lets a program open."""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

from drovik.errors import Problem, UsageError

if TYPE_CHECKING:
    from drovik.project.reading import Project
    from drovik.store.budget import Budget
    from drovik.store.store import Store
    from drovik.workflow.plan import Planned

FILES_BESIDE = 36
"""So many files a program has open beside its connections, at the most."""


def amounts(words: Sequence[str], currencies: Sequence[str], option: str) -> dict[str, Decimal]:
    """Sums of money by currency; a bare number is in the one currency that there is.

    :raises DrovikError: where it is none, or which currency is meant cannot be told.
    """
    found: dict[str, Decimal] = {}
    for word in words:
        match = re.fullmatch(r"\s*([A-Z]{3})?\s*(\d+(?:[.,]\d+)?)\s*([A-Z]{3})?\s*", word)
        if match is None or (match[1] and match[3]):
            raise UsageError(
                Problem(f"{option} '{word}' is not an amount of money", "write it like 5.00 or '5.00 EUR'")
            )
        currency = match[1] or match[3]
        if currency is None and len(currencies) != 1:
            known = ", ".join(currencies) or "no model has a price"
            raise UsageError(Problem(f"{option} {word}: in which currency", f"write it behind ({known})"))
        currency = currency or currencies[0]
        if currency not in currencies:
            what = f"{option} {word}: nothing that is sent costs {currency}"
            raise UsageError(Problem(what, f"there is: {', '.join(currencies) or 'no price at all'}"))
        found[currency] = Decimal(match[2].replace(",", "."))
    return found


def budget_for(
    project: Project, store: Store, planned: Planned, words: Sequence[str], name: str = "--budget"
) -> Budget | None:
    """The budget for all that this store's replies have cost; None without a limit.

    :param words: the limits, like "5.00" or "5.00 EUR".
    :param name: what the limit is called where it was given.

    :raises DrovikError: with every model that cannot be sent to under a limit, and where it is used up.
    """
    from drovik.cost.request_size import cannot_be_bounded
    from drovik.store.budget import Budget

    if not words:
        return None
    models = list(dict.fromkeys(arm.model_name for arms in planned.arms.values() for arm in arms))
    problems = cannot_be_bounded(project.settings, models)
    if problems:
        raise UsageError(problems)
    prices = [one.price for name, one in project.settings.models.items() if name in models and one.price]
    currencies = sorted({one.currency for one in prices})
    most = amounts(words, currencies, name)
    without = [one for one in currencies if one not in most]
    if without:
        what = f"{name} says nothing of {', '.join(without)}, in which some of it is paid"
        raise UsageError(Problem(what, f"add {name} '5.00 {without[0]}', or leave those arms out by --arm"))
    budget = Budget(store.connection, most)
    paid = budget.paid()
    for currency, limit in most.items():
        spent = paid.get(currency, Decimal(0))
        if spent >= limit:
            what = f"{name} {limit} {currency}: this store's replies have cost {spent:.4f} {currency} already"
            raise UsageError(Problem(what, f"{name} counts all that was ever sent from this project: raise it"))
    return budget


def concurrency_bound(project: Project, endpoints: Sequence[str]) -> tuple[int | None, Problem | None]:
    """How many requests to an endpoint may be under way by the files that this machine lets a program open.

    The program's own limit is raised as far as it may be; where that is not enough, there is a Problem to be said.
    None where there is no such limit.
    """
    try:
        import resource
    except ImportError:  # a system that has no such limit
        return None, None
    slots = [project.settings.endpoints[name].limits.concurrency for name in endpoints]
    wanted = sum(slots) + FILES_BESIDE
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft == resource.RLIM_INFINITY or soft >= wanted:
        return None, None
    top = max(soft, wanted if hard == resource.RLIM_INFINITY else min(hard, wanted))
    resource.setrlimit(resource.RLIMIT_NOFILE, (top, hard))
    if top >= wanted:
        return None, None
    room = max(1, (top - FILES_BESIDE) // len(slots))
    what = f"this machine lets a program open {top} files, so no more than {room} requests go at once"
    return room, Problem(what, "raise that limit (ulimit -n 4096), or lower concurrency")
