"""The measure `label`: one word out of a list."""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import AfterValidator

from drovik.problems import Problem, known_words
from drovik.project.tasks import Task, labels_of
from drovik.project.toml_files import Frozen
from drovik.scoring.causes import label_cause
from drovik.scoring.measure import ABSENT, CaseScore, Finding, Measure, Table, at, proper_pointer

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

NONE = "none"
"""The column for answers that give no label of the list."""


class LabelTable(Frozen):
    """What stands in question.toml for a label measure."""

    at: Annotated[str, AfterValidator(proper_pointer)] = ""
    labels: list[str] | None = None
    same_as: dict[str, str] = {}
    fold_case: bool = True
    score: Literal["accuracy", "macro_f1"] = "accuracy"


class Label(Measure):
    """Accuracy, and precision, recall and F1 of each label and in the mean, from a confusion matrix.

    The worst is a miss, in the column "none".
    """

    kind: ClassVar[str] = "label"
    table_type: ClassVar[type[Frozen]] = LabelTable
    shares: ClassVar[frozenset[str]] = frozenset(("accuracy",))

    def __init__(
        self,
        name: str,
        place: str,
        labels: Sequence[str],
        same_as: Mapping[str, str],
        fold_case: bool,
        score: str,
    ) -> None:
        super().__init__(name, "accuracy" if score == "accuracy" else "macro F1", score == "accuracy")
        self.at = place
        self.labels = tuple(labels)
        self._fold_case = fold_case
        self._score = score
        self._index = {self.fold(label): number for number, label in enumerate(self.labels)}
        for other, label in same_as.items():
            self._index.setdefault(self.fold(other), self._index[self.fold(label)])

    @classmethod
    def make(cls, name: str, table: LabelTable, task: Task, place: str, problems: list[Problem]) -> Label | None:
        """See `Measure.make`."""
        labels = labels_of({"labels": table.labels, "at": table.at}, task.schema)
        file, before = task.file, len(problems)
        if not labels:
            problems.append(
                Problem(
                    "the labels are not listed",
                    'add them, like labels = ["yes", "no"]',
                    file,
                    f"{place}.labels",
                )
            )
        seen: set[str] = set()
        for label in labels:
            folded = _folded(label, table.fold_case)
            if folded in seen:
                problems.append(Problem(f"'{label}' is listed twice", "take one out", file, f"{place}.labels"))
            if not folded:
                problems.append(Problem("a label is empty", "give it a word", file, f"{place}.labels"))
            seen.add(folded)
        for other, label in table.same_as.items():
            if _folded(label, table.fold_case) not in seen:
                problems.append(
                    Problem(f"'{label}' is no label", known_words(label, labels), file, f"{place}.same_as.{other}")
                )
            if _folded(other, table.fold_case) in seen:
                problems.append(Problem(f"'{other}' is a label itself", "take it out", file, f"{place}.same_as"))
        if len(problems) > before:
            return None
        return cls(name, table.at, labels, table.same_as, table.fold_case, table.score)

    def fold(self, text: str) -> str:
        """A label as it is compared: Unicode NFKC, single spaces, and no letter case unless that counts."""
        return _folded(text, self._fold_case)

    def expected_of(self, expected: Any) -> Any:
        """See `Measure.expected_of`."""
        return at(expected, self.at)

    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """See `Measure.check_expected`."""
        if isinstance(expected, str) and self.fold(expected) in self._index:
            return None
        return f"{expected!r} is no label of the task", known_words(str(expected), self.labels)

    def per_case(self, answer: Any, expected: Any) -> CaseScore:
        """See `Measure.per_case`. The statistics are the row and the column of the confusion matrix."""
        got = at(answer, self.at)
        row = self._index[self.fold(expected)]
        column = self._index.get(self.fold(got), len(self.labels)) if isinstance(got, str) else len(self.labels)
        if row == column:
            return CaseScore((row, column), 1.0)
        shown = "nothing" if got is ABSENT else got if isinstance(got, str) else repr(got)
        cause = label_cause(self.labels[row], got, self.labels, self.fold)
        return CaseScore((row, column), 0.0, (Finding(self.at, str(expected), shown, cause),))

    def worst(self, expected: Any, why: str) -> CaseScore:
        """See `Measure.worst`."""
        row = self._index[self.fold(expected)]
        return CaseScore((row, len(self.labels)), 0.0, (Finding(self.at, str(expected), "nothing", why),))

    def best(self, expected: Any) -> CaseScore:
        """See `Measure.best`."""
        row = self._index[self.fold(expected)]
        return CaseScore((row, row), 1.0)

    def rows(self, scores: Sequence[CaseScore]) -> Floats:
        """Each case as a confusion matrix of one, flattened: shape (n, labels * (labels + 1))."""
        import numpy as np

        size = len(self.labels)
        table = np.zeros((len(scores), size * (size + 1)))
        places = [int(one.statistics[0]) * (size + 1) + int(one.statistics[1]) for one in scores]
        table[np.arange(len(scores)), places] = 1.0
        return table

    def score_of(self, totals: Floats) -> Floats:
        """Accuracy: hits over cases. Macro F1: see `macro_f1`."""
        return self.figures(totals)["macro F1" if self._score == "macro_f1" else "accuracy"]

    def _matrix(self, totals: Floats) -> Floats:
        size = len(self.labels)
        return totals.reshape(*totals.shape[:-1], size, size + 1)

    def figures(self, totals: Floats) -> dict[str, Floats]:
        """See `Measure.figures`."""
        import numpy as np

        matrix = self._matrix(totals)
        hits: Floats = np.trace(matrix, axis1=-2, axis2=-1)
        return {"accuracy": hits / np.maximum(matrix.sum(axis=(-2, -1)), 1e-300), "macro F1": macro_f1(matrix)}

    def tables(self, totals: Floats) -> tuple[Table, ...]:
        """See `Measure.tables`."""
        matrix = self._matrix(totals)
        precision, recall, f1 = per_label(matrix)
        each = tuple(
            (label, (float(precision[n]), float(recall[n]), float(f1[n]))) for n, label in enumerate(self.labels)
        )
        confusion = tuple((label, tuple(float(one) for one in matrix[n])) for n, label in enumerate(self.labels))
        return (
            Table("expected (rows) against answered (columns)", (*self.labels, NONE), confusion),
            Table("each label", ("precision", "recall", "F1"), each, shares=True),
        )


