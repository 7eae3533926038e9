"""Errors of every kind, planted in correct answers by tools/plant_errors.py, beside the causes that are found for them.

python benchmarks/causes.py [--json]
"""

from __future__ import annotations

import json
import sys
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik.cli.printing import say, table

if TYPE_CHECKING:
    from drovik.parsing.answer_text import Answer

NO_CAUSE = frozenset(("another value", "other words"))
"""What a difference of an unknown kind is called."""


@dataclass(frozen=True)
class Planted:
    """A planted answer: the cause that was planted, None for a difference of an unknown kind, "" for none at all, and
    the causes that were found.
    """

    name: str
    case: str
    cause: str | None
    found: tuple[str, ...]

    @property
    def is_right(self) -> bool:
        """Whether what was planted was found, and nothing else."""
        if self.cause is None:
            return bool(self.found) and set(self.found) <= NO_CAUSE
        return set(self.found) == ({self.cause} if self.cause else set())


def planted() -> list[Planted]:
    """Every planted answer, read and scored as any other."""
    path = Path(__file__).with_name("planted.jsonl")
    rows = [json.loads(line) for line in path.read_text("utf-8").splitlines()]
    return [one for row in rows if "form" in row for one in _of_set(row, rows)]


def _of_set(head: dict[str, Any], rows: list[dict[str, Any]]) -> Iterator[Planted]:
    from drovik.parsing.answer_text import Reader
    from drovik.project.cases import Case
    from drovik.project.tasks import MeasureTable, Task
    from drovik.scoring.arm_scores import score_arm
    from drovik.scoring.catalogue import measures_of, measures_with_expectations

    name = head["set"]
    tables = tuple(MeasureTable(one, table_.pop("type"), table_) for one, table_ in head["measures"].items())
    task = Task(name, "", head["form"], head["schema"], tables[0].name, tables, ())
    own = [row for row in rows if row["set"] == name and "reply" in row]
    cases = [Case(row["id"], (), {}, {name: row["expected"]}, None, "tune", frozenset(), "") for row in own]
    reader = Reader(task.form, task.schema)
    answers = {row["id"]: (_answer(reader, row),) for row in own}
    measures = measures_with_expectations(measures_of(task, []), task, cases)
    scores = score_arm(task, "planted", measures, cases, answers).measures
    found = {
        one.case.id: tuple(finding.cause for finding in one.score.findings)
        for score in scores
        for one in score.cases
        if one.score
    }
    yield from (Planted(name, row["id"], row["cause"], found[row["id"]]) for row in own)


def _answer(reader: Any, row: dict[str, Any]) -> Answer:
    from drovik.parsing.answer_text import Answer

    reading = reader.read(row["reply"], row["ended"] == "cut_off", row["ended"] == "refused")
    return Answer(reading.status, reading.how, row["reply"], reading.value, reading.errors)


def document(every: list[Planted]) -> dict[str, Any]:
    """The table as plain values."""
    return {
        "planted": len(every),
        "right": sum(one.is_right for one in every),
        "causes": [
            {"planted": cause, "answers": count, "right": right, "taken_for": dict(others)}
            for cause, count, right, others in _by_cause(every)
        ],
    }


def _by_cause(every: list[Planted]) -> Iterator[tuple[str, int, int, Counter[str]]]:
    names = {None: "(of an unknown kind)", "": "(nothing is wrong)"}
    for cause in dict.fromkeys(one.cause for one in every):
        own = [one for one in every if one.cause == cause]
        others = Counter(", ".join(dict.fromkeys(one.found)) or "nothing" for one in own if not one.is_right)
        yield names.get(cause, str(cause)), len(own), sum(one.is_right for one in own), others


def show(every: list[Planted]) -> None:
    """The table of what was planted and what was found."""
    rows = [
        [cause, str(count), str(right), "; ".join(f"{name} ({n})" for name, n in others.most_common(3))]
        for cause, count, right, others in sorted(_by_cause(every))
    ]
    table(("planted", "answers", "found right", "taken for"), rows, numbers=(1, 2))
    right = sum(one.is_right for one in every)
    say(f"{right} of {len(every)} planted answers have the cause that was planted: {right / len(every):.1%}.")
    unknown = [one for one in every if one.cause is None]
    wrong = sum(not one.is_right for one in unknown)
    say(f"Of {len(unknown)} differences of an unknown kind, {wrong} are given a cause.")


if __name__ == "__main__":
    answers = planted()
    if "--json" in sys.argv:
        print(json.dumps(document(answers), indent=2))
    else:
        show(answers)
