"""The columns of every table of arms: one row here serves the terminal, `--json` and the page."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from drovik.money import money_text
from drovik.parsing.status import STATUSES
from drovik.text import bounds_text, counted, difference_text, score_text, seconds_text

if TYPE_CHECKING:
    from drovik.comparing.verdict import Estimate, Verdict
    from drovik.scoring.scores import Costs


@dataclass(frozen=True)
class ArmEntry:
    """What a table shows of one arm; what is not known, or not meant to be shown again, is left out."""

    arm: str
    estimate: Estimate | None = None
    costs: Costs | None = None
    statuses: Mapping[str, int] = field(default_factory=dict)
    unsent: int = 0
    measure: str = ""
    place: int | None = None
    verdict: Verdict | None = None
    """Of this arm beside the best."""


@dataclass(frozen=True)
class Column:
    """A column: its title, what a cell shows, and the members of `--json` that hold the same."""

    title: str
    text: Callable[[ArmEntry], str]
    plain: Callable[[ArmEntry], dict[str, Any]]
    is_number: bool = True


def statuses_text(counts: Mapping[str, int], unsent: int = 0) -> str:
    """Statuses with their counts, in the order of the design."""
    parts = [f"{name} {counts[name]}" for name in STATUSES if counts.get(name)]
    return ", ".join(parts + [f"not sent {unsent}"] * bool(unsent)) or "none"


def interval_text(one: Estimate) -> str:
    """The bounds of a 95 % interval."""
    return " – ".join(bounds_text(one.low, one.high, one.coefficient))


def _cases(one: Estimate) -> str:
    return f"{one.cases}" if one.groups is None else f"{one.cases} in {counted(one.groups, 'group')}"


def _of_estimate(show: Callable[[Estimate], str]) -> Callable[[ArmEntry], str]:
    return lambda entry: "–" if entry.estimate is None else show(entry.estimate)


def _of_costs(show: Callable[[Costs], str]) -> Callable[[ArmEntry], str]:
    return lambda entry: "" if entry.costs is None else show(entry.costs)


def _estimate_members(*names: tuple[str, str]) -> Callable[[ArmEntry], dict[str, Any]]:
    return lambda entry: {key: getattr(entry.estimate, name) for key, name in names}


def _cost_members(*names: tuple[str, str]) -> Callable[[ArmEntry], dict[str, Any]]:
    return lambda entry: {key: _plain(getattr(entry.costs, name)) for key, name in names}


def _plain(value: Any) -> Any:
    if isinstance(value, Mapping):
        return dict(value)
    return list(value) if isinstance(value, tuple) else value


def _difference(entry: ArmEntry) -> str:
    one = entry.verdict
    if one is None:
        return ""
    plain = one.after.coefficient
    low, high = bounds_text(-one.high, -one.low, plain, signed=True)
    few = ", too few cases" if one.outcome == "too few cases" else ""
    return f"{difference_text(-one.difference, plain)} ({low} to {high}){few}"


def difference_cell(verdict: Verdict) -> str:
    """A difference with its interval."""
    plain = verdict.after.coefficient
    low, high = bounds_text(verdict.low, verdict.high, plain, signed=True)
    return f"{difference_text(verdict.difference, plain)} ({low} to {high})"


def _nothing(entry: ArmEntry) -> dict[str, Any]:
    return {}


COLUMNS = {
    "place": Column("", lambda entry: "" if entry.place is None else str(entry.place), _nothing),
    "arm": Column("arm", lambda entry: entry.arm, lambda entry: {"arm": entry.arm}, is_number=False),
    "measure": Column("measure", lambda entry: entry.measure or "–", _nothing, is_number=False),
    "score": Column(
        "score",
        _of_estimate(lambda one: score_text(one.value, one.coefficient)),
        _estimate_members(("score", "value")),
    ),
    "interval": Column(
        "95 % interval",
        _of_estimate(interval_text),
        _estimate_members(("low", "low"), ("high", "high"), ("interval_by", "method")),
        is_number=False,
    ),
    "cases": Column(
        "cases", _of_estimate(_cases), _estimate_members(("cases", "cases"), ("groups", "groups")),
    ),
    "difference": Column("difference from best", _difference, _nothing, is_number=False),
    "answers": Column(
        "answers",
        lambda entry: "" if entry.costs is None else statuses_text(entry.statuses, entry.unsent),
        lambda entry: {"statuses": dict(entry.statuses), "not_sent": entry.unsent},
        is_number=False,
    ),
    "count": Column("answers", _of_costs(lambda one: str(one.answers)), _cost_members(("answers", "answers"))),
    "tokens": Column(
        "tokens",
        _of_costs(lambda one: f"{one.input_tokens} in, {one.output_tokens} out"),
        _cost_members(("input_tokens", "input_tokens"), ("output_tokens", "output_tokens")),
        is_number=False,
    ),
    "cost": Column("cost", _of_costs(lambda one: money_text(one.money)), _cost_members(("money", "money"))),
    "time": Column(
        "median time", _of_costs(lambda one: seconds_text(one.seconds)), _cost_members(("median_seconds", "seconds"))
    ),
    "models": Column(
        "reported models", _of_costs(lambda one: ", ".join(one.reported_models)),
        _cost_members(("reported_models", "reported_models")), is_number=False,
    ),
}  # fmt: skip
"""Every column by its name."""

SCORES = ("arm", "measure", "score", "interval", "cases", "answers", "cost", "time")
RANKING = ("place", "arm", "score", "interval", "cases", "difference", "answers", "cost", "time")
VERDICT = ("arm", "score", "interval", "cases", "tokens", "cost", "time")
PAGE = ("place", "arm", "score", "interval", "cases", "answers", "tokens", "cost", "time")
"""What each table of arms shows, from left to right."""
ESTIMATE_MEMBERS = ("score", "interval", "cases")
COST_MEMBERS = ("count", "tokens", "cost", "time", "models")
"""What `--json` says of a score, and of what an arm took."""


def titles(names: Sequence[str], score: str = "score") -> list[str]:
    """The titles of columns.

    :param score: what the score is called.
    """
    return [score if name == "score" else COLUMNS[name].title for name in names]


def numeric(names: Sequence[str]) -> list[int]:
    """Which columns, counted from 0, stand to the right."""
    return [number for number, name in enumerate(names) if COLUMNS[name].is_number]


def cells(entry: ArmEntry, names: Iterable[str]) -> list[str]:
    """A row's texts."""
    return [COLUMNS[name].text(entry) for name in names]


def members(entry: ArmEntry, names: Iterable[str]) -> dict[str, Any]:
    """A row's values for `--json`."""
    return {key: value for name in names for key, value in COLUMNS[name].plain(entry).items()}
