"""The words of a text that must be right: numbers, dates, negations, names."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Sequence
from functools import lru_cache

from drovik.scoring.language.english import is_negation
from drovik.scoring.rules.dates import read_date
from drovik.scoring.rules.numerals import numerals, readings

_DATE = re.compile(
    r"\d{4}-\d{1,2}-\d{1,2}|\d{1,2}[./-]\d{1,2}[./-]\d{2,4}|\d{1,2}\.?(?:st|nd|rd|th)? [^\W\d]{3,9}\.?,? \d{4}"
    r"|[^\W\d]{3,9} \d{1,2}(?:st|nd|rd|th)?, \d{4}"
)


def must_be_right(words: Sequence[str], kinds: Collection[str], listed: Collection[str]) -> list[int]:
    """The numbers of those words that must be right.

    A name is a word with a capital that does not begin a sentence, and whatever holds letters and digits together.
    """
    found = []
    for number, word in enumerate(words):
        bare = word.strip(".,;:!?()[]\"'")
        has_digit = any(char.isdigit() for char in bare)
        begins = number == 0 or words[number - 1].endswith((".", "!", "?", ":"))
        if (
            bare in listed
            or word in listed
            or ("numbers" in kinds and has_digit)
            or ("negations" in kinds and is_negation(word))
            or ("names" in kinds and bare[:1].isupper() and not begins)
            or ("names" in kinds and has_digit and any(char.isalpha() for char in bare))
        ):
            found.append(number)
    return found


@lru_cache(maxsize=50_000)
def numbers_in(text: str) -> tuple[str, ...]:
    """The numbers of a text as they would be written plainly, in order: "1.250,00" is 1250.0."""
    if not any(char.isdigit() for char in text):
        return ()
    found = []
    for body, _, _ in numerals(text):
        for part in body.split(" ") if not readings(body) else [body]:
            values = readings(part)
            found.append(repr(values[0]) if values else part)
    return tuple(found)


@lru_cache(maxsize=50_000)
def dates_in(text: str) -> tuple[str, ...]:
    """The dates of a text in ISO form, in order; day first where that is not told."""
    dates = [read_date(match[0]) for match in _DATE.finditer(text)]
    return tuple(one.isoformat() for one in dates if one is not None)


def recalled(wanted: Sequence[str], got: Sequence[str]) -> int:
    """How many of some values came, each as often as it is expected."""
    return (Counter(wanted) & Counter(got)).total()
