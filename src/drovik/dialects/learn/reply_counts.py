"""Where a sample reply counts tokens: by what the page says, by names, by their arithmetic, and by their size.

Two counts that a third is the sum of are the input and the output; what goes out is about as many tokens as the
answer has words; what goes in with a picture is far more. A name that is shared with the question's or the answer's
own member says which it is.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise, permutations
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.reply import LearnedReply
from drovik.dialects.learn.reply_answer import text_path
from drovik.dialects.learn.trees import Path, leaves, names_of, value_at
from drovik.dialects.reply_path import compile_path

_NO_COUNT = re.compile(
    r"\b(?:id|nr|no|n|at|time|ms|seconds?|took|created|date|size|width|height|rank|index|code|status|score|version|port"
    r"|expires|latency|duration|age|hatches)\b|remaining|limit"
)
_MOST = 12
"""Counts of a reply that are weighed against each other."""
_SIDES = ("input_tokens", "output_tokens")


@dataclass(frozen=True)
class _Count:
    place: str
    group: object
    value: int
    words: str
    around: str
    told: str


@dataclass(frozen=True)
class _Told:
    """What is known beside the counts: the answer's text, the names of the question's and the answer's members, and
    another reply, to see which count grew.
    """

    answer: str = ""
    asks: str = ""
    answers: str = ""
    other: Any = None


def find_tokens(
    learned: LearnedReply, tree: Any, answer: str = "", asks: str = "", answers: str = "", other: Any = None
) -> None:
    """Where tokens are counted: input, output, and those with a name of their own.

    :param other: another reply, to a question with a picture where the first had none, or the other way round.
    :param answer: the text of the sample's answer.
    :param asks: the name of the member with the question; `answers`: that of the one with the answer.
    """
    _take_pair(learned, _counts_of(learned, tree), _Told(answer, asks, answers, other))
    for path, value in leaves(tree):
        if _is_count(path, value):
            _take_counter(learned, tree, path, value)


def find_tokens_in_headers(learned: LearnedReply, headers: Mapping[str, str], answer: str = "") -> None:
    """Tokens that a reply's headers count."""
    counts = [
        _Count(f"header {name}", "headers", int(value), words.spaced_name(name), "", "")
        for name, value in headers.items()
        if value.isdigit() and len(value) < 10 and (words.USAGE.search(words.spaced_name(name)))
    ]
    _take_pair(learned, counts, _Told(answer))


def _counts_of(learned: LearnedReply, tree: Any) -> list[_Count]:
    found = []
    for path, value in leaves(tree):
        if not _is_count(path, value):
            continue
        names = [words.spaced_name(one) for one in names_of(path)]
        sort = _sort_word(tree, path)
        if _NO_COUNT.search(names[-1]) or words.OTHER_COUNTERS.search(f"{names[-1]} {sort}"):
            continue
        group = path[:-2] if sort else path[:-1]
        told = learned.evidence.told.get(str(path[-1]), "")
        place = text_path(tree, path, every=False)
        found.append(_Count(place, group, value, f"{sort} {names[-1]}".strip(), " ".join(names[:-1]), told))
    return found[:_MOST]


def _sort_word(tree: Any, path: Path) -> str:
    """What the element of a list says that it counts; empty where the count is in no list."""
    if len(path) < 2 or not isinstance(path[-2], int):
        return ""
    around = value_at(tree, path[:-1])
    said = [value for value in around.values() if isinstance(value, str)] if isinstance(around, dict) else []
    return words.spaced_name(said[0]) if said else ""


