"""What arms are set against: the size of the pictures as they were sent, money, seconds, or a setting."""

from __future__ import annotations

import statistics
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from drovik.comparing.frontier import frontier_of
from drovik.comparing.ranking import Ranking
from drovik.comparing.verdict import Estimate
from drovik.errors import Problem, UsageError, known_words
from drovik.evaluation.gathering import TaskView
from drovik.planning.answers import pictures_sent
from drovik.project.arms import Arm
from drovik.store.answer_store import Store

ASIDE = {"pictures": "longest side in pixels", "money": "for 1000 cases", "seconds": "median"}
"""What arms can be set against beside settings, and what of it."""
_MOST_LOOKED_AT = 200
"""Cases whose pictures are looked at: those of a prep hardly differ in size."""


@dataclass(frozen=True)
class ArmAgainst:
    """An arm with its score and its amount of what it is set against; arms of one `line` are of one model."""

    line: str
    arm: str
    amount: float
    score: Estimate


@dataclass(frozen=True)
class Against:
    """The arms by line and amount, which is in a `unit`; `without` are the arms that have no amount."""

    what: str
    unit: str
    arms: tuple[ArmAgainst, ...]
    without: tuple[str, ...]

    def lines(self) -> dict[str, list[ArmAgainst]]:
        """The arms of each line, the smallest amount first."""
        found: dict[str, list[ArmAgainst]] = {}
        for one in self.arms:
            found.setdefault(one.line, []).append(one)
        return found


def set_against(view: TaskView, ranking: Ranking, store: Store, what: str) -> Against:
    """The ranked arms, set against an amount.

    :param what: `pictures`, `money`, `seconds`, or the name of a setting with numbers.
    :raises UsageError: where no arm has such an amount.
    """
    arms = {arm.name: arm for arm in view.arms}
    amounts, unit = _amounts(view, ranking, store, what, arms)
    found, without = [], []
    for ranked, score in zip(ranking.arms, ranking.estimates, strict=True):
        amount = amounts.get(ranked.arm)
        if amount is None:
            without.append(ranked.arm)
        else:
            found.append(ArmAgainst(_line(arms[ranked.arm], what), ranked.arm, amount, score))
    if not found:
        settings = {name for arm in view.arms for name in _settings(arm) if _number(arm, name) is not None}
        raise UsageError(Problem(f"no arm has '{what}'", known_words(what, [*ASIDE, *settings])))
    found.sort(key=lambda one: (one.line, one.amount))
    return Against(what, unit, tuple(found), tuple(without))


def _amounts(
    view: TaskView, ranking: Ranking, store: Store, what: str, arms: Mapping[str, Arm]
) -> tuple[dict[str, float], str]:
    if what in ("money", "seconds"):
        frontier = frontier_of(ranking)
        own = {one.arm: one.money if what == "money" else one.seconds for one in frontier.arms}
        found = {name: one.value for name, one in own.items() if one}
        return found, "s" if what == "seconds" else frontier.currency or ""
    if what == "pictures":
        sides = {name: _side(store, list(view.identities.get(name, {}).values())[:_MOST_LOOKED_AT]) for name in arms}
        return {name: side for name, side in sides.items() if side is not None}, "pixels"
    return {name: float(value) for name, arm in arms.items() if (value := _number(arm, what)) is not None}, ""


def _settings(arm: Arm) -> dict[str, Any]:
    return dict(arm.model.settings.canonical()) if arm.outside is None else {}


def _number(arm: Arm, name: str) -> float | None:
    """A setting that is a number."""
    value = _settings(arm).get(name)
    return value if isinstance(value, int | float) and not isinstance(value, bool) else None


def _side(store: Store, identities: list[str]) -> float | None:
    """The mean of the longest sides of pictures as they were sent, in pixels."""
    sides = [max(one["size"]) for identity in identities for one in pictures_sent(store, identity)]
    return statistics.fmean(sides) if sides else None


def _line(arm: Arm, what: str) -> str:
    """The arm without what makes the amount: its variant, for pictures its prep; for money and seconds the model."""
    if arm.outside is not None:
        return arm.name
    model = arm.model.laid.model if arm.model.laid else arm.model_name
    parts = arm.name.split("/")[1:]
    kept = {"pictures": parts[:1], "money": [], "seconds": []}.get(what, parts)
    return "/".join([model, *kept])
