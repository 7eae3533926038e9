"""`drovik compare --against`: score against pictures, money, seconds or a setting, as a table and a figure."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.printing import say, table
from drovik.errors import UsageError
from drovik.reporting.columns import interval_text
from drovik.text import score_text

if TYPE_CHECKING:
    from drovik.comparing.against import Against, ArmAgainst
    from drovik.comparing.ranking import Ranking
    from drovik.evaluation.gathering import TaskView

_WIDTH, _HEIGHT = 64, 15
_MARKS = "abcdefghijklmnopqrstuvwxyz"
_FAR_APART = 8.0
"""Amounts that are this many times apart are drawn by their logarithms."""


def against_of(
    rankings: Sequence[tuple[TaskView, Ranking]], store: workflow.Store, what: str | None
) -> dict[str, Against]:
    """The arms of each task against an amount, by the task's name; of the tasks that have it.

    :raises UsageError: where none has.
    """
    found: dict[str, Against] = {}
    missing: UsageError | None = None
    for view, ranking in rankings if what else ():
        try:
            found[view.task.name] = workflow.set_against(view, ranking, store, str(what))
        except UsageError as error:
            missing = missing or error
    if missing is not None and not found:
        raise missing
    return found


def against_document(found: Against) -> dict[str, Any]:
    """The arms against an amount, for `--json`."""
    return {"against": asdict(found)}


def show_against(found: Against) -> None:
    """The table and the figure."""
    say()
    rows = [
        (_mark(number), one.line, amount_text(one.amount), score_text(one.score.value, one.score.coefficient),
         interval_text(one.score), one.arm)
        for number, own in enumerate(found.lines().values()) for one in own
    ]  # fmt: skip
    what = " ".join(filter(None, [found.what, f"({found.unit})" if found.unit else ""]))
    table(("", "line", what, "score", "95 % interval", "arm"), rows, numbers=(2, 3))
    say()
    for line in drawn(list(found.lines().values())):
        say(line)
    of = workflow.ASIDE.get(found.what)
    say(f"{' ' * 9}{what}{f', {of}' if of else ''}; bars are 95 % intervals", style="dim")
    if found.without:
        say(f"Without {found.what}: {', '.join(found.without)}.")


def _mark(number: int) -> str:
    return _MARKS[number % len(_MARKS)]


def amount_text(value: float) -> str:
    """An amount with three figures at the least."""
    return f"{value:.0f}" if value >= 100 else f"{value:.3g}"


def drawn(lines: Sequence[Sequence[ArmAgainst]]) -> list[str]:
    """The figure in characters: a letter for each line, with its interval as a bar; `*` where letters meet."""
    points = [(number, one) for number, line in enumerate(lines) for one in line]
    low, high = _reach([one for _, one in points])
    at = _columns([one.amount for _, one in points])
    grid = [[" "] * _WIDTH for _ in range(_HEIGHT)]

    def row(value: float) -> int:
        return round((high - value) / (high - low) * (_HEIGHT - 1))

    for (_, one), column in zip(points, at, strict=True):
        for spot in range(row(one.score.high), row(one.score.low) + 1):
            if grid[spot][column] == " ":
                grid[spot][column] = "│"
    for (number, one), column in zip(points, at, strict=True):
        spot = row(one.score.value)
        grid[spot][column] = _mark(number) if grid[spot][column] in " │" else "*"
    coefficient = points[0][1].score.coefficient
    marks = {0: high, (_HEIGHT - 1) // 2: (high + low) / 2, _HEIGHT - 1: low}
    found = []
    for spot, cells in enumerate(grid):
        label = score_text(marks[spot], coefficient) if spot in marks else ""
        found.append(f"{label:>8} ┤{''.join(cells)}".rstrip())
    found.append(f"{' ' * 8} └{'─' * _WIDTH}")
    found.append(_scale([one.amount for _, one in points], at))
    return found


def _reach(points: Sequence[ArmAgainst]) -> tuple[float, float]:
    """The scores at the foot and at the top, so that all intervals are within."""
    low, high = min(one.score.low for one in points), max(one.score.high for one in points)
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def _columns(amounts: Sequence[float]) -> list[int]:
    low, high = min(amounts), max(amounts)
    if low == high:
        return [_WIDTH // 2] * len(amounts)
    if low > 0 and high / low > _FAR_APART:
        amounts, low, high = [math.log(one) for one in amounts], math.log(low), math.log(high)
    found: list[int] = []
    for one in amounts:
        column = 2 + round((one - low) / (high - low) * (_WIDTH - 12))
        while column in found and column < _WIDTH - 1:
            column += 1  # beside another of the same amount
        found.append(column)
    return found


def _scale(amounts: Sequence[float], at: Sequence[int]) -> str:
    """The amounts below the columns they are drawn in, as far as there is room."""
    line = [" "] * (_WIDTH + 10)
    free = 0
    for column, amount in sorted(zip(at, amounts, strict=True)):
        text = amount_text(amount)
        begin = max(0, column - len(text) // 2)
        if begin >= free:
            line[begin : begin + len(text)] = text
            free = begin + len(text) + 1
    return f"{' ' * 10}{''.join(line)}".rstrip()
