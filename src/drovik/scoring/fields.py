"""The measure `fields`: values at places of a JSON answer, each by its own rule."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from pydantic import Field

from drovik.problems import Problem, known_words
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen, validated
from drovik.reading.schema_errors import pointer
from drovik.scoring.causes import field_cause
from drovik.scoring.measure import ABSENT, CaseScore, Finding, Measure, Table, at, proper_pointer
from drovik.scoring.rules import RULES, Rule

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

OUTCOMES = ("correct", "wrong", "missing", "invented")


class FieldsTable(Frozen):
    """What stands in question.toml for a fields measure; each field's table is read by its rule."""

    fields: dict[str, dict[str, Any]] = Field(min_length=1)
    score: Literal["f1", "record"] = "f1"


class Fields(Measure):
    """F1 over fields, or the share of whole records that are right.

    A field is correct, wrong, missing (expected and not there), invented (there and not expected), or
    rightly absent, which counts for the record alone. A null is as absent. The worst: all missing.
    """

    kind: ClassVar[str] = "fields"
    table_type: ClassVar[type[Frozen]] = FieldsTable
    shares: ClassVar[frozenset[str]] = frozenset(("whole records right",))

    def __init__(self, name: str, fields: Mapping[str, tuple[str, Rule]], score: str) -> None:
        super().__init__(name, "F1 over fields" if score == "f1" else "whole records right", score == "record")
        self.fields = dict(fields)
        self._score = score

    @classmethod
    def make(cls, name: str, table: FieldsTable, task: Task, place: str, problems: list[Problem]) -> Fields | None:
        """See `Measure.make`."""
        fields: dict[str, tuple[str, Rule]] = {}
        before = len(problems)
        for field_name, row in table.fields.items():
            here = f"{place}.fields.{field_name}"
            kind = row.get("rule", "exact")
            if kind not in RULES:
                problems.append(
                    Problem(f"there is no rule '{kind}'", known_words(str(kind), RULES), task.file, f"{here}.rule")
                )
                continue
            rest = {key: value for key, value in row.items() if key != "rule"}
            rule = validated(RULES[kind], rest, task.file, problems, here)
            if rule is None:
                continue
            where = rule.at if rule.at is not None else pointer([field_name])
            try:
                fields[field_name] = (proper_pointer(where), rule)
            except ValueError as error:
                problems.append(Problem(str(error), "", task.file, f"{here}.at"))
        return cls(name, fields, table.score) if len(problems) == before else None

    def expected_of(self, expected: Any) -> Any:
        """See `Measure.expected_of`."""
        return expected

    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """See `Measure.check_expected`."""
        for name, (where, rule) in self.fields.items():
            value = at(expected, where)
            if not _is_absent(value) and (wrong := rule.check_expected(value)):
                return f"{_shown(value)} at {where} {wrong}", f"mend it, or the rule of '{name}'"
        return None

    def per_case(self, answer: Any, expected: Any) -> CaseScore:
        """See `Measure.per_case`. The statistics: four counts a field, then whole records right, and cases."""
        outcomes: list[str] = []
        findings = []
        for where, rule in self.fields.values():
            wanted, got = at(expected, where), at(answer, where)
            outcome = _outcome(rule, wanted, got)
            outcomes.append(outcome)
            if outcome in ("wrong", "missing", "invented"):
                cause = field_cause(wanted, got) if outcome == "wrong" else outcome
                findings.append(Finding(where, _shown(wanted), _shown(got), cause))
        return self._scored(outcomes, tuple(findings))

    def worst(self, expected: Any, why: str) -> CaseScore:
        """See `Measure.worst`."""
        absent = [_is_absent(at(expected, where)) for where, _ in self.fields.values()]
        outcomes = ["rightly absent" if one else "missing" for one in absent]
        score = self._scored(outcomes, (Finding("", _shown(expected), "nothing", why),))
        return CaseScore((*score.statistics[:-2], 0.0, 1.0), 0.0, score.findings)

    def best(self, expected: Any) -> CaseScore:
        """See `Measure.best`."""
        return self.per_case(expected, expected)

    def _scored(self, outcomes: list[str], findings: tuple[Finding, ...]) -> CaseScore:
        counts = [float(one == outcome) for one in outcomes for outcome in OUTCOMES]
        right = all(one in ("correct", "rightly absent") for one in outcomes)
        good = sum(one in ("correct", "rightly absent") for one in outcomes) / len(outcomes)
        return CaseScore((*counts, float(right), 1.0), float(right) if self._score == "record" else good, findings)

    def score_of(self, totals: Floats) -> Floats:
        """F1 = 2 correct / (2 correct + 2 wrong + missing + invented), or records right over records.

        A wrong value is both a value that should not be there and one that is not there, so it counts
        against precision and against recall. Where nothing was expected and nothing came, F1 is 1.
        """
        return self.figures(totals)["whole records right" if self._score == "record" else "F1"]

    def _counts(self, totals: Floats) -> Floats:
        return totals[..., :-2].reshape(*totals.shape[:-1], len(self.fields), len(OUTCOMES))

    def figures(self, totals: Floats) -> dict[str, Floats]:
        """See `Measure.figures`. A precision or recall of nothing is 1."""
        import numpy as np

        counts = self._counts(totals).sum(axis=-2)
        correct, wrong, missing, invented = (counts[..., n] for n in range(4))
        answered, expected = correct + wrong + invented, correct + wrong + missing
        return {
            "precision": np.where(answered > 0, correct / np.where(answered > 0, answered, 1), 1.0),
            "recall": np.where(expected > 0, correct / np.where(expected > 0, expected, 1), 1.0),
            "F1": f1_of(counts),
            "whole records right": totals[..., -2] / np.maximum(totals[..., -1], 1e-300),
        }

    def tables(self, totals: Floats) -> tuple[Table, ...]:
        """See `Measure.tables`."""
        counts = self._counts(totals)
        rows = tuple((name, tuple(float(one) for one in counts[n])) for n, name in enumerate(self.fields))
        return (Table("each field", OUTCOMES, rows),)


def f1_of(counts: Floats) -> Floats:
    """F1 from the counts correct, wrong, missing, invented: shape (..., 4)."""
    import numpy as np

    correct, wrong, missing, invented = (counts[..., n] for n in range(4))
    below = 2 * correct + 2 * wrong + missing + invented
    result: Floats = np.where(below > 0, 2 * correct / np.where(below > 0, below, 1), 1.0)
    return result


def _outcome(rule: Rule, wanted: Any, got: Any) -> str:
    if _is_absent(wanted):
        return "rightly absent" if _is_absent(got) else "invented"
    if _is_absent(got):
        return "missing"
    return "correct" if rule.same(wanted, got) else "wrong"


def _is_absent(value: Any) -> bool:
    return value is ABSENT or value is None


def _shown(value: Any) -> str:
    return "nothing" if _is_absent(value) else json.dumps(value, ensure_ascii=False)
