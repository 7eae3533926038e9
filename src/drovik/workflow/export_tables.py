"""What a project has come to, as tables of stable columns: `docs/columns.md` says what each holds."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from drovik.errors import Problem, UsageError, known_words
from drovik.evaluation.gathering import TaskView
from drovik.project.case_rows import CASE_COLUMNS, cells_of
from drovik.scoring.scores import ArmScores
from drovik.store.answer_store import Store
from drovik.store.sent import sent_attempts
from drovik.workflow.results import case_rows, finding_rows, measure_rows

ColumnType = Literal["text", "whole", "number", "yes"]
Columns = tuple[tuple[str, ColumnType], ...]
Row = tuple[Any, ...]


@dataclass(frozen=True)
class ExportTable:
    """A table: its name, its columns with what they hold, and its rows, made as they are asked for."""

    name: str
    columns: Columns
    rows: Callable[[], Iterator[Row]]


_ANSWERS: Columns = (
    ("task", "text"), ("arm", "text"), ("case", "text"), ("split", "text"), ("group", "text"), ("status", "text"),
    ("how", "text"), ("text", "text"), ("value", "text"), ("expected", "text"), ("model", "text"),
    ("input_tokens", "whole"), ("output_tokens", "whole"), ("money", "number"), ("currency", "text"),
    ("seconds", "number"), ("identity", "text"),
)  # fmt: skip
_SCORES: Columns = (
    ("task", "text"), ("arm", "text"), ("measure", "text"), ("case", "text"), ("status", "text"), ("score", "number"),
    ("findings", "whole"),
)  # fmt: skip
_MEASURES: Columns = (
    ("task", "text"), ("arm", "text"), ("measure", "text"), ("what", "text"), ("score", "number"), ("low", "number"),
    ("high", "number"), ("cases", "whole"), ("failed", "whole"),
)  # fmt: skip
_FINDINGS: Columns = (
    ("task", "text"), ("arm", "text"), ("measure", "text"), ("case", "text"), ("where", "text"), ("expected", "text"),
    ("got", "text"), ("cause", "text"), ("note", "text"),
)  # fmt: skip
_ATTEMPTS: Columns = (
    ("task", "text"), ("arm", "text"), ("case", "text"), ("repeat", "whole"), ("turn", "whole"),
    ("repair_turn", "yes"), ("round", "whole"), ("attempt", "whole"), ("endpoint", "text"), ("started", "text"),
    ("outcome", "text"), ("seconds", "number"), ("note", "text"), ("http_status", "whole"), ("model", "text"),
    ("input_tokens", "whole"), ("output_tokens", "whole"), ("money", "number"), ("currency", "text"),
    ("identity", "text"),
)  # fmt: skip
_MONEY: Columns = (
    ("task", "text"), ("arm", "text"), ("currency", "text"), ("money", "number"), ("answers", "whole"),
    ("input_tokens", "whole"), ("output_tokens", "whole"),
)  # fmt: skip
_CASES: Columns = tuple((name, "text") for name in CASE_COLUMNS)
_COLUMNS: Mapping[str, Columns] = {
    "answers": _ANSWERS, "scores": _SCORES, "measures": _MEASURES, "findings": _FINDINGS, "attempts": _ATTEMPTS,
    "money": _MONEY, "cases": _CASES,
}  # fmt: skip
EXPORTS = tuple(_COLUMNS)


def tables_to_export(store: Store, views: Sequence[TaskView], names: Sequence[str]) -> list[ExportTable]:
    """Tables of the chosen tasks and arms.

    :param names: of `EXPORTS`; empty: all.
    :raises UsageError: where there is no such table.
    """
    for name in names:
        if name not in EXPORTS:
            raise UsageError(Problem(f"there is no table '{name}'", known_words(name, EXPORTS)))
    makers: dict[str, Callable[[], Iterator[Row]]] = {
        "answers": lambda: _answers(views), "scores": lambda: _of_arms(views, "scores", case_rows),
        "measures": lambda: _of_arms(views, "measures", measure_rows),
        "findings": lambda: _of_arms(views, "findings", finding_rows), "attempts": lambda: _attempts(store, views),
        "money": lambda: _money(views), "cases": lambda: _cases(views),
    }  # fmt: skip
    return [ExportTable(name, _COLUMNS[name], makers[name]) for name in names or EXPORTS]


def _plain(value: Any) -> str | None:
    """A value as text: JSON, unless it is a text."""
    return value if value is None or isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def _answers(views: Sequence[TaskView]) -> Iterator[Row]:
    for view in views:
        for arm in view.arms:
            for case in view.cases:
                one = view.answers[arm.name].get(case.id)
                if one is None:
                    continue
                money = (float(one.spent.amount), one.spent.currency) if one.spent else (None, None)
                yield (
                    view.task.name, arm.name, case.id, case.split, case.group, str(one.status), one.how, one.text,
                    _plain(one.value), _plain(case.expected.get(view.task.name)), one.model, one.input_tokens,
                    one.output_tokens, *money, one.seconds, view.identities[arm.name].get(case.id),
                )  # fmt: skip


def _of_arms(
    views: Sequence[TaskView], table: str, rows: Callable[[ArmScores], Iterator[dict[str, Any]]]
) -> Iterator[Row]:
    """The rows that Python users get of each arm, in a table's columns."""
    names = [name for name, _ in _COLUMNS[table]]
    for arm in (arm for view in views for arm in view.scores):
        for row in rows(arm):
            yield tuple(row[name] for name in names)


def _attempts(store: Store, views: Sequence[TaskView]) -> Iterator[Row]:
    for view in views:
        arms, cases = {arm.name for arm in view.arms}, {case.id for case in view.cases}
        for one in sent_attempts(store.connection, view.task.name):
            if one.arm not in arms or one.case not in cases:
                continue
            money = (float(one.spent.amount), one.spent.currency) if one.spent else (None, None)
            yield (
                view.task.name, one.arm, one.case, one.repeat, one.turn, one.is_repair_turn, one.round, one.attempt,
                one.endpoint, one.started, one.outcome, one.seconds, one.note, one.http_status, one.model,
                one.input_tokens, one.output_tokens, *money, one.identity,
            )  # fmt: skip


def _cases(views: Sequence[TaskView]) -> Iterator[Row]:
    """Each case once; those of a task that judges are answers of another, and no cases of the project."""
    every = {case.id: case for view in views if view.task.judges is None for case in view.cases}
    yield from map(cells_of, every.values())


def _money(views: Sequence[TaskView]) -> Iterator[Row]:
    for arm in (arm for view in views for arm in view.scores):
        costs = arm.costs
        for currency, amount in costs.money.items() or [(None, None)]:
            money = None if amount is None else float(amount)
            yield (arm.task, arm.arm, currency, money, costs.answers, costs.input_tokens, costs.output_tokens)
