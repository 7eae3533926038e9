"""Field rules for lists and records, and the comparison of whole trees of fields, leaf by leaf."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

from pydantic import Field
from rapidfuzz.distance import Levenshtein
from typing_extensions import override

from drovik.heavy import np
from drovik.scoring.json_pointer import ABSENT, is_absent, shown, value_at_pointer
from drovik.scoring.pairing import best_pairs
from drovik.scoring.rules.rule import AbsentValue, AnyValue, Outcome, Rule, same_json

_ALIKE = 0.6
"""Single values of two lists are a pair where they are at least so alike; else one is missing, one invented."""


class Record(Rule):
    """An object whose own fields are compared each by its rule."""

    fields: dict[str, dict[str, Any]] = Field(min_length=1)

    def same(self, expected: Any, got: Any) -> bool:
        """Not asked: a record is compared leaf by leaf."""
        return same_json(expected, got)


class List(Rule):
    """A list of values, by the rule `item`, or of records, by their `fields`.

    `order`: "free" finds the best pairs, whichever place they are at; "kept" pairs only in order.
    """

    item: dict[str, Any] | None = None
    fields: dict[str, dict[str, Any]] | None = None
    order: Literal["free", "kept"] = "free"

    def same(self, expected: Any, got: Any) -> bool:
        """Not asked: a list is compared leaf by leaf."""
        return same_json(expected, got)

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if isinstance(expected, list) else "is not a list"


class Leaf(NamedTuple):
    """What came of one place: its JSON Pointer, the outcome, what was expected there and what came."""

    where: str
    outcome: Outcome
    wanted: Any
    got: Any


@dataclass(frozen=True)
class FieldNode:
    """A field with its place within its parent, its rule, and what is below: a record's fields, or a list's item."""

    name: str
    place: str
    rule: Rule
    below: tuple[FieldNode, ...] = ()

    @property
    def is_list(self) -> bool:
        """Whether it is a list; `below` is then its item."""
        return isinstance(self.rule, List)

    def check_expected(self, expected: Any) -> Iterator[tuple[str, str, str]]:
        """What is wrong with the expected value at this node or below: what, the place, the field's name."""
        if is_absent(expected):
            return
        wrong = self.rule.check_expected(expected)
        if wrong:
            yield wrong, self.place, self.name
        elif self.is_list:
            for number, one in enumerate(expected):
                for what, place, name in self.below[0].check_expected(one):
                    yield what, f"{self.place}/{number}{place}", name or self.name
        else:
            for node in self.below:
                for what, place, name in node.check_expected(value_at_pointer(expected, node.place)):
                    yield what, self.place + place, name


def compare(node: FieldNode, wanted: Any, got: Any, where: str) -> list[Leaf]:
    """Every leaf of a field: what was expected, what came, and what to call that.

    :param where: the field's own place.
    """
    rule = node.rule
    if not node.below:
        return [Leaf(where, _outcome(rule, wanted, got), wanted, got)]
    if is_absent(wanted) and (is_absent(got) or got == []):
        return [Leaf(where, "rightly absent", wanted, got)]
    if node.is_list:
        return _compare_lists(node, wanted, got, where)
    return [
        leaf
        for below in node.below
        for leaf in compare(
            below, value_at_pointer(wanted, below.place), value_at_pointer(got, below.place), where + below.place
        )
    ]


def _outcome(rule: Rule, wanted: Any, got: Any) -> Outcome:
    if isinstance(rule, AbsentValue):
        return "rightly absent" if is_absent(got) else "invented"
    if is_absent(wanted):
        return "rightly absent" if is_absent(got) or isinstance(rule, AnyValue) else "invented"
    if is_absent(got):
        return "missing"
    return rule.outcome(wanted, got)


def _compare_lists(node: FieldNode, wanted: Any, got: Any, where: str) -> list[Leaf]:
    if wanted == [] and got == []:
        return [Leaf(where, "correct", wanted, got)]
    if wanted == [] and is_absent(got):
        return [Leaf(where, "missing", wanted, got)]
    if not is_absent(got) and not isinstance(got, list):
        got = [got]
    item = node.below[0]
    one = [] if is_absent(wanted) else wanted
    other = [] if is_absent(got) else got
    pairs = _pairs(item, one, other, kept=isinstance(node.rule, List) and node.rule.order == "kept")
    leaves = []
    for number, value in enumerate(one):
        partner = pairs.get(number)
        beside = ABSENT if partner is None else other[partner]
        leaves += compare(item, value, beside, f"{where}/{number if partner is None else partner}")
    paired = set(pairs.values())
    for number, value in enumerate(other):
        if number not in paired:
            leaves += _invented(item, value, f"{where}/{number}")
    return [leaf for leaf in leaves if leaf.outcome != "rightly absent"]


def _invented(item: FieldNode, value: Any, where: str) -> list[Leaf]:
    """Every leaf of an element that nothing expected; one at least, whatever it is."""
    found = [leaf for leaf in compare(item, ABSENT, value, where) if leaf.outcome == "invented"]
    return found or [Leaf(where, "invented", ABSENT, value)]


def _pairs(item: FieldNode, wanted: Sequence[Any], got: Sequence[Any], kept: bool) -> dict[int, int]:
    """Which element goes with which, by their numbers: the pairing whose likenesses come to most."""
    if list(wanted) == list(got):
        return {number: number for number in range(len(wanted))}
    if not wanted or not got:
        return {}

    alike = np.array([[_likeness(item, one, other) for other in got] for one in wanted])
    least = _ALIKE if not item.below else 1e-9
    alike[alike < least] = 0.0
    return _in_order(alike) if kept else best_pairs(alike)


def _likeness(item: FieldNode, wanted: Any, got: Any) -> float:
    """How well two elements go together, 0 to 1: of records the share of leaves that are right, of values how alike
    they are written.
    """
    leaves = [leaf for leaf in compare(item, wanted, got, "") if leaf.outcome != "rightly absent"]
    if item.below:
        right = sum(leaf.outcome in ("correct", "near") for leaf in leaves)
        written = sum(_written_alike(leaf.wanted, leaf.got) for leaf in leaves if leaf.outcome == "wrong")
        return (right + 0.5 * written) / len(leaves) if leaves else 1.0
    if leaves and leaves[0].outcome in ("correct", "near"):
        return 1.0
    return 0.9 * _written_alike(wanted, got)


def _written_alike(one: Any, other: Any) -> float:

    return float(Levenshtein.normalized_similarity(shown(one).casefold(), shown(other).casefold()))


def _in_order(alike: Any) -> dict[int, int]:
    """The best pairing that keeps the order, as in the alignment of sequences (Needleman and Wunsch, 1970)."""

    rows, columns = alike.shape
    best = np.zeros((rows + 1, columns + 1))
    for row in range(rows - 1, -1, -1):
        for column in range(columns - 1, -1, -1):
            paired = best[row + 1, column + 1] + alike[row, column]
            best[row, column] = max(paired, best[row + 1, column], best[row, column + 1])
    pairs, row, column = {}, 0, 0
    while row < rows and column < columns:
        if alike[row, column] > 0 and best[row, column] == best[row + 1, column + 1] + alike[row, column]:
            pairs[row] = column
            row, column = row + 1, column + 1
        elif best[row, column] == best[row + 1, column]:
            row += 1
        else:
            column += 1
    return pairs
