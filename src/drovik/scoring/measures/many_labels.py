"""The measure `label` where `many = true`: as many words out of a list as fit."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, ClassVar

from typing_extensions import override

from drovik.errors import Problem, known_words
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import (
    ANOTHER_LABEL,
    LABEL_LEFT_OUT,
    LABEL_TOO_MANY,
    NO_LABEL,
    OUTSIDE_THE_LIST,
)
from drovik.scoring.causes.label_causes import label_cause
from drovik.scoring.json_pointer import shown, value_at_pointer
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, Table, share
from drovik.scoring.measures.label_words import LabelTable, folded_label, index_of, number_of

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

_WHATS = {"accuracy": "exact matches", "macro_f1": "macro F1", "micro_f1": "micro F1"}


class ManyLabels(Measure):
    """How well a set of labels is met: F1 over labels, and the share of sets that match exactly.

    An expected empty list is an expected output. The worst: none of the labels, and, where none is expected, a set
    that is not right. The statistics: for each label hits, too many and left out; sets right, common over all
    (Jaccard), words outside the list, and cases.
    """

    kind: ClassVar[str] = "label"
    table_type: ClassVar[type[Frozen]] = LabelTable
    shares: ClassVar[frozenset[str]] = frozenset(("exact matches",))

    def __init__(self, name: str, labels: Sequence[str], table: LabelTable) -> None:
        super().__init__(name, _WHATS[table.score], table.score == "accuracy")
        self.labels = tuple(labels)
        self._table = table
        self._index = index_of(labels, table)

    @classmethod
    def make(cls, name: str, table: LabelTable, task: Task, place: str, problems: list[Problem]) -> Measure | None:
        """`Label.make` makes it."""
        raise NotImplementedError

    @override
    def expected_of(self, expected: Any) -> Any:
        return value_at_pointer(expected, self._table.at)

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        if not isinstance(expected, list):
            return f"{shown(expected)} is not a list of labels", "write it like [] or [" + f'"{self.labels[0]}"]'
        for one in expected:
            if number_of(one, self._index, self._table) is None:
                return f"{one!r} is not a label of the task", known_words(str(one), self.labels)
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """One word alone is a list of one."""
        got = value_at_pointer(answer, self._table.at)
        words = [got] if isinstance(got, str) and got.strip() else got if isinstance(got, list) else []
        numbers = [number_of(one, self._index, self._table) for one in words]
        wanted = {number_of(one, self._index, self._table) for one in expected}
        outside = [one for one, number in zip(words, numbers, strict=True) if number is None]
        given = {number for number in numbers if number is not None}
        findings = []
        left = sorted(number for number in wanted - given if number is not None)
        for word in outside:
            cause, label = self._meant(word, left)
            effect: tuple[tuple[int, float], ...] = ((-2, -1.0),)
            if label is not None:
                left.remove(label)
                effect += ((3 * label, 1.0), (3 * label + 2, -1.0))
            expected_word = "nothing" if label is None else self.labels[label]
            findings.append(Finding(self._table.at, expected_word, str(word), cause, effect))
        for label in left:
            effect = ((3 * label, 1.0), (3 * label + 2, -1.0))
            findings.append(Finding(self._table.at, self.labels[label], "nothing", LABEL_LEFT_OUT, effect))
        for label in sorted(given - wanted):
            effect = ((3 * label + 1, -1.0),)
            findings.append(Finding(self._table.at, "nothing", self.labels[label], LABEL_TOO_MANY, effect))
        return self._scored(wanted, given, len(outside), tuple(findings))

    def _meant(self, word: Any, left: list[int]) -> tuple[str, int | None]:
        """Why a word is not a label, and which of those that are left out it stands for, if any."""

        def fold(text: str) -> str:
            return folded_label(text, self._table.fold_case)

        for label in left:
            cause = label_cause(self.labels[label], word, self.labels, fold, self._table.same_as)
            if cause not in (OUTSIDE_THE_LIST, ANOTHER_LABEL, NO_LABEL):
                return cause, label
        return OUTSIDE_THE_LIST, None

    def _scored(self, wanted: set[Any], given: set[Any], outside: int, findings: tuple[Finding, ...]) -> CaseScore:
        row = [0.0] * (3 * len(self.labels))
        for label in wanted | given:
            row[3 * label + (0 if label in wanted and label in given else 1 if label in given else 2)] = 1.0
        right = wanted == given and not outside
        both, every = len(wanted & given), len(wanted | given) + outside
        jaccard = both / every if every else 1.0
        below = len(wanted) + len(given) + outside
        value = float(right) if self.binary or not below else 2 * both / below
        return CaseScore((*row, float(right), jaccard, outside, 1.0), value, findings)

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        wanted = {number_of(one, self._index, self._table) for one in expected}
        score = self._scored(wanted, set(), 0, (Finding(self._table.at, shown(expected), "nothing", why),))
        return CaseScore((*score.statistics[:-4], 0.0, 0.0, 0.0, 1.0), 0.0, score.findings)

    @override
    def best(self, expected: Any) -> CaseScore:
        wanted = {number_of(one, self._index, self._table) for one in expected}
        return self._scored(wanted, wanted, 0, ())

    def score_of(self, totals: Floats) -> Floats:
        """The figure that `score` names."""
        return self.figures(totals)[self.what]

    def _counts(self, totals: Floats) -> Floats:
        return totals[..., :-4].reshape(*totals.shape[:-1], len(self.labels), 3)

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """Words outside the list are labels too many in micro precision."""
        counts = self._counts(totals)
        hits, extra, left = (counts[..., n] for n in range(3))
        f1 = share(2 * hits, 2 * hits + extra + left, 0.0)
        present = (hits + extra + left) > 0
        right, answered = hits.sum(axis=-1), (hits + extra).sum(axis=-1) + totals[..., -2]
        expected = (hits + left).sum(axis=-1)
        return {
            "exact matches": share(totals[..., -4], totals[..., -1], 0.0),
            "overlap of sets": share(totals[..., -3], totals[..., -1], 0.0),
            "precision": share(right, answered),
            "recall": share(right, expected),
            "micro F1": share(2 * right, answered + expected),
            "macro F1": share((f1 * present).sum(axis=-1), present.sum(axis=-1)),
        }

    @override
    def tables(self, totals: Floats) -> tuple[Table, ...]:
        counts = self._counts(totals)
        rows = tuple((label, tuple(float(one) for one in counts[n])) for n, label in enumerate(self.labels))
        return (Table("each label", ("right", "too many", "left out"), rows),)
