"""How much several answers to one question agree."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Any, Literal

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


@dataclass(frozen=True)
class AnswersAgreement:
    """How far several answers to one question agree, 0 to 1; by what they were compared; and which came how often."""

    share: float
    by: Literal["yes or no", "label", "fields", "words"]
    counts: tuple[tuple[str, int], ...]


_YES_NO = re.compile(r"\W*(yes|no)\b", re.IGNORECASE)
_LABEL = re.compile(r"\S+|(?!an? |the )\S+(?: \S+){1,2}(?<![.!?])", re.IGNORECASE)
"""One word, or two or three that are no sentence; all else is prose."""


def agreement_of_answers(answers: Sequence[Answer]) -> AnswersAgreement:
    """How far several answers agree as what they are: yes or no, labels, fields of JSON; words for prose alone."""
    values = [one.value for one in answers]
    if all(isinstance(one, dict) for one in values):
        return AnswersAgreement(_of_fields(values), "fields", _counted([canonical(one) for one in values]))
    if all(one is not None and not isinstance(one, str) for one in values):
        shown = [canonical(one) for one in values]
        return AnswersAgreement(pairwise_agreement({"": shown}) or 0.0, "fields", _counted(shown))
    texts = [" ".join(one.text.split()) for one in answers]
    said = [_YES_NO.match(one) for one in texts]
    if all(said):
        words = [match[1].lower() for match in said if match]
        return AnswersAgreement(pairwise_agreement({"": words}) or 0.0, "yes or no", _counted(words))
    if all(_LABEL.fullmatch(one) for one in texts):
        labels = [one.strip(" .!\"'").casefold() for one in texts]
        return AnswersAgreement(pairwise_agreement({"": labels}) or 0.0, "label", _counted(labels))
    return AnswersAgreement(agreement(texts), "words", _counted(texts))


def _of_fields(values: Sequence[Mapping[str, Any]]) -> float:
    """The mean, over all members that any answer has, of the share of pairs that have the same there."""
    names = dict.fromkeys(name for one in values for name in one)
    shares = [pairwise_agreement({"": [canonical(one.get(name)) for one in values]}) or 0.0 for name in names]
    return sum(shares) / len(shares) if shares else 1.0


def _counted(shown: Sequence[str]) -> tuple[tuple[str, int], ...]:
    return tuple(Counter(shown).most_common())
