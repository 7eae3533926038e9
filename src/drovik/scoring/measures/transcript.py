"""The measure `text`: what was read, beside what is written there, character by character and word by word.

What does not count when texts are compared, as several measures let a person choose it.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple

from typing_extensions import override

from drovik.errors import Problem
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.alignment import Alignment, align_lines, rewrapped
from drovik.scoring.causes.text_causes import text_findings
from drovik.scoring.json_pointer import Pointer, shown, value_at_pointer
from drovik.scoring.language.detecting import language_of
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, Trace, share
from drovik.scoring.measures.required_words import critical_token_indexes, dates_in, numbers_in, recalled
from drovik.text import normalized

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats


class Normalization(Frozen):
    """What of a text counts: letter case, punctuation, accents. Runs of spaces never do, nor the form of a character.

    Unicode's compatible forms are one: a ligature is its letters, a full-width digit is a digit (NFKC, UAX 15).
    """

    case: bool = True
    punctuation: bool = True
    accents: bool = True

    def lines(self, text: str) -> list[str]:
        """The lines of a text without what does not count; empty ones are left out."""
        plain = normalized(text, case=self.case, accents=self.accents, punctuation=self.punctuation)
        if _is_tidy(plain):  # as nearly always; the rest takes a word at a time
            return plain.split("\n")
        return [line for one in plain.splitlines() if (line := " ".join(one.split()))]

    def line_words(self, text: str) -> list[str]:
        """The words of a text without what does not count."""
        return [word for line in self.lines(text) for word in line.split()]


def _is_tidy(text: str) -> bool:
    """Whether a text has nothing but single spaces within its lines, and none of these is empty."""
    if text.isascii() and text.replace("\n", "").isprintable():  # so that no other spaces are in it
        return not (
            text[:1] in " \n" or text[-1] in " \n" or "  " in text or " \n" in text or "\n " in text or "\n\n" in text
        )
    return bool(text) and " ".join(text.split()) == text.replace("\n", " ")


_MOST_WORDS = 200_000
"""Words that are remembered."""
WHATS = {
    "characters": "characters right",
    "words": "words right",
    "exact": "exact matches",
    "must": "required words correct",
}
(CHAR_EDITS, CHARS, WORD_EDITS, WORDS, MUST_RIGHT, MUST, NUMBERS_RIGHT, NUMBERS, DATES_RIGHT, DATES, EXACT,
 CASES, CHARS_LOST, CHAR_WEIGHT, WORDS_LOST, WORD_WEIGHT) = range(16)  # fmt: skip
SIZE = 16
_QUOTES = dict(
    zip(
        "\"'`\u201c\u2018\u201e\u201a\u00ab\u00bb\u2039",
        "\"'`\u201d\u2019\u201c\u2018\u00bb\u00ab\u203a",
        strict=True,
    )
)
"""What closes each mark of quotation."""


def without_quotes(text: str) -> str:
    """A text without marks of quotation around the whole of it."""
    plain = text.strip()
    while len(plain) > 1 and (closing := _QUOTES.get(plain[0])) == plain[-1] and closing not in plain[1:-1]:
        plain = plain[1:-1].strip()
    return plain


def _with_losses(row: list[float]) -> tuple[float, ...]:
    """Statistics with what the edits come to in the score: at most as much as is written, and that at least 1."""
    for edits, size, lost, weight in (
        (CHAR_EDITS, CHARS, CHARS_LOST, CHAR_WEIGHT),
        (WORD_EDITS, WORDS, WORDS_LOST, WORD_WEIGHT),
    ):
        row[weight] = max(row[size], 1.0)
        row[lost] = min(row[edits], row[weight])
    return tuple(row)


class TextTable(Normalization):
    """The table of a text measure in question.toml.

    `order`: "free" allows lines in any order. `line_breaks` and `quotes`: whether it counts where lines are broken,
    and whether quotes around the whole do. `must`: kinds of words that must be right; `words`: more of them.
    """

    at: Pointer = ""
    order: Literal["kept", "free"] = "kept"
    line_breaks: bool = False
    quotes: bool = False
    must: list[Literal["numbers", "negations", "names"]] = ["numbers", "negations"]
    words: list[str] = []
    score: Literal["characters", "words", "exact", "must"] = "characters"


class _Expected(NamedTuple):
    """An expected output, its lines without what does not count, and what an answer that is right comes to."""

    text: str
    lines: tuple[str, ...]
    best: CaseScore


class TextMeasure(Measure):
    """Character and word error rate over the corpus, the words that must be right, numbers and dates.

    The score is 1 less the edits over the length of what is written, summed over the cases; the edits of a case count
    at most as much as its own length, so that an answer that runs away is no worse than none, and cannot outweigh
    others. The worst: nothing was read, so that every character and word is one to be added.
    """

    kind: ClassVar[str] = "text"
    table_type: ClassVar[type[TextTable]] = TextTable
    shares: ClassVar[frozenset[str]] = frozenset(("exact matches",))
    bounds: ClassVar[Mapping[str, tuple[float, float]]] = dict.fromkeys(
        ("character error rate", "word error rate"), (0.0, math.inf)
    )

    def __init__(self, name: str, table: TextTable) -> None:
        super().__init__(name, WHATS[table.score], table.score == "exact")
        self._table = table
        self._last: _Expected | None = None
        self._known_words: dict[str, int] = {}  # 1 for those that must be right, wherever they stand
        self._words = frozenset(word for one in table.words for word in table.line_words(one))

    def __getstate__(self) -> dict[str, Any]:
        """Without what it remembers, so that it travels as the measure that it was made as."""
        return {**vars(self), "_last": None, "_known_words": {}}

    @override
    @classmethod
    def make(cls, name: str, table: TextTable, task: Task, place: str, problems: list[Problem]) -> TextMeasure | None:
        return cls(name, table)

    @override
    def expected_of(self, expected: Any) -> Any:
        return value_at_pointer(expected, self._table.at)

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """An empty text is an expected output: there is nothing there."""
        if isinstance(expected, str):
            return None
        return f"{shown(expected)[:60]} is not a text", "give the text as it should be read"

    @override
    def language_of(self, expected: Any) -> str | None:
        return language_of(expected)

    @override
    def traits(self, expected: Any) -> frozenset[str]:
        """The lines of more than a few characters."""
        return frozenset(line.casefold() for line in self._folded(expected) if len(line) > 3)

    @override
    def traits_of(self, answer: Any) -> frozenset[str]:
        text = value_at_pointer(answer, self._table.at)
        return self.traits(text) if isinstance(text, str) else frozenset()

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics: the numbers that are named at the head of this module."""
        got = value_at_pointer(answer, self._table.at)
        _, wanted_lines, best = self._known(expected)
        got_lines = wanted_lines if got == expected else self._folded(got) if isinstance(got, str) else ()
        if wanted_lines == got_lines:
            return best
        aligned = self._aligned(wanted_lines, got_lines)
        statistics = self._statistics(wanted_lines, got_lines, aligned, best.statistics)
        findings = text_findings(aligned, CHAR_EDITS, WORD_EDITS)
        if statistics[EXACT]:  # the order of lines, which does not count
            findings = ()
        return CaseScore(statistics, self._value(statistics), findings)

    @override
    def traces(self, answer: Any, expected: Any) -> tuple[Trace, ...]:
        """The alignment, line by line."""
        got = value_at_pointer(answer, self._table.at)
        wanted_lines, got_lines = self._known(expected).lines, self._folded(got) if isinstance(got, str) else ()
        found = []
        aligned = self._aligned(wanted_lines, got_lines)
        for one, other in aligned.pairs:
            wanted, came = (
                lines[n] if n is not None else "" for lines, n in ((aligned.wanted, one), (aligned.got, other))
            )
            outcome = (
                "added" if one is None else "dropped" if other is None else "same" if wanted == came else "differs"
            )
            found.append(Trace(outcome, wanted, came))
        return tuple(found)

    def _aligned(self, wanted: tuple[str, ...], got: tuple[str, ...]) -> Alignment:
        """The two texts side by side, where line breaks do not count in whichever breaking has fewer edits."""
        free = self._table.order == "free"
        aligned = align_lines(wanted, got, free)
        if self._table.line_breaks or free or not wanted or max(len(wanted), len(got)) < 2:
            return aligned
        # However lines are broken, there are at least as many edits as where every break is a space.
        if aligned.char_edits <= aligned.apart.char_edits(" "):
            return aligned
        other = align_lines(wanted, rewrapped(wanted, got), free)
        if other.char_edits >= aligned.char_edits:
            return aligned
        # Lines that changed places are that, also where it takes fewer edits to read them as words of other lines.
        if aligned.moved:
            return replace(aligned, char_edits=other.char_edits, word_edits=other.word_edits)
        return other

    def _statistics(
        self, wanted: tuple[str, ...], got: tuple[str, ...], aligned: Alignment, best: tuple[float, ...]
    ) -> tuple[float, ...]:
        row = list(best)
        row[CHAR_EDITS], row[WORD_EDITS] = aligned.char_edits, aligned.word_edits
        if row[MUST]:
            row[MUST_RIGHT] -= sum(
                number in missed
                for line, missed in aligned.words_missed().items()
                for number in self._must(wanted[line])
            )
        if row[NUMBERS]:
            row[NUMBERS_RIGHT] = recalled(numbers_in(" ".join(wanted)), numbers_in(" ".join(got)))
        if row[DATES]:
            row[DATES_RIGHT] = recalled(dates_in("\n".join(wanted)), dates_in("\n".join(got)))
        row[EXACT] = float(aligned.char_edits == 0)
        return _with_losses(row)

    def _must(self, line: str) -> list[int]:
        """The numbers of the words of a line that must be right."""
        return critical_token_indexes(line.split(), self._table.must, self._words)

    def _count_of_must(self, lines: Sequence[str], words: Sequence[str]) -> int:
        """How many words of all lines must be right; the same word is looked at once, where places do not matter."""
        if "names" in self._table.must:
            return sum(len(self._must(line)) for line in lines)
        try:
            return sum(map(self._known_words.__getitem__, words))
        except KeyError:
            distinct = [*set(words)]
            critical = critical_token_indexes(distinct, self._table.must, self._words)
            if len(self._known_words) > _MOST_WORDS:
                self._known_words.clear()
            self._known_words |= dict.fromkeys(distinct, 0) | {distinct[n]: 1 for n in critical}
            return sum(map(self._known_words.__getitem__, words))

    def _value(self, row: tuple[float, ...]) -> float:
        if self._table.score == "exact":
            return row[EXACT]
        if self._table.score == "must":
            return row[MUST_RIGHT] / row[MUST] if row[MUST] else 1.0
        lost, weight = (CHARS_LOST, CHAR_WEIGHT) if self._table.score == "characters" else (WORDS_LOST, WORD_WEIGHT)
        return 1.0 - row[lost] / row[weight]

    @override
    def without(self, score: CaseScore, expected: Any, causes: Collection[str]) -> CaseScore:
        """Edits reported word by word may come to more than there are in all."""
        found = super().without(score, expected, causes)
        if found.parts:
            return found
        row = list(found.statistics)
        row[CHAR_EDITS], row[WORD_EDITS] = max(row[CHAR_EDITS], 0.0), max(row[WORD_EDITS], 0.0)
        return found._replace(statistics=_with_losses(row))

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        row = list(self.best(expected).statistics)
        # Where nothing is expected, an answer that is not valid is one character and one word too many.
        row[CHAR_EDITS], row[WORD_EDITS] = max(row[CHARS], 1.0), max(row[WORDS], 1.0)
        row[MUST_RIGHT] = row[NUMBERS_RIGHT] = row[DATES_RIGHT] = row[EXACT] = 0.0
        return CaseScore(_with_losses(row), 0.0, (Finding(self._table.at, shown(expected), "nothing", why),))

    @override
    def best(self, expected: Any) -> CaseScore:
        return self._known(expected).best

    def _known(self, expected: str) -> _Expected:
        """What is known of an expected output: of the last one, for answers come case by case, of all arms."""
        if self._last is None or self._last.text != expected:
            lines = self._folded(expected)
            self._last = _Expected(expected, lines, self._best_of(lines))
        return self._last

    def _folded(self, text: str) -> tuple[str, ...]:
        return tuple(self._table.lines(text if self._table.quotes else without_quotes(text)))

    def _best_of(self, lines: tuple[str, ...]) -> CaseScore:
        text = "\n".join(lines)
        every = text.split()
        must, size = float(self._count_of_must(lines, every)), float(len(text))
        numbers, dates = float(len(numbers_in(" ".join(lines)))), float(len(dates_in(text)))
        row = [0.0, size, 0.0, float(len(every)), must, must, numbers, numbers, dates, dates, 1.0, 1.0, *(0.0,) * 4]
        return CaseScore(_with_losses(row), 1.0)

    def score_of(self, totals: Floats) -> Floats:
        """1 less what is lost over what is expected, of all cases together; or the share that `score` names."""
        return self.figures(totals)[self.what]

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """An error rate of nothing expected is 0, a recall of nothing is 1.

        Error rate: the fewest substitutions, deletions and insertions that turn what was read into what is written
        (V. I. Levenshtein, Sov. Phys. Dokl. 10, 1966), over the length of what is written, summed over the corpus.
        """

        chars = share(totals[..., CHAR_EDITS], totals[..., CHARS], 0.0)
        words = share(totals[..., WORD_EDITS], totals[..., WORDS], 0.0)
        return {
            "characters right": 1.0 - share(totals[..., CHARS_LOST], totals[..., CHAR_WEIGHT], 0.0),
            "words right": 1.0 - share(totals[..., WORDS_LOST], totals[..., WORD_WEIGHT], 0.0),
            "character error rate": chars,
            "word error rate": words,
            "required words correct": share(totals[..., MUST_RIGHT], totals[..., MUST]),
            "numbers found": share(totals[..., NUMBERS_RIGHT], totals[..., NUMBERS]),
            "dates found": share(totals[..., DATES_RIGHT], totals[..., DATES]),
            "exact matches": share(totals[..., EXACT], totals[..., CASES], 0.0),
        }
