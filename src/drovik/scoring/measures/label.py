"""The measure `label`: one word out of a list."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar

from typing_extensions import override

from drovik.errors import Problem, known_words
from drovik.heavy import np
from drovik.project.tasks import Task, labels_of
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import NO_LABEL, OUTSIDE_THE_LIST, SEVERAL_LABELS
from drovik.scoring.causes.label_causes import label_cause
from drovik.scoring.json_pointer import ABSENT, value_at_pointer
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, Table
from drovik.scoring.measures import confidence as calibration
from drovik.scoring.measures import confusion
from drovik.scoring.measures.label_words import (
    LabelTable,
    folded_label,
    index_of,
    labels_in,
    number_of,
    pick_label,
    problems_of_labels,
)
from drovik.scoring.measures.many_labels import ManyLabels

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

NONE = "none"
"""The column for answers that give no label of the list."""
SCORES = {
    "accuracy": "accuracy",
    "balanced_accuracy": "balanced accuracy",
    "macro_f1": "macro F1",
    "micro_f1": "micro F1",
    "weighted_f1": "weighted F1",
    "matthews": "Matthews correlation",
    "kappa": "Cohen's kappa",
    "closeness": "closeness in order",
    "path_f1": "F1 of paths",
}
_NOT_HASHED = (list, dict)
_NOT_KEPT = (list, dict, float)


class Label(Measure):
    """Accuracy and its kin from a confusion matrix.

    The worst is a miss, in the column "none".
    """

    kind: ClassVar[str] = "label"
    table_type: ClassVar[type[Frozen]] = LabelTable
    shares: ClassVar[frozenset[str]] = frozenset(("accuracy",))
    coefficients: ClassVar[frozenset[str]] = frozenset(
        (
            "Matthews correlation", "Cohen's kappa", "kappa, linear weights", "kappa, quadratic weights",
            "expected calibration error", "Brier score",
        )
    )  # fmt: skip
    bounds: ClassVar[Mapping[str, tuple[float, float]]] = dict.fromkeys(
        ("Matthews correlation", "Cohen's kappa", "kappa, linear weights", "kappa, quadratic weights"), (-1.0, 1.0)
    ) | {"expected calibration error": (-1.0, 1.0)}
    floored: ClassVar[frozenset[str]] = frozenset(("expected calibration error",))

    def __init__(self, name: str, labels: Sequence[str], table: LabelTable) -> None:
        what = f"right among the first {table.top}" if table.top else SCORES[table.score]
        super().__init__(name, what, table.score == "accuracy")
        self.labels = tuple(labels)
        self._table = table
        self._index = index_of(labels, table)
        self.place = table.at
        self._seen: dict[tuple[Any, ...], CaseScore] = {}
        self._paths = confusion.path_counts(self.labels, table.parts) if table.parts else None

    @override
    @classmethod
    def make(cls, name: str, table: LabelTable, task: Task, place: str, problems: list[Problem]) -> Measure | None:

        labels = labels_of({"labels": table.labels, "at": table.at}, task.schema)
        before = len(problems)
        problems += problems_of_labels(labels, table, task, place)
        if len(problems) > before:
            return None
        return ManyLabels(name, labels, table) if table.many else Label(name, labels, table)

    @override
    def expected_of(self, expected: Any) -> Any:
        found = value_at_pointer(expected, self._table.at)
        return self._table.none if found is None and self._table.none is not None else found

    @override
    def confidence_in(self, answer: Any) -> float | None:
        at = self._table.confidence
        return None if at is None else calibration.confidence_of(value_at_pointer(answer, at))

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        if number_of(expected, self._index, self._table) is not None:
            return None
        return f"{expected!r} is not a label of the task", known_words(str(expected), self.labels)

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics: row and column of the confusion matrix, and confidence."""
        got = value_at_pointer(answer, self._table.at)
        sure = value_at_pointer(answer, self._table.confidence) if self._table.confidence is not None else None
        if isinstance(got, _NOT_KEPT) or isinstance(sure, _NOT_HASHED):
            return self._compared(got, expected, sure)
        key = (got, type(got), expected, type(expected), sure, type(sure))
        if key not in self._seen:  # there are few different answers, and there may be many cases
            if len(self._seen) > 50_000:
                self._seen.clear()
            self._seen[key] = self._compared(got, expected, sure)
        return self._seen[key]

    def _compared(self, got: Any, expected: Any, sure: Any) -> CaseScore:
        row = self._row(expected)
        column = self._column(got, row)
        confidence = calibration.confidence_of(sure)
        statistics = (row, column) if confidence is None else (row, column, confidence)
        if row == column:
            return CaseScore(statistics, 1.0)
        shown = "nothing" if got is ABSENT or got is None else got if isinstance(got, str) else repr(got)
        finding = Finding(self._table.at, str(expected), shown, self._cause(row, column, got))
        return CaseScore(statistics, self._nearness(row, column), (finding,))

    def _row(self, expected: Any) -> int:
        number = number_of(expected, self._index, self._table)
        assert number is not None, "check_expected sees to that"
        return number

    def _column(self, got: Any, row: int) -> int:
        nothing = len(self.labels)
        if self._table.top and isinstance(got, list):
            first = [number_of(one, self._index, self._table) for one in got[: self._table.top]]
            return row if row in first else next((one for one in first if one is not None), nothing)
        if self._table.find and isinstance(got, str):
            found = pick_label(labels_in(got, self._index, self._fold), self._table.find)
            return nothing if found is None else found
        number = number_of(got, self._index, self._table)
        return nothing if number is None else number

    def _fold(self, text: str) -> str:
        return folded_label(text, self._table.fold_case)

    def _cause(self, row: int, column: int, got: Any) -> str:
        if self._table.find and isinstance(got, str):
            found = set(labels_in(got, self._index, self._fold))
            if len(found) > 1 and row in found:
                return SEVERAL_LABELS
            if column < len(self.labels):
                return label_cause(self.labels[row], self.labels[column], self.labels, self._fold)
            return NO_LABEL
        if isinstance(got, list):
            got = next((one for one in got if isinstance(one, str)), None)
        return label_cause(self.labels[row], got, self.labels, self._fold, self._table.same_as, self._table.parts)

    @override
    def cause_as_read(self, where: str, expected: Any, got: Any) -> str | None:
        """A label in another way of writing, or another word for it."""
        if where != self._table.at or not isinstance(got, str):
            return None
        cause = label_cause(self.labels[self._row(expected)], got, self.labels, str.strip, self._table.same_as)
        return None if cause == OUTSIDE_THE_LIST else cause

    def _nearness(self, row: int, column: int) -> float:
        """How good a wrong label is: more than nothing only where the score says that near is better than far."""
        if column == len(self.labels) or self._table.score not in ("closeness", "path_f1"):
            return 0.0
        if self._paths is not None:
            common, expected, answered = self._paths
            return float(2 * common[row, column] / (expected[row] + answered[column]))
        farthest = max(row, len(self.labels) - 1 - row, 1)
        return 1.0 - abs(row - column) / farthest

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        row = self._row(expected)
        found = Finding(self._table.at, str(expected), "nothing", why)
        return CaseScore((row, len(self.labels)), 0.0, (found,))

    @override
    def best(self, expected: Any) -> CaseScore:
        row = self._row(expected)
        return CaseScore((row, row), 1.0)

    def leaf_rows(self, scores: Sequence[CaseScore]) -> Floats:
        """Each answer as a confusion matrix of one, flattened, and what it says of its own certainty.

        :return: shape (n, labels * (labels + 1)), and `calibration.SIZE` more if there is a confidence.
        """

        size = len(self.labels)
        cells = size * (size + 1)
        table = np.zeros((len(scores), cells + (calibration.SIZE if self._table.confidence is not None else 0)))
        places = [int(one.statistics[0]) * (size + 1) + int(one.statistics[1]) for one in scores]
        table[np.arange(len(scores)), places] = 1.0
        for number, one in enumerate(scores) if self._table.confidence is not None else ():
            if len(one.statistics) > 2:
                right = one.statistics[0] == one.statistics[1]
                calibration.put(table[number, cells:], one.statistics[2], right)
        return table

    def score_of(self, totals: Floats) -> Floats:
        """The figure that `score` names, by its definition in `confusion`."""
        return self._figures(self._table.score, self._matrix(totals))

    def _matrix(self, totals: Floats) -> Floats:
        size = len(self.labels)
        return totals[..., : size * (size + 1)].reshape(*totals.shape[:-1], size, size + 1)

    def _figures(self, name: str, matrix: Floats) -> Floats:
        if name == "path_f1":
            assert self._paths is not None
            return confusion.path_scores(matrix, self._paths)[2]
        return _FIGURES[name](matrix)

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        matrix = self._matrix(totals)
        found = {SCORES[name]: figure(matrix) for name, figure in _FIGURES.items() if name != "closeness"}
        if self._table.ordered:
            labels = len(self.labels)
            found |= {
                "kappa, linear weights": confusion.kappa(matrix, confusion.ordinal_weights(labels, 1)),
                "kappa, quadratic weights": confusion.kappa(matrix, confusion.ordinal_weights(labels, 2)),
                "closeness in order": confusion.ordinal_closeness(matrix),
            }
        if self._paths is not None:
            names = ("precision of paths", "recall of paths", "F1 of paths")
            found |= dict(zip(names, confusion.path_scores(matrix, self._paths), strict=True))
        if self._table.confidence is not None:
            rest = totals[..., matrix.shape[-1] * matrix.shape[-2] :]
            found["expected calibration error"] = calibration.calibration_error(rest)
            found["Brier score"] = calibration.brier(rest)
        return found

    @override
    def tables(self, totals: Floats) -> tuple[Table, ...]:
        matrix = self._matrix(totals)
        precision, recall, f1 = confusion.per_label(matrix)
        each = tuple(
            (label, (float(precision[n]), float(recall[n]), float(f1[n]))) for n, label in enumerate(self.labels)
        )
        counts = tuple((label, tuple(float(one) for one in matrix[n])) for n, label in enumerate(self.labels))
        found = [
            Table("expected (rows) against answered (columns)", (*self.labels, NONE), counts),
            Table("each label", ("precision", "recall", "F1"), each, shares=True),
        ]
        if self._table.ordered:
            steps = float(confusion.mean_ordinal_error(matrix))
            found.append(Table("steps off in the mean", ("steps",), (("all", (steps,)),)))
        if self._table.confidence is not None:
            found += self._confidence_tables(totals[matrix.size :])
        return tuple(found)

    def _confidence_tables(self, totals: Floats) -> list[Table]:
        if not totals[0]:
            return []
        wanted = self._table.precision
        found = calibration.threshold(totals, wanted)
        title = f"keep what is at least so sure, for {wanted:.0%} right among those"
        kept = (("threshold", found),) if found else ()
        return [calibration.curve(totals), Table(title, ("confidence", "kept", "right"), kept)]


_FIGURES = {
    "accuracy": confusion.accuracy,
    "balanced_accuracy": confusion.balanced_accuracy,
    "macro_f1": confusion.macro_f1,
    "micro_f1": confusion.micro_f1,
    "weighted_f1": confusion.weighted_f1,
    "matthews": confusion.matthews,
    "kappa": confusion.kappa,
    "closeness": confusion.ordinal_closeness,
}
