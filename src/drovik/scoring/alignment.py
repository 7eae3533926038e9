"""Two texts side by side: which lines go together, and which words within them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import groupby
from math import inf
from typing import NamedTuple

from rapidfuzz.distance import LCSseq, Levenshtein

from drovik.heavy import np
from drovik.scoring.pairing import best_pairs

_ALIKE = 0.5
"""Lines go together where this much of their characters stands; else one was dropped and another was added."""
_MOST_PAIRS = 4_000
"""With more pairs of lines that differ than this, lines are paired by their place alone."""


class EditStep(NamedTuple):
    """A run of words: the same in both (`equal`), or replaced, dropped (`delete`) or added (`insert`)."""

    kind: str
    wanted: tuple[str, ...]
    got: tuple[str, ...]
    start: int
    """Where the run begins among the expected words of its line."""

    def has_same_letters(self) -> bool:
        """Whether words were written together or apart, and nothing else: "leftside" for "left side"."""
        return "".join(self.wanted).casefold() == "".join(self.got).casefold()


class LinesApart(NamedTuple):
    """The lines from the first to the last that differ: what two texts begin and end with in common takes no edit.

    `others` says whether there are more.
    """

    wanted: Sequence[str]
    got: Sequence[str]
    others: bool

    def char_edits(self, between: str) -> int:
        """The fewest edits that turn one text into the other, with one character between lines."""
        if self.wanted and self.got:
            return Levenshtein.distance(between.join(self.wanted), between.join(self.got))
        lines = self.wanted or self.got
        return len(between.join(lines)) + (self.others and bool(lines))


def lines_apart(wanted: Sequence[str], got: Sequence[str]) -> LinesApart:
    """The lines in which two texts differ."""
    most = min(len(wanted), len(got))
    start = end = 0
    while start < most and wanted[start] == got[start]:
        start += 1
    while end < most - start and wanted[-1 - end] == got[-1 - end]:
        end += 1
    return LinesApart(wanted[start : len(wanted) - end], got[start : len(got) - end], start + end > 0)


@dataclass(frozen=True)
class Alignment:
    """Two texts, line by line. A pair holds the number of an expected line and of one that came, None for neither.

    `char_edits` and `word_edits` are the fewest that turn one text into the other, lines in any order where that is
    free. `moved` says whether the same lines came in another order; `apart` are those that differ.
    """

    wanted: tuple[str, ...]
    got: tuple[str, ...]
    pairs: tuple[tuple[int | None, int | None], ...]
    char_edits: int
    word_edits: int
    moved: bool
    apart: LinesApart

    @cached_property
    def steps(self) -> list[tuple[tuple[int | None, int | None], list[EditStep]]]:
        """The runs of words of each pair of lines that are not the same."""
        return [(pair, self._steps_of(*pair)) for pair in self.pairs if not self._is_same(*pair)]

    def _is_same(self, one: int | None, other: int | None) -> bool:
        return one is not None and other is not None and self.wanted[one] == self.got[other]

    def _steps_of(self, one: int | None, other: int | None) -> list[EditStep]:
        if one is None or other is None:
            words = tuple((self.got[other] if other is not None else self.wanted[one or 0]).split())
            return [EditStep("insert", (), words, 0) if one is None else EditStep("delete", words, (), 0)]

        first, second = self.wanted[one].split(), self.got[other].split()
        # Words that differ in letter case alone go together, so that "No entry" and "Entry" have one word in common.
        steps = []
        for run in Levenshtein.opcodes([word.casefold() for word in first], [word.casefold() for word in second]):
            here, there = tuple(first[run.src_start : run.src_end]), tuple(second[run.dest_start : run.dest_end])
            if run.tag == "equal" and here != there:
                for number, (a, b) in enumerate(zip(here, there, strict=True)):
                    steps.append(EditStep("equal" if a == b else "replace", (a,), (b,), run.src_start + number))
            else:
                steps.append(EditStep(run.tag, here, there, run.src_start))
        return _together(steps) if len(first) != len(second) else steps

    def words_missed(self) -> dict[int, set[int]]:
        """By expected line, the numbers of its words that did not come in their place; other lines are left out."""
        found = {}
        for (line, _), steps in self.steps:
            if line is not None:
                missed = {step.start + n for step in steps if step.kind != "equal" for n in range(len(step.wanted))}
                if missed:
                    found[line] = missed
        return found


def _together(steps: list[EditStep]) -> list[EditStep]:
    """The same steps, with those in one that come to words written together or apart."""
    found: list[EditStep] = []
    for is_equal, run in groupby(steps, lambda step: step.kind == "equal"):
        some = list(run)
        wanted = tuple(word for one in some for word in one.wanted)
        got = tuple(word for one in some for word in one.got)
        joined = EditStep("replace", wanted, got, some[0].start)
        found += [joined] if not is_equal and len(some) > 1 and joined.has_same_letters() else some
    return found


def align_lines(wanted: Sequence[str], got: Sequence[str], free: bool) -> Alignment:
    """Two texts side by side.

    :param wanted: the lines that are expected, without what does not count.
    :param free: whether lines may be in any order.
    """

    pairs, apart = _paired(wanted, got, free), lines_apart(wanted, got)
    if free:
        lines = [(wanted[a] if a is not None else "", got[b] if b is not None else "") for a, b in pairs]
        chars = sum(Levenshtein.distance(one, other) for one, other in lines)
        # Where a line is dropped or added, so is the end of a line.
        chars += abs(max(len(wanted) - 1, 0) - max(len(got) - 1, 0))
        words = sum(Levenshtein.distance(one.split(), other.split()) for one, other in lines)
    else:
        chars = apart.char_edits("\n")
        words = Levenshtein.distance(" ".join(apart.wanted).split(), " ".join(apart.got).split())
    moved = not free and len(wanted) == len(got) and list(wanted) != list(got) and sorted(wanted) == sorted(got)
    return Alignment(tuple(wanted), tuple(got), tuple(pairs), chars, words, moved, apart)


def rewrapped(wanted: Sequence[str], got: Sequence[str]) -> tuple[str, ...]:
    """The lines of a text broken where the expected ones are, by which words go together."""
    first = [word for line in wanted for word in line.split()]
    line_of = [number for number, line in enumerate(wanted) for _ in line.split()]
    second = [word for line in got for word in line.split()]
    lines: list[list[str]] = [[] for _ in wanted]
    runs = Levenshtein.opcodes([word.casefold() for word in first], [word.casefold() for word in second])
    for run in runs:
        for n in range(run.dest_start, run.dest_end):
            # A word too many stays in the line of the word before it.
            at = run.src_start - 1 if run.tag == "insert" else run.src_start + n - run.dest_start
            lines[line_of[max(at, 0)] if line_of else 0].append(second[n])
    return tuple(" ".join(line) for line in lines if line)


def _paired(wanted: Sequence[str], got: Sequence[str], free: bool) -> list[tuple[int | None, int | None]]:
    """Which lines go together: those that are the same first, then those that are alike."""
    if len(wanted) == 1 and len(got) == 1:
        return [(0, 0)]
    if _is_side_by_side(wanted, got):
        return [(n, n) for n in range(len(wanted))]
    same = _same(wanted, got, free)
    left = [n for n in range(len(wanted)) if n not in same]
    taken = set(same.values())
    right = [n for n in range(len(got)) if n not in taken]
    if len(left) * len(right) > _MOST_PAIRS:
        same |= dict(zip(left, right, strict=False))
    elif left and right:
        alike = np.array([[_alike(wanted[a], got[b]) for b in right] for a in left])
        alike[alike < _ALIKE] = 0.0
        if not free:
            _forbid_crossing(alike, left, right, same)
        same |= {left[row]: right[column] for row, column in best_pairs(alike).items()}
    paired: list[tuple[int | None, int | None]] = [(n, same.get(n)) for n in range(len(wanted))]
    taken = set(same.values())
    return paired + [(None, n) for n in range(len(got)) if n not in taken]


def _is_side_by_side(wanted: Sequence[str], got: Sequence[str]) -> bool:
    """Whether each line has its like at its own place, as nearly always: no pairing has more lines that are the same.

    Where no line that differs from the one at its place is among the others that do, the same lines are as many as
    the texts have in common at all.
    """
    if len(wanted) != len(got):
        return False
    apart = [(one, other) for one, other in zip(wanted, got, strict=True) if one != other]
    return {one for one, _ in apart}.isdisjoint([other for _, other in apart]) and all(
        _alike(one, other) >= _ALIKE for one, other in apart
    )


def _alike(one: str, other: str) -> float:
    """How alike two lines are, 0 to 1; a line that is cut short is the line it begins."""

    first, second = one.casefold(), other.casefold()
    if len(second) > 2 and first.startswith(second):
        return 0.99
    return Levenshtein.normalized_similarity(first, second)


def _same(wanted: Sequence[str], got: Sequence[str], free: bool) -> dict[int, int]:
    """Lines that are the same in both: in order, or wherever they stand."""
    if free:
        places: dict[str, list[int]] = {}
        for number, line in enumerate(got):
            places.setdefault(line, []).append(number)
        return {number: places[line].pop(0) for number, line in enumerate(wanted) if places.get(line)}

    return {
        one.src_start + n: one.dest_start + n
        for one in LCSseq.opcodes(list(wanted), list(got))
        if one.tag == "equal"
        for n in range(one.src_end - one.src_start)
    }


def _forbid_crossing(alike: object, left: list[int], right: list[int], same: dict[int, int]) -> None:
    """In a text whose order counts, a line goes only with one that stands between the same neighbours."""

    table = np.asarray(alike)
    for row, a in enumerate(left):
        before = [same[n] for n in same if n < a]
        after = [same[n] for n in same if n > a]
        low, high = max(before, default=-inf), min(after, default=inf)
        for column, b in enumerate(right):
            if not low < b < high:
                table[row, column] = 0.0
