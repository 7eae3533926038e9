"""The measure `fields`: values at places of a JSON answer, each by its own rule."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from pydantic import Field, field_validator
from typing_extensions import override

from drovik.errors import Problem
from drovik.heavy import np
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.value_causes import value_causes
from drovik.scoring.json_pointer import is_absent, shown, value_at_pointer
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, Table, share
from drovik.scoring.patterns import named_parts, proper_pattern
from drovik.scoring.rules.nested import FieldNode, Leaf, compare
from drovik.scoring.rules.rule import OUTCOMES, AbsentValue, AnyValue
from drovik.scoring.rules.rule_table import read_nodes

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

_PLACE = {name: number for number, name in enumerate(OUTCOMES)}
_SIZE = len(OUTCOMES)


class FieldsTable(Frozen):
    """The table of a fields measure in question.toml; each field's table is read by its rule.

    `pattern` says where the values are in an answer that is text: its named groups are the members. Where it comes
    several times, the last counts.
    """

    fields: dict[str, dict[str, Any]] = Field(min_length=1)
    pattern: str | None = None
    score: Literal["f1", "record"] = "f1"

    @field_validator("pattern")
    @classmethod
    def _is_proper(cls, text: str | None) -> str | None:
        return text if text is None else proper_pattern(text)


class Fields(Measure):
    """F1 over fields, or the share of whole records that are right.

    A field is correct, near (where its rule knows such a thing; it counts as right), wrong, missing (expected and not
    there), invented (there and not expected), or rightly absent, which counts for the record alone. A null is as
    absent. Lists and records count leaf by leaf. The worst: all missing.
    """

    kind: ClassVar[str] = "fields"
    table_type: ClassVar[type[Frozen]] = FieldsTable
    shares: ClassVar[frozenset[str]] = frozenset(("whole records right",))

    def __init__(self, name: str, nodes: Sequence[FieldNode], score: str, pattern: str | None = None) -> None:
        super().__init__(name, "F1 over fields" if score == "f1" else "whole records right", score == "record")
        self.nodes = tuple(nodes)
        self._score, self._pattern = score, pattern
        self._keys = [node.place[1:] for node in self.nodes if node.place.count("/") == 1 and "~" not in node.place]
        self._all_keys = len(self._keys) == len(self.nodes)
        self._right = CaseScore((*(1.0, 0.0, 0.0, 0.0, 0.0) * len(self.nodes), 1.0, 1.0), 1.0)
        self._plain = [not node.below and not isinstance(node.rule, AbsentValue | AnyValue) for node in self.nodes]

    @override
    @classmethod
    def make(cls, name: str, table: FieldsTable, task: Task, place: str, problems: list[Problem]) -> Fields | None:
        before = len(problems)
        nodes = read_nodes(table.fields, task.file, f"{place}.fields", problems)
        if table.pattern is not None and not re.search(r"\(\?P?<\w+>", table.pattern):
            what, remedy = "the pattern names no part", "name what counts: (?P<result>.+)"
            problems.append(Problem(what, remedy, task.file, f"{place}.pattern"))
        return cls(name, nodes, table.score, table.pattern) if len(problems) == before else None

    @override
    def expected_of(self, expected: Any) -> Any:
        """A text stands for the only field, where a pattern says where that is in the answer."""
        if self._pattern is not None and isinstance(expected, str) and len(self._keys) == 1:
            return {self._keys[0]: expected}
        return expected

    def _members(self, answer: Any) -> Any:
        """The answer with its values as members, where a pattern says where they are in a text."""
        if self._pattern is None or not isinstance(answer, str):
            return answer
        return named_parts(self._pattern, answer) or {}

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        for node in self.nodes:
            for what, place, name in node.check_expected(value_at_pointer(expected, node.place)):
                return (
                    f"{shown(value_at_pointer(expected, place))} at {place} {what}",
                    f"fix it, or the rule of '{name}'",
                )
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics: five counts a field, then whole records right, and cases."""
        answer = self._members(answer)
        if self._are_same(answer, expected):
            return self._right
        counts = [0.0] * (_SIZE * len(self.nodes) + 2)
        counts[-1] = 1.0
        good = every = 0
        missed: list[tuple[int, Leaf]] = []
        for number, node in enumerate(self.nodes):
            wanted, got = value_at_pointer(expected, node.place), value_at_pointer(answer, node.place)
            if self._plain[number] and wanted == got and type(wanted) is type(got) and not is_absent(wanted):
                counts[_SIZE * number] += 1.0
                good += 1
                every += 1
                continue
            for leaf in compare(node, wanted, got, node.place):
                every += 1
                if leaf.outcome == "rightly absent":
                    good += 1
                    continue
                counts[_SIZE * number + _PLACE[leaf.outcome]] += 1.0
                if leaf.outcome in ("correct", "near"):
                    good += 1
                else:
                    missed.append((number, leaf))
        counts[-2] = float(not missed)
        findings = self._findings(missed, expected) if missed else ()
        value = float(not missed) if self._score == "record" else good / max(every, 1)
        return CaseScore(tuple(counts), value, findings)

    def _are_same(self, answer: Any, expected: Any) -> bool:
        """Whether every field is plain and there, and the answer has the very value: as it is with most answers."""
        if not self._all_keys or not all(self._plain) or type(answer) is not dict or type(expected) is not dict:
            return False
        for key in self._keys:
            wanted = expected.get(key)
            got = answer.get(key)
            if wanted is None or wanted != got or type(wanted) is not type(got):
                return False
        return True

    def _findings(self, missed: list[tuple[int, Leaf]], expected: Any) -> tuple[Finding, ...]:
        causes = value_causes([leaf for _, leaf in missed], lambda: self._expected_values(expected))
        found = []
        for (number, leaf), cause in zip(missed, causes, strict=True):
            effect: tuple[tuple[int, float], ...] = ((_SIZE * number + _PLACE[leaf.outcome], -1.0),)
            if leaf.outcome != "invented":
                effect = ((_SIZE * number, 1.0), *effect)
            found.append(Finding(leaf.where, shown(leaf.wanted), shown(leaf.got), cause, effect))
        return tuple(found)

    def _expected_values(self, expected: Any) -> dict[str, Any]:
        """Every single value that is expected, by its place."""
        found = {}
        for node in self.nodes:
            wanted = value_at_pointer(expected, node.place)
            if not node.below:
                if not is_absent(wanted):
                    found[node.place] = wanted
                continue
            for leaf in compare(node, wanted, wanted, node.place):
                if not is_absent(leaf.wanted):
                    found[leaf.where] = leaf.wanted
        return found

    @override
    def traits(self, expected: Any) -> frozenset[str]:
        """The values that are more than a digit."""
        values = self._expected_values(expected)
        return frozenset([f"{place} {value}" for place, value in values.items() if len(str(value)) > 1])

    @override
    def traits_of(self, answer: Any) -> frozenset[str]:
        return self.traits(self._members(answer))

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        best = self.best(expected).statistics
        counts = [0.0] * len(best)
        for number in range(len(self.nodes)):
            counts[_SIZE * number + _PLACE["missing"]] = best[_SIZE * number]
        counts[-1] = 1.0
        return CaseScore(tuple(counts), 0.0, (Finding("", shown(expected), "nothing", why),))

    @override
    def best(self, expected: Any) -> CaseScore:
        """Every leaf that is expected, and nothing else."""
        counts = [0.0] * (_SIZE * len(self.nodes))
        for number, node in enumerate(self.nodes):
            wanted = value_at_pointer(expected, node.place)
            if isinstance(node.rule, AbsentValue) or is_absent(wanted):
                continue
            if not node.below:
                counts[_SIZE * number] = 1.0
                continue
            leaves = compare(node, wanted, wanted, node.place)
            counts[_SIZE * number] = float(sum(leaf.outcome != "rightly absent" for leaf in leaves))
        return CaseScore((*counts, 1.0, 1.0), 1.0)

    def score_of(self, totals: Floats) -> Floats:
        """F1 = 2 right / (2 right + 2 wrong + missing + invented), or records right over records.

        A wrong value is both a value that should not be there and one that is not there, so it counts
        against precision and against recall. Where nothing was expected and nothing came, F1 is 1. Each field
        counts by its `weight`.
        """
        return self.figures(totals)["whole records right" if self._score == "record" else "F1"]

    def _counts(self, totals: Floats) -> Floats:
        return totals[..., :-2].reshape(*totals.shape[:-1], len(self.nodes), _SIZE)

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """A precision or recall of nothing is 1."""

        weights = np.array([node.rule.weight for node in self.nodes])
        counts = (self._counts(totals) * weights[:, None]).sum(axis=-2)
        correct, near, wrong, missing, invented = (counts[..., n] for n in range(_SIZE))
        right = correct + near
        return {
            "precision": share(right, right + wrong + invented),
            "recall": share(right, right + wrong + missing),
            "F1": share(2 * right, 2 * right + 2 * wrong + missing + invented),
            "whole records right": share(totals[..., -2], totals[..., -1], 0.0),
        }

    @override
    def tables(self, totals: Floats) -> tuple[Table, ...]:
        counts = self._counts(totals)
        rows = tuple((node.name, tuple(float(one) for one in counts[n])) for n, node in enumerate(self.nodes))
        right, wrong = counts[:, 0] + counts[:, 1], counts[:, 2]
        precision = share(right, right + wrong + counts[:, 4])
        recall = share(right, right + wrong + counts[:, 3])
        f1 = share(2 * right, 2 * right + 2 * wrong + counts[:, 3] + counts[:, 4])
        each = tuple(
            (node.name, (float(precision[n]), float(recall[n]), float(f1[n]))) for n, node in enumerate(self.nodes)
        )
        return (
            Table("each field", OUTCOMES, rows),
            Table("each field, as shares", ("precision", "recall", "F1"), each, shares=True),
        )
