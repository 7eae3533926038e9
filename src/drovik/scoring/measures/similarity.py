"""The measure `likeness`: how alike a text is to one or several reference texts, by published overlaps."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from rapidfuzz.distance import LCSseq
from typing_extensions import override

from drovik.errors import Problem
from drovik.heavy import np
from drovik.project.tasks import Task
from drovik.scoring.causes.cause_table import OTHER_WORDS
from drovik.scoring.json_pointer import Pointer, shown, value_at_pointer
from drovik.scoring.language.detecting import language_of
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, share
from drovik.scoring.measures.transcript import Normalization

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

ORDERS = 6
"""The longest run of characters that chrF counts."""
BETA = 2.0
"""How many times as much recall counts as precision in chrF."""
WHATS = {"token_f1": "token F1", "rouge_l": "ROUGE-L", "chrf": "chrF"}
ENOUGH = 0.5
"""Below this a text is reported as another one than the reference."""


class SimilarityTable(Normalization):
    """The table of a similarity measure in question.toml."""

    at: Pointer = ""
    case: bool = False
    punctuation: bool = False
    score: Literal["token_f1", "rouge_l", "chrf"] = "token_f1"


class Similarity(Measure):
    """Token F1 and ROUGE-L in the mean over cases, chrF over the corpus; of several references the likest counts.

    The worst: nothing in common. The statistics: token F1, ROUGE-L, cases, then for each length of run the common
    runs, those of the answer, and those of the reference.
    """

    kind: ClassVar[str] = "similarity"
    table_type: ClassVar[type[SimilarityTable]] = SimilarityTable

    def __init__(self, name: str, table: SimilarityTable) -> None:
        super().__init__(name, WHATS[table.score], binary=False)
        self._table = table

    @override
    @classmethod
    def make(
        cls, name: str, table: SimilarityTable, task: Task, place: str, problems: list[Problem]
    ) -> Similarity | None:
        return cls(name, table)

    @override
    def expected_of(self, expected: Any) -> Any:
        return value_at_pointer(expected, self._table.at)

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        texts = expected if isinstance(expected, list) else [expected]
        if texts and all(isinstance(one, str) and one.strip() for one in texts):
            return None
        return f"{shown(expected)[:60]} is not a reference text", "give a text, or a list of texts"

    @override
    def language_of(self, expected: Any) -> str | None:
        return language_of(_references(expected)[0])

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        got = value_at_pointer(answer, self._table.at)
        text = got if isinstance(got, str) else ""
        scored = [self._beside(text, reference) for reference in _references(expected)]
        best = max(scored, key=lambda one: one.value)
        if best.value >= ENOUGH:
            return best
        reference = _references(expected)[scored.index(best)]
        return best._replace(findings=(Finding(self._table.at, reference, text or "nothing", OTHER_WORDS),))

    def _beside(self, text: str, reference: str) -> CaseScore:
        words, wanted = self._table.line_words(text), self._table.line_words(reference)
        counts = run_counts(" ".join(words), " ".join(wanted))
        token, rouge = token_f1(words, wanted), rouge_l(words, wanted)
        value = {"token_f1": token, "rouge_l": rouge, "chrf": _chrf(counts)}[self._table.score]
        return CaseScore((token, rouge, 1.0, *counts), value)

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        reference = _references(expected)[0]
        nothing = self._beside("", reference)
        return nothing._replace(findings=(Finding(self._table.at, reference, "nothing", why),))

    @override
    def best(self, expected: Any) -> CaseScore:
        reference = _references(expected)[0]
        return self._beside(reference, reference)

    def score_of(self, totals: Floats) -> Floats:
        """The figure that `score` names."""
        return self.figures(totals)[self.what]

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """chrF is that of the summed counts; runs too long for either text are left out, as for one text."""

        counts = totals[..., 3:].reshape(*totals.shape[:-1], ORDERS, 3)
        common, said, wanted = (counts[..., n] for n in range(3))
        used = (said > 0) & (wanted > 0)
        orders = np.maximum(used.sum(axis=-1), 1)
        precision = (share(common, said, 0.0) * used).sum(axis=-1) / orders
        recall = (share(common, wanted, 0.0) * used).sum(axis=-1) / orders
        below = BETA**2 * precision + recall
        return {
            "token F1": share(totals[..., 0], totals[..., 2], 0.0),
            "ROUGE-L": share(totals[..., 1], totals[..., 2], 0.0),
            "chrF": np.where(
                counts.sum(axis=(-2, -1)) > 0, share((1 + BETA**2) * precision * recall, below, 0.0), 1.0
            ),
        }


def _references(expected: Any) -> list[str]:
    return list(expected) if isinstance(expected, list) else [expected]


def token_f1(words: Sequence[str], wanted: Sequence[str]) -> float:
    """F1 of the words two texts have in common, each as often as it comes (Rajpurkar et al., EMNLP 2016).

    Unlike there, articles count. Two empty texts are alike.
    """
    common, every = (Counter(words) & Counter(wanted)).total(), len(words) + len(wanted)
    return 2 * common / every if every else 1.0


def rouge_l(words: Sequence[str], wanted: Sequence[str]) -> float:
    """F1 of the longest common subsequence of words (C.-Y. Lin, ROUGE, ACL workshop 2004, section 3.1, beta = 1)."""
    every = len(words) + len(wanted)
    return 2 * LCSseq.similarity(list(words), list(wanted)) / every if every else 1.0


def run_counts(text: str, reference: str) -> tuple[float, ...]:
    """For each length from 1 to 6: the runs of characters in common, those of the text, those of the reference.

    Spaces are left out, as M. Popović has it (chrF, WMT 2015).
    """
    one, other = re.sub(r"\s", "", text), re.sub(r"\s", "", reference)
    found: list[float] = []
    for size in range(1, ORDERS + 1):
        said = Counter(one[n : n + size] for n in range(len(one) - size + 1))
        wanted = Counter(other[n : n + size] for n in range(len(other) - size + 1))
        found += [float((said & wanted).total()), float(said.total()), float(wanted.total())]
    return tuple(found)


def _chrf(counts: Sequence[float]) -> float:
    """chrF of one text: F with beta = 2 of the mean precision and recall over the lengths of runs (Popović, 2015).

    Only lengths that both texts have count, as in the author's own program; two empty texts are alike.
    """
    used = [counts[n : n + 3] for n in range(0, len(counts), 3) if counts[n + 1] and counts[n + 2]]
    if not used:
        return float(not any(counts))
    precision = sum(common / said for common, said, _ in used) / len(used)
    recall = sum(common / wanted for common, _, wanted in used) / len(used)
    below = BETA**2 * precision + recall
    return (1 + BETA**2) * precision * recall / below if below else 0.0