def _is_count(path: Path, value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0 and bool(names_of(path))


def _take_pair(learned: LearnedReply, counts: list[_Count], told: _Told) -> None:
    """The likeliest pair of input and output, if there is one; else the one that its name says."""
    if all(side in learned.form for side in _SIDES):
        return
    ranked = sorted(
        (
            (_weigh(one, two, counts, told), one, two)
            for one, two in permutations(counts, 2)
            if one.group == two.group
        ),
        key=lambda found: -found[0][0],
    )
    if ranked and ranked[0][0][0] >= 1.5 and not any(side in learned.form for side in _SIDES):
        (score, why, certain), first, second = ranked[0]
        margin = score - next((other[0] for other, *pair in ranked[1:] if pair != [first, second]), -9.0)
        for side, count in zip(_SIDES, (first, second), strict=True):
            learned.form[side] = count.place
            learned.take(side.replace("_", " "), count.place, count.value, why, certain and margin >= 1)
        return
    for side, sign in zip(_SIDES, (words.IN_TOKENS, words.OUT_TOKENS), strict=True):
        named = [one for one in counts if sign.search(one.words) and (_is_usage(one) or "header" in one.place)]
        if named and side not in learned.form:
            best = max(named, key=lambda one: "token" in one.words)
            learned.form[side] = best.place
            learned.take(side.replace("_", " "), best.place, best.value, "by its name")


def _is_usage(one: _Count) -> bool:
    return "token" in one.words or words.USAGE.search(f"{one.around} {one.words} {one.told}") is not None


def _weigh(one: _Count, two: _Count, counts: list[_Count], told: _Told) -> tuple[float, str, bool]:
    """How likely `one` counts what goes in and `two` what comes out, why, and whether names or sums say it."""
    first, second = _named(one, told.asks, told.answers), _named(two, told.asks, told.answers)
    by_name = first[0] - first[1] + second[1] - second[0]
    summed = any(other.value == one.value + two.value > 0 for other in counts if other not in (one, two))
    summed = summed or _total_of(one, two, counts)
    spoken = len(told.answer.split())
    by_size = 1.0 * (one.value >= 3 * max(1, two.value)) - 1.0 * (two.value >= 3 * max(1, one.value))
    by_size += 1.0 * (spoken > 0 and spoken * 0.5 <= two.value <= spoken * 4 + 8 and one.value > two.value)
    grew = _growth(one, told.other) - _growth(two, told.other)
    by_growth = 2.5 * (abs(grew) >= _LEAST_GROWTH) * (1 if grew > 0 else -1)
    score = by_name + by_size + by_growth + 2.0 * summed + 1.0 * (_is_usage(one) and _is_usage(two))
    score += 0.3 * (counts.index(one) < counts.index(two))
    why = "by its name" if by_name >= 1 else "by its size beside the other count's"
    if by_growth > 0 and by_name < 1:
        why = "it grew with the picture, and the other count did not"
    certain = (
        (by_growth > 0 and by_name >= 0)
        or (by_name >= 2 and by_size >= 0)
        or (summed and by_name + by_size >= 1)
        or (by_name >= 1 and by_size >= 1)
    )
    return score, f"{why}, and a third is their sum" if summed else why, certain


_LEAST_GROWTH = 20
"""Tokens: a picture costs more than that, and an answer's words hardly differ by as many."""


def _growth(count: _Count, other: Any) -> int:
    """By how much a count differs in another reply; the larger one is that with the picture."""
    found = [] if other is None or count.place.startswith("header") else compile_path(count.place)(other)
    return abs(found[0] - count.value) if found and isinstance(found[0], int) else 0


def _total_of(one: _Count, two: _Count, counts: list[_Count]) -> bool:
    return any(
        other.value == one.value + two.value > 0 and other.group == one.group
        for other in counts
        if other not in (one, two)
    )


def _named(one: _Count, asks: str, answers: str) -> tuple[float, float]:
    """How much the name of a count says that it is of the input, and of the output."""
    own = set(one.words.split())
    told = f"{one.words} {one.told.lower()}"
    into = 1.0 * bool(words.IN_TOKENS.search(told)) + 1.0 * bool(own & _stems(asks))
    out = 1.0 * bool(words.OUT_TOKENS.search(told)) + 1.0 * bool(own & _stems(answers))
    return into, out


def _stems(name: str) -> set[str]:
    """A member's name as words, and the forms they take in another: `ask` in `asked`, `bit` in `bits`."""
    found = set(words.spaced_name(name).split())
    return (
        found
        | {one + ending for one in found for ending in ("s", "ed", "d", "ing")}
        | {one.removesuffix("s") for one in found}
    )


def _take_counter(learned: LearnedReply, tree: Any, path: Path, value: int) -> None:
    """A count of some of the tokens: those that were cached, those that were thought."""
    name = words.folded_name(names_of(path)[-1])
    kind = "cached" if "cach" in name else "thinking" if re.search(r"think|reason", name) else None
    if not kind or kind in learned.form.get("counters", {}):
        return
    inside = "input" if kind == "cached" else "output"
    place = text_path(tree, path, every=False)
    learned.form.setdefault("counters", {})[kind] = {"at": place, "within": inside}
    why = f"by its name; whether the {inside} counts them too is not known"
    learned.take(f"{kind} tokens", place, value, why, sure=False)


def find_usage(learned: LearnedReply, trees: list[Any]) -> None:
    """Whether the counts of the pieces are to be added up: they are where one is less than one before."""
    places = [learned.form[name] for name in _SIDES if name in learned.form]
    for place in places:
        counts = [one for tree in trees for one in compile_path(place)(tree) if isinstance(one, int)]
        if any(later < before for before, later in pairwise(counts)):
            learned.form["usage"] = "sum"
            learned.take("usage", place, " + ".join(map(str, counts[:6])), "a later count is less than one before")
            return
    if places and sum(any(compile_path(place)(tree) for place in places) for tree in trees) > 1:
        learned.take("usage", places[0], "the last counts", "counts come more than once, and never fall", sure=False)
