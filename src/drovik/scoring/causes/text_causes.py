"""Why a text is not what is written there: lines and words dropped, added, misread, or turned into their opposite."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from rapidfuzz.distance import Levenshtein

from drovik.scoring.alignment import Alignment, EditStep
from drovik.scoring.causes.cause_table import (
    ANOTHER_CURRENCY,
    ANOTHER_VALUE,
    CUT_SHORT,
    LETTER_CASE_SPACES_OR_ACCENTS,
    LINE_DROPPED,
    LINES_IN_ANOTHER_ORDER,
    NEGATION_ADDED,
    NEGATION_LOST,
    OPPOSITE_WORD,
    OTHER_WORDS,
    WORDS_ADDED,
    WORDS_DROPPED,
)
from drovik.scoring.causes.value_causes import plain_cause
from drovik.scoring.language.english import is_negation, is_opposite
from drovik.scoring.measure import Finding
from drovik.scoring.rules.quantities import CURRENCIES, currency_of

MOST = 20
"""This many findings tell enough of one text."""


def text_findings(aligned: Alignment, chars: int, words: int) -> tuple[Finding, ...]:
    """What differs between two texts.

    :param chars: where in the statistics the edits of characters stand.
    :param words: where those of words do.
    """
    if aligned.moved:
        effect = ((chars, -float(aligned.char_edits)), (words, -float(aligned.word_edits)))
        first = next(n for n, line in enumerate(aligned.wanted) if aligned.got[n] != line)
        return (Finding(_line(first), aligned.wanted[first], aligned.got[first], LINES_IN_ANOTHER_ORDER, effect),)
    cut = _cut_short(aligned)
    found = []
    for (one, other), steps in aligned.steps:
        if other is None and one is not None:
            cause = CUT_SHORT if cut is not None and one >= cut else LINE_DROPPED
            found.append(_finding(_line(one), (aligned.wanted[one],), (), cause, chars, words))
        elif one is None and other is not None:
            found.append(_finding(_line(other), (), (aligned.got[other],), WORDS_ADDED, chars, words))
        else:
            last = bool(cut is not None and one is not None and one >= cut)
            found += _within(_line(one or 0), steps, chars, words, last)
    return tuple(found[:MOST])


@lru_cache(maxsize=1_000)
def _line(number: int) -> str:
    return f"line {number + 1}"


def _cut_short(aligned: Alignment) -> int | None:
    """From which expected line on nothing came, where what came is only the beginning; None where it is not."""
    wanted, got = "\n".join(aligned.wanted), "\n".join(aligned.got).rstrip(".…")
    if got and wanted.startswith(got):
        return max(len(aligned.got) - 1, 0)
    return None


def _within(where: str, steps: Sequence[EditStep], chars: int, words: int, cut: bool) -> list[Finding]:
    """What differs within two lines that go together."""
    found = []
    for number, step in enumerate(steps):
        if step.kind == "equal" or _begins_anew(steps, number):
            continue
        if step.kind == "replace" and len(step.wanted) == len(step.got) and not step.has_same_letters():
            for place, (wanted, got) in enumerate(zip(step.wanted, step.got, strict=True)):
                cause = word_cause(wanted, got)
                if cause == OTHER_WORDS and _are_currencies(wanted, got, _beside(steps, number, place)):
                    cause = ANOTHER_CURRENCY
                elif cause == OTHER_WORDS and any(is_opposite(_bare(wanted), _bare(other)) for other in step.got):
                    cause = OPPOSITE_WORD
                found.append(_finding(where, (wanted,), (got,), cause, chars, words))
            continue
        ended = step.kind == "delete" and cut and number == len(steps) - 1
        cause = CUT_SHORT if ended else _run_cause(step)
        found.append(_finding(where, step.wanted, step.got, cause, chars, words))
    return found


def _beside(steps: Sequence[EditStep], number: int, place: int) -> tuple[str, ...]:
    """The expected words before and after one of a step."""
    before = [word for step in steps[:number] for word in step.wanted] + list(steps[number].wanted[:place])
    after = [*steps[number].wanted[place + 1 :], *(word for step in steps[number + 1 :] for word in step.wanted)]
    return (*before[-1:], *after[:1])


def _are_currencies(wanted: str, got: str, beside: Sequence[str]) -> bool:
    """Whether two words name two currencies: only where an amount is beside them are they more than three letters."""
    codes = {currency_of(word.lower()) for word in (wanted, got) if word.lower() in CURRENCIES or word.isupper()}
    return None not in codes and len(codes) == 2 and any(any(map(str.isdigit, word)) for word in beside)


def _begins_anew(steps: Sequence[EditStep], number: int) -> bool:
    """Whether a word differs only in its capital because the word that it follows was dropped or added."""
    step = steps[number]
    if step.kind != "replace" or step.wanted[0].casefold() != step.got[0].casefold() or number == 0:
        return False
    return steps[number - 1].kind in ("delete", "insert") and step.wanted[0][1:] == step.got[0][1:]


def _run_cause(step: EditStep) -> str:
    if step.has_same_letters():
        return LETTER_CASE_SPACES_OR_ACCENTS
    lost = [word for word in step.wanted if is_negation(word)]
    gained = [word for word in step.got if is_negation(word)]
    if len(lost) != len(gained):
        return NEGATION_LOST if len(lost) > len(gained) else NEGATION_ADDED
    return WORDS_DROPPED if step.kind == "delete" else WORDS_ADDED


def _bare(word: str) -> str:
    return word.lower().strip(".,;:!?()\"'")


@lru_cache(maxsize=50_000)
def word_cause(wanted: str, got: str) -> str:
    """Why a word was read as another."""
    one, other = _bare(wanted), _bare(got)
    if is_negation(wanted) != is_negation(got):
        return NEGATION_LOST if is_negation(wanted) else NEGATION_ADDED
    if is_opposite(one, other):
        return OPPOSITE_WORD
    cause = plain_cause(wanted, got)
    if cause == ANOTHER_VALUE and one == other:
        return LETTER_CASE_SPACES_OR_ACCENTS
    return OTHER_WORDS if cause == ANOTHER_VALUE else cause


def _finding(
    where: str, wanted: tuple[str, ...], got: tuple[str, ...], cause: str, chars: int, words: int
) -> Finding:

    one, other = " ".join(wanted), " ".join(got)
    spaces = abs(len(wanted) - len(got)) if not wanted or not got else 0
    edits = Levenshtein.distance(one, other) + bool(spaces)
    effect = _effect(chars, edits, words, max(len(one.split()), len(other.split())))
    return Finding(where, one or "nothing", other or "nothing", cause, effect)


@lru_cache(maxsize=10_000)
def _effect(chars: int, edits: int, words: int, many: int) -> tuple[tuple[int, float], ...]:
    return (chars, -float(edits)), (words, -float(many))
