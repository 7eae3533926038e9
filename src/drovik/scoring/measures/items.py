"""The measure `items`: what was seen, as a set or with counts."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from typing_extensions import override

from drovik.errors import Problem
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import ITEM_INVENTED, ITEM_LEFT_OUT, WRONG_COUNT
from drovik.scoring.json_pointer import Pointer, shown, value_at_pointer
from drovik.scoring.language.english import NUMBERS, singular
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, share
from drovik.text import folded

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

MET, TOO_MANY, LEFT_OUT, OFF, COUNTED, EXACT, CASES = range(7)


MOST_COUNTED = 1_000_000
"""Nobody sees more of one thing in a picture; a larger number counts as that."""


class ItemsTable(Frozen):
    """The table of an items measure in question.toml.

    `counts`: how many there are of each counts too. `same_as`: other words for an item. In a list of objects, `name`
    and `count` say where an item's name and number stand.
    """

    at: Pointer = ""
    counts: bool = False
    same_as: dict[str, str] = {}
    name: str = "item"
    count: str = "count"
    score: Literal["f1", "exact"] = "f1"


class Items(Measure):
    """F1 over items; with counts, every single one of them is an item. The worst: none of them.

    Plurals are their singular. An expected empty list is an expected output. The statistics: met, too many, left out,
    how far the counts of the met kinds are off, how many kinds were met, exact matches, and cases.
    """

    coefficients: ClassVar[frozenset[str]] = frozenset(("count error",))
    bounds: ClassVar[Mapping[str, tuple[float, float]]] = {"count error": (0.0, math.inf)}
    kind: ClassVar[str] = "items"
    table_type: ClassVar[type[ItemsTable]] = ItemsTable
    shares: ClassVar[frozenset[str]] = frozenset(("exact matches",))

    def __init__(self, name: str, table: ItemsTable) -> None:
        super().__init__(name, "F1 over items" if table.score == "f1" else "exact matches", table.score == "exact")
        self._table = table
        self._same = {self._plain(word): self._plain(item) for word, item in table.same_as.items()}

    @override
    @classmethod
    def make(cls, name: str, table: ItemsTable, task: Task, place: str, problems: list[Problem]) -> Items | None:
        return cls(name, table)

    @override
    def expected_of(self, expected: Any) -> Any:
        return value_at_pointer(expected, self._table.at)

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        if isinstance(expected, list | dict) and self._read(expected) is not None:
            return None
        remedy = 'write it like ["key", "2 gloves"], {"glove": 2}, or [{"item": "glove", "count": 2}]'
        return f"{shown(expected)[:60]} is not a list of items", remedy

    def _plain(self, word: str) -> str:
        text = folded(re.sub(r"[^\w\s-]", " ", word))
        return singular(re.sub(r"^(?:a|an|the|some) ", "", text))

    def _name(self, word: str) -> str:
        plain = self._plain(word)
        return self._same.get(plain, plain)

    def _read(self, value: Any) -> Counter[str] | None:
        """Items with their counts; None where the value holds none in any way that is known."""
        if isinstance(value, str):
            value = [one for one in re.split(r"[,;\n]|\band\b", value) if one.strip(" .-*")]
        if isinstance(value, dict):
            value = [{self._table.name: name, self._table.count: number} for name, number in value.items()]
        if not isinstance(value, list):
            return None
        found: Counter[str] = Counter()
        for one in value:
            item = self._item(one)
            if item is None:
                return None
            if item[1]:
                found[item[0]] += min(item[1], MOST_COUNTED)
        return found if self._table.counts else Counter(dict.fromkeys(found, 1))

    def _item(self, one: Any) -> tuple[str, int] | None:
        if isinstance(one, dict):
            word, number = one.get(self._table.name), one.get(self._table.count, 1)
            known = isinstance(word, str) and isinstance(number, int) and not isinstance(number, bool) and number >= 0
            return (self._name(word), number) if known and isinstance(word, str) else None
        if not isinstance(one, str):
            return None
        bare = one.strip(" .-*•")
        words = bare.split(maxsplit=1)
        if len(words) == 2:
            first = words[0].lower().rstrip("x×")
            number = int(first) if first.isascii() and first.isdigit() else NUMBERS.get(first)
            if number is not None:
                return self._name(words[1]), number
        return (self._name(bare or one), 1) if one.strip() else None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        wanted = self._read(expected) or Counter()
        read = self._read(value_at_pointer(answer, self._table.at))
        got = read if read is not None else Counter()
        findings = []
        for item in sorted(wanted | got):
            one, other = wanted[item], got[item]
            if one == other:
                continue
            left, extra = float(max(one - other, 0)), float(max(other - one, 0))
            effect: tuple[tuple[int, float], ...] = ((MET, left), (LEFT_OUT, -left), (TOO_MANY, -extra))
            if one and other:
                effect += ((OFF, -float(abs(one - other))),)
            cause = ITEM_LEFT_OUT if not other else ITEM_INVENTED if not one else WRONG_COUNT
            findings.append(Finding(self._table.at, _told(item, one), _told(item, other), cause, effect))
        return self._scored(wanted, got, tuple(findings))

    def _scored(self, wanted: Counter[str], got: Counter[str], findings: tuple[Finding, ...]) -> CaseScore:
        met, every = (wanted & got).total(), wanted.total() + got.total()
        both = [item for item in wanted if got[item]]
        off = float(sum(abs(wanted[item] - got[item]) for item in both))
        right = wanted == got
        value = float(right) if self.binary or not every else 2 * met / every
        row = (met, got.total() - met, wanted.total() - met, off, len(both), float(right), 1.0)
        return CaseScore(tuple(float(one) for one in row), value, findings)

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        wanted = self._read(expected) or Counter()
        score = self._scored(wanted, Counter(), (Finding(self._table.at, shown(expected), "nothing", why),))
        return CaseScore((*score.statistics[:EXACT], 0.0, 1.0), 0.0, score.findings)

    @override
    def best(self, expected: Any) -> CaseScore:
        wanted = self._read(expected) or Counter()
        return self._scored(wanted, wanted, ())

    def score_of(self, totals: Floats) -> Floats:
        """F1 = 2 met / (2 met + too many + left out); 1 where nothing was expected and nothing came."""
        return self.figures(totals)[self.what]

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """The count error is the mean difference of counts over the kinds that were met."""
        met, extra, left = totals[..., MET], totals[..., TOO_MANY], totals[..., LEFT_OUT]
        found = {
            "precision": share(met, met + extra),
            "recall": share(met, met + left),
            "F1 over items": share(2 * met, 2 * met + extra + left),
            "exact matches": share(totals[..., EXACT], totals[..., CASES], 0.0),
        }
        if self._table.counts:
            found["count error"] = share(totals[..., OFF], totals[..., COUNTED], 0.0)
        return found


def _told(item: str, number: int) -> str:
    return "nothing" if not number else item if number == 1 else f"{number} {item}"
