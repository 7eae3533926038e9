"""Labels in free text: which of the list a text names."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Literal

from drovik.scoring.language import english

Pick = Literal["only", "first", "last"]


@lru_cache(maxsize=64)
def _pattern(words: tuple[str, ...]) -> re.Pattern[str]:
    longest_first = sorted(words, key=len, reverse=True)
    return re.compile(r"(?<!\w)(?:" + "|".join(re.escape(word) for word in longest_first) + r")(?!\w)")


def labels_in(text: str, index: Mapping[str, int], fold: Callable[[str], str]) -> list[int]:
    """The labels that a text names, by their numbers, in the order of the text; what it denies is not named.

    :param index: from each folded label or other word for it to the label's number. Where "hat box" and "hat" are
        both there, "hat box" names the first alone.
    """
    pattern = _pattern(tuple(index))
    found = []
    for clause in re.split(r"[.!?;:,()\n]", text):
        folded = fold(clause)
        words = english.words_of(folded)
        starts = [start for _, start in words]
        denied = english.denied([word for word, _ in words])
        for match in pattern.finditer(folded):
            number = min(bisect_left(starts, match.start()), len(words) - 1)
            if not words or not denied[number]:
                found.append(index[match[0]])
    return found


def picked(found: list[int], pick: Pick) -> int | None:
    """The one label that is meant; None where there is none, or where `only` one is allowed and there are several."""
    distinct = list(dict.fromkeys(found))
    if not distinct or (pick == "only" and len(distinct) > 1):
        return None
    return found[-1] if pick == "last" else found[0]
