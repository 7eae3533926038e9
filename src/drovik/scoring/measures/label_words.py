"""The words of a label measure: its table, how they are compared, which label a value is, what is wrong with them.

Labels in free text: which of the list a text names.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, Literal

from pydantic import Field

from drovik.errors import Problem, known_words
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.json_pointer import Pointer
from drovik.scoring.language import english
from drovik.scoring.language.english import is_plural_of
from drovik.text import folded

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


def pick_label(found: list[int], pick: Pick) -> int | None:
    """The one label that is meant; None if there is none, or where `only` one is allowed and there are several."""
    distinct = list(dict.fromkeys(found))
    if not distinct or (pick == "only" and len(distinct) > 1):
        return None
    return found[-1] if pick == "last" else found[0]


_OF_MANY = ("accuracy", "macro_f1", "micro_f1")


class LabelTable(Frozen):
    """The table of a label measure in question.toml.

    `many`: the answer is a list of labels. `ordered`: the labels are in order, and distance counts. `parts`: labels
    are paths, with this between their steps. `none`: the label that a null stands for. `top`: the answer is a list,
    right where the label is among the first this many. `find`: the label is found in free text. `confidence`: where
    the answer says how sure it is; `precision` is what is wanted of those that are kept.
    """

    at: Pointer = ""
    labels: list[str] | None = None
    same_as: dict[str, str] = {}
    fold_case: bool = True
    fold_plural: bool = False
    many: bool = False
    ordered: bool = False
    parts: str | None = Field(default=None, min_length=1)
    none: str | None = None
    top: int | None = Field(default=None, ge=1)
    find: Pick | None = None
    confidence: Pointer | None = None
    precision: float = Field(default=0.95, gt=0, le=1)
    score: Literal[
        "accuracy", "balanced_accuracy", "macro_f1", "micro_f1", "weighted_f1", "matthews", "kappa", "closeness",
        "path_f1",
    ] = "accuracy"  # fmt: skip


def folded_label(text: str, fold_case: bool) -> str:
    """A label as it is compared: Unicode NFKC, single spaces, and no letter case unless that counts."""
    if text.isascii() and "  " not in text:
        plain = " ".join(text.split())
        return plain.lower() if fold_case else plain
    return folded(text, case=not fold_case)


def index_of(labels: Sequence[str], table: LabelTable) -> dict[str, int]:
    """Every folded label, and every other word for one, with the label's number."""
    index = {folded_label(label, table.fold_case): number for number, label in enumerate(labels)}
    for other, label in table.same_as.items():
        index.setdefault(folded_label(other, table.fold_case), index[folded_label(label, table.fold_case)])
    return index


def number_of(value: Any, index: Mapping[str, int], table: LabelTable) -> int | None:
    """The number of the label that a value is; None where it is none.

    A true is "yes" and a false "no", or "true" and "false", whichever are labels; whole numbers are their digits.
    """
    if isinstance(value, bool):
        words = ("yes", "true") if value else ("no", "false")
        return next((index[word] for word in words if word in index), None)
    if value is None and table.none is not None:
        value = table.none
    if isinstance(value, int):
        value = str(value)
    if not isinstance(value, str):
        return None
    text = folded_label(value, table.fold_case)
    number = index.get(text)
    if number is None and table.fold_plural:
        number = next((n for label, n in index.items() if is_plural_of(text, label)), None)
    return number


def problems_of_labels(labels: Sequence[str], table: LabelTable, task: Task, place: str) -> list[Problem]:
    """What is wrong with a label measure's table."""
    if not labels:
        remedy = 'add them, like labels = ["yes", "no"]'
        return [Problem("the labels are not listed", remedy, task.file, f"{place}.labels")]
    return [
        Problem(what, remedy, task.file, f"{place}.{key}" if key else place)
        for what, remedy, key in (*_wrong_words(labels, table), *_wrong_choices(table))
    ]


def _wrong_words(labels: Sequence[str], table: LabelTable) -> Iterator[tuple[str, str, str]]:
    """What is wrong with the labels and the other words for them, what to do, and where."""
    seen: set[str] = set()
    for label in labels:
        one = folded_label(label, table.fold_case)
        if one in seen:
            yield f"'{label}' is listed twice", "take one out", "labels"
        if not one:
            yield "a label is empty", "give it a word", "labels"
        seen.add(one)
    for other, label in table.same_as.items():
        if folded_label(label, table.fold_case) not in seen:
            yield f"'{label}' is not a label", known_words(label, labels), f"same_as.{other}"
        if folded_label(other, table.fold_case) in seen:
            yield f"'{other}' is a label itself", "take it out", "same_as"
    if table.none is not None and folded_label(table.none, table.fold_case) not in seen:
        yield f"'{table.none}' is not a label", known_words(table.none, labels), "none"


def _wrong_choices(table: LabelTable) -> Iterator[tuple[str, str, str]]:
    """Options that do not go together, what to do, and where."""
    if table.score == "closeness" and not table.ordered:
        yield 'score = "closeness" is for labels in order', "add ordered = true", "score"
    if table.score == "path_f1" and not table.parts:
        yield 'score = "path_f1" is for labels that are paths', 'add parts = "/"', "score"
    if not table.many:
        return
    if table.score not in _OF_MANY:
        yield f'many labels have no score "{table.score}"', known_words(table.score, _OF_MANY), "score"
    for key in ("ordered", "parts", "top", "find", "confidence"):
        if getattr(table, key):
            yield f"'{key}' goes with one label, not with many", "take it out", key
