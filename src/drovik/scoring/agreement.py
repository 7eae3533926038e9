"""How much several answers to one question agree."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Hashable, Mapping, Sequence
from itertools import combinations

from drovik.parsing.answer_text import Answer
from drovik.project.arms import canonical


def word_overlap(first: str, second: str) -> float:
    """The share of words that two texts have in common: twice the common ones over all (Dice 1945), 0 to 1.

    Letter case and punctuation do not count; a word counts as often as it comes. Two empty texts agree.
    """
    one, two = (Counter(re.findall(r"\w+", text.lower())) for text in (first, second))
    size = one.total() + two.total()
    return 2 * (one & two).total() / size if size else 1.0


def agreement(texts: Sequence[str]) -> float:
    """The mean word overlap of all pairs of texts; 1 for fewer than two."""
    pairs = [word_overlap(one, two) for one, two in combinations(texts, 2)]
    return sum(pairs) / len(pairs) if pairs else 1.0


def comparable(answer: Answer) -> str:
    """What two answers have to have in common to be the same: the value, however it was wrapped, else the words."""
    if answer.value is not None and not isinstance(answer.value, str):
        return canonical(answer.value)
    return " ".join(answer.text.split())


def pairwise_agreement(cases: Mapping[str, Sequence[Hashable | None]]) -> float | None:
    """The share of pairs within each case that are the same, over all pairs; None if there is no pair.

    What failed is None: it agrees with nothing, not even with another failure.
    """
    pairs = same = 0
    for values in cases.values():
        pairs += len(values) * (len(values) - 1) // 2
        counts = Counter(one for one in values if one is not None)
        same += sum(count * (count - 1) // 2 for count in counts.values())
    return same / pairs if pairs else None
