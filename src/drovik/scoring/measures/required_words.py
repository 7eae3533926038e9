"""The words of a text that must be right: numbers, dates, negations, names."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Sequence
from functools import lru_cache
from typing import NamedTuple

from drovik.scoring.language.english import is_negation
from drovik.scoring.rules.quantities import numerals, readings
from drovik.scoring.rules.text_rules import read_date

_TEXTS = 1_000
"""Whole texts that are remembered: an expected one for as long as the answers of all arms are held against it."""
_DIGIT = re.compile(r"\d")
_BETWEEN_NUMBERS = re.compile(r"[,.]\s+")
"""A comma or a stop with a space behind it parts numbers; it groups no thousands."""
_DATE = re.compile(
    r"\d{4}-\d{1,2}-\d{1,2}|\d{1,2}[./-]\d{1,2}[./-]\d{2,4}|\d{1,2}\.?(?:st|nd|rd|th)? [^\W\d]{3,9}\.?,? \d{4}"
    r"|[^\W\d]{3,9} \d{1,2}(?:st|nd|rd|th)?, \d{4}"
)


def critical_token_indexes(words: Sequence[str], kinds: Collection[str], listed: Collection[str]) -> list[int]:
    """The numbers of those words that must be right.

    A name is a word with a capital that does not begin a line or a sentence, and whatever holds letters and digits
    together.
    """
    if "names" not in kinds:
        numbers, negations = "numbers" in kinds, "negations" in kinds
        if not listed:
            return [n for n, word in enumerate(words) if _must(word, numbers, negations)]
        return [
            n
            for n, word in enumerate(words)
            if word in listed or _word(word).bare in listed or _must(word, numbers, negations)
        ]
    found = []
    begins = True
    for number, word in enumerate(words):
        one = _word(word)
        if (
            (one.has_digit and ("numbers" in kinds or (one.has_letter and "names" in kinds)))
            or (one.denies and "negations" in kinds)
            or (one.is_capital and not begins and "names" in kinds)
            or (listed and (word in listed or one.bare in listed))
        ):
            found.append(number)
        begins = one.ends
    return found


@lru_cache(maxsize=200_000)
def _must(word: str, numbers: bool, negations: bool) -> bool:
    """Whether a word must be right that needs no look at the words before it."""
    one = _word(word)
    return (numbers and one.has_digit) or (negations and one.denies)


class _Word(NamedTuple):
    """What tells whether a word must be right."""

    bare: str
    has_digit: bool
    has_letter: bool
    denies: bool
    is_capital: bool
    ends: bool


@lru_cache(maxsize=200_000)
def _word(word: str) -> _Word:
    bare = word.strip(".,;:!?()[]\"'")
    return _Word(
        bare=bare,
        has_digit=_DIGIT.search(bare) is not None,
        has_letter=any(char.isalpha() for char in bare),
        denies=is_negation(word),
        is_capital=bare[:1].isupper(),
        ends=word.endswith((".", "!", "?", ":")),
    )


def has_digit(text: str) -> bool:
    """Whether there is a decimal digit in a text, of whichever script."""
    return any(digit in text for digit in "0123456789") or (not text.isascii() and _DIGIT.search(text) is not None)


@lru_cache(maxsize=_TEXTS)
def numbers_in(text: str) -> tuple[str, ...]:
    """The numbers of a text as they would be written plainly, in order: "1.250,00" is 1250.0."""
    if not has_digit(text):
        return ()
    found = []
    for several, _, _ in numerals(text):
        for body in _BETWEEN_NUMBERS.split(several.strip()):
            for part in body.split(" ") if not readings(body) else [body]:
                values = readings(part)
                found.append(repr(values[0]) if values else part)
    return tuple(found)


@lru_cache(maxsize=_TEXTS)
def dates_in(text: str) -> tuple[str, ...]:
    """The dates of a text in ISO form, in order; day first where that is not told."""
    if not has_digit(text):
        return ()
    dates = [read_date(match[0]) for match in _DATE.finditer(text)]
    return tuple(one.isoformat() for one in dates if one is not None)


def recalled(wanted: Sequence[str], got: Sequence[str]) -> int:
    """How many of some values came, each as often as it is expected."""
    return (Counter(wanted) & Counter(got)).total()
