"""Why a label was missed."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from drovik.scoring.causes.cause_table import ANOTHER_LABEL
from drovik.scoring.language.english import is_plural_of

NEAR = 0.75
"""So alike two spellings have to be (see `likeness`) for the one to be meant by the other."""


def label_cause(
    expected: str,
    got: Any,
    labels: Sequence[str],
    fold: Callable[[str], str],
    same_as: Mapping[str, str] | None = None,
    parts: str | None = None,
) -> str:
    """Why a label was missed.

    :param fold: how labels are compared.
    :param same_as: other words for labels, by the word.
    :param parts: what stands between the parts of a label that is a path; None where labels are none.
    """
    if not isinstance(got, str) or not got.strip():
        return "no label at its place"
    said, wanted = fold(got), fold(expected)
    others = [fold(label) for label in labels if fold(label) != wanted]
    if said in others:
        return ANOTHER_LABEL
    aliases = {fold(word): fold(label) for word, label in (same_as or {}).items()}
    if said in aliases:
        return "alias of the label" if aliases[said] == wanted else ANOTHER_LABEL
    tests = (*_TESTS, ("part of the label's path", _part_test(parts))) if parts else _TESTS
    for name, explains in tests:
        if explains(said, wanted):
            # "cap" is a part of "cap or hat" too: what names several labels names none.
            if any(_has_word(said, one) for one in others if not _has_word(wanted, one)):
                return "several labels"
            return name
        if any(explains(said, one) for one in others):
            return ANOTHER_LABEL
    return "outside the list"


def _has_word(text: str, word: str) -> bool:
    return bool(word) and re.search(rf"(?<!\w){re.escape(word)}(?!\w)", text) is not None


def _is_plural(said: str, wanted: str) -> bool:
    one, other = said.casefold(), wanted.casefold()
    return is_plural_of(one, other) or is_plural_of(other, one)


def _has_plural(said: str, wanted: str) -> bool:
    words, size = re.findall(r"\w+", said), len(wanted.split())
    return any(_is_plural(" ".join(words[n : n + size]), wanted) for n in range(len(words) - size + 1))


def _is_near(said: str, wanted: str) -> bool:
    from rapidfuzz.distance import OSA

    one, other = said.casefold(), wanted.casefold()
    return bool(OSA.normalized_similarity(one, other) >= NEAR) and one[:1] == other[:1]


def _part_test(parts: str) -> Callable[[str, str], bool]:
    def is_part(said: str, wanted: str) -> bool:
        steps = wanted.split(parts)
        path = said.strip(parts).split(parts)
        return len(path) < len(steps) and any(
            steps[n : n + len(path)] == path for n in range(len(steps) - len(path) + 1)
        )

    return is_part


_TESTS: tuple[tuple[str, Callable[[str, str], bool]], ...] = (
    ("letter case", lambda said, wanted: said.casefold() == wanted.casefold()),
    ("plural of the label", _is_plural),
    ("other words around the label", lambda said, wanted: _has_word(said.casefold(), wanted.casefold())),
    ("plural of the label", _has_plural),
    ("near spelling of the label", _is_near),
)