def per_label(matrix: Floats) -> tuple[Floats, Floats, Floats]:
    """Precision, recall and F1 of each label, 0 where they are not defined.

    F1 = 2 TP / (2 TP + FP + FN), the harmonic mean of precision and recall (van Rijsbergen,
    Information Retrieval, 1979).

    :param matrix: shape (..., labels, labels + 1): expected by answered, the last column "none".
    :return: three arrays of shape (..., labels).
    """
    import numpy as np

    hits: Floats = np.diagonal(matrix[..., :-1], axis1=-2, axis2=-1)
    answered = matrix[..., :-1].sum(axis=-2)
    expected = matrix.sum(axis=-1)
    precision = hits / np.where(answered > 0, answered, 1)
    recall = hits / np.where(expected > 0, expected, 1)
    both = answered + expected
    return precision, recall, 2 * hits / np.where(both > 0, both, 1)


def macro_f1(matrix: Floats) -> Floats:
    """The mean F1 over the labels that are expected or answered at least once; "none" is no label.

    :param matrix: as in `per_label`.
    """
    import numpy as np

    f1 = per_label(matrix)[2]
    present = (matrix[..., :-1].sum(axis=-2) + matrix.sum(axis=-1)) > 0
    result: Floats = (f1 * present).sum(axis=-1) / np.maximum(present.sum(axis=-1), 1)
    return result


def _folded(text: str, fold_case: bool) -> str:
    plain = " ".join(unicodedata.normalize("NFKC", text).split())
    return plain.casefold() if fold_case else plain
