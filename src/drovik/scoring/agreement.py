"""How much several answers to one question agree."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import combinations


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
