"""Where in a sample reply the answer stands: in one JSON document, or in the pieces of a stream."""

from __future__ import annotations

import re
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.trees import NOTHING, Evidence, Path, leaves, names_of, shown, value_at
from drovik.errors import Problem, SampleError

_THINKS = re.compile(
    r"\b(?:think\w*|thought\w*|reasoning|analysis|draft|plan|internal|mus(?:e|es|ing)|ponder\w*|reflect\w*|scratch\w*)\b"
)
_SORTS = ("type", "kind", "sort", "part")


def answer_in(tree: Any, told: str | None, evidence: Evidence = NOTHING) -> tuple[Path | None, str, bool]:
    """The place of the answer's text: by what the page says, how it reads, how long it is, and its name.

    :param evidence: `echoed` are the texts of the request, which are no answer to it.
    """
    texts = [(path, value) for path, value in leaves(tree) if isinstance(value, str) and value.strip() and path]
    if told:
        for path, value in texts:
            if shown(path) == told or value.strip() == told.strip():
                return path, "you said so", True
        pieces = [path for path, value in texts if value and value in told]
        if pieces:
            return pieces[0], "you said so", True
        raise SampleError(Problem(f"--answer-was: nothing in the sample reply is, or is at, '{told[:60]}'",
                                  "give a place such as $.answer, or the text itself"))  # fmt: skip
    groups: dict[object, list[tuple[Path, str]]] = {}
    for path, value in texts:  # pieces of one text are weighed together
        groups.setdefault((_without_numbers(path), _sort_of(tree, path)), []).append((path, value))
    scored = [
        (_answer_score(tree, found[0][0], " ".join(value for _, value in found), evidence), found[0][0])
        for found in groups.values()
    ]
    if not scored:
        return None, "", False
    (first, best), *rest = sorted(scored, key=lambda one: -one[0])
    margin = first - max((score for score, _ in rest), default=-9.0)
    named = words.ANSWER.search(words.spaced_name(names_of(best)[-1])) if names_of(best) else None
    why = f"'{names_of(best)[-1]}' is named like one" if named else "it is the text that reads like one"
    return best, why, margin >= 1.5


def _answer_score(tree: Any, path: Path, value: str, evidence: Evidence) -> float:
    names = [words.spaced_name(one) for one in names_of(path)]
    last = names[-1] if names else ""
    score = 2.0 * bool(words.ANSWER.search(last)) + 0.5 * any(words.ANSWER.search(one) for one in names[:-1])
    score += min(4.0, 0.8 * len(value.split())) - 2.0 * bool(words.ERROR.search(last))
    score -= 3.0 * bool(
        re.search(r"\b(?:id|model|object|type|kind|created|date|role|version|prompt|question)\b", last)
    )
    score += 3.0 * bool(words.TELLS_ANSWER.search(evidence.of(names_of(path)))) - 4.0 * (value in evidence.echoed)
    sort = str(_sort_of(tree, path) or "").lower()
    score -= 6.0 * bool(_THINKS.search(" ".join([words.spaced_name(sort), *names])))
    return score


def _without_numbers(path: Path) -> tuple[str, ...]:
    return tuple(step if isinstance(step, str) else "*" for step in path)


def _sort_of(tree: Any, path: Path) -> object:
    """Which sort of element of a list holds a text; None where its list does not tell sorts apart."""
    for size in range(len(path) - 1, 0, -1):
        if isinstance(path[size - 1], int):
            siblings = value_at(tree, path[: size - 1])
            key = sort_key(siblings)
            return siblings[path[size - 1]].get(key) if key is not None else None
    around = value_at(tree, path[:-1]) if path else None
    if not isinstance(around, dict):
        return None
    return next((value for name, value in around.items() if words.folded_name(name) in _SORTS), None)


def sort_key(siblings: list[Any]) -> str | None:
    """The member that says which sort of element each of a list is: by its name, or by its words."""
    if not siblings or not all(isinstance(one, dict) for one in siblings):
        return None
    for name in siblings[0]:
        values = [one.get(name) for one in siblings]
        if not all(isinstance(value, str) and re.fullmatch(r"[\w.\-]{1,30}", value) for value in values):
            continue
        is_word = all(re.fullmatch(r"[A-Za-z][A-Za-z_\-]*", str(value)) for value in values)
        is_id = re.search(r"\bid\b|key|time", words.spaced_name(name))
        if words.folded_name(name) in _SORTS or (len(set(values)) > 1 and is_word and not is_id):
            return str(name)
    return None


def text_path(tree: Any, path: Path, every: bool = True) -> str:
    """The JSONPath of a value, with a filter where a list mixes sorts.

    :param every: whether all elements of other lists are meant, as the pieces of a text are; else the one it is.
    """
    text = "$"
    for at, step in enumerate(path):
        if isinstance(step, str):
            text += shown((step,))[1:]
            continue
        siblings = value_at(tree, path[:at])
        key = sort_key(siblings)
        mixed = key is not None and any(one.get(key) != siblings[step][key] for one in siblings)
        if mixed and key:
            text += f"[?@{shown((key,))[1:]} == '{siblings[step][key]}']"
        else:
            text += "[*]" if every else f"[{step}]"
    return text


def streamed_answer(trees: list[tuple[str, Any]], told: str | None) -> tuple[Path, str, str, bool]:
    """Where each piece of the text stands, and in which events: what comes most often and reads like text."""
    found: dict[tuple[str, tuple[str, ...]], list[tuple[Path, str]]] = {}
    for name, tree in trees:
        for path, value in leaves(tree):
            if isinstance(value, str) and names_of(path):
                found.setdefault((name, _without_numbers(path)), []).append((path, value))
    if not found:
        raise SampleError(Problem("there is no text in the sample stream", "paste one that has an answer in it"))

    def score(key: tuple[str, tuple[str, ...]]) -> float:
        pieces = [value for _, value in found[key]]
        joined = "".join(pieces)
        names = [words.spaced_name(one) for one in key[1] if one != "*"]
        points = 2.0 * bool(words.ANSWER.search(names[-1])) + 3.0 * (len(set(pieces)) > 1)
        points += min(4.0, 0.8 * len(joined.split())) * (len(set(pieces)) > 1 or len(trees) == 1)
        thinks = _THINKS.search(" ".join([words.spaced_name(key[0]), *names]))
        return points - 4.0 * bool(re.search(r"\b(?:id|model|type|kind|role)\b", names[-1])) - 6.0 * bool(thinks)

    ranked = sorted(found, key=lambda key: -score(key))
    if told:
        fitting = [key for key in ranked if any(shown(path) == told for path, _ in found[key])
                   or "".join(value for _, value in found[key]).strip() == told.strip()]  # fmt: skip
        if not fitting:
            what = f"--answer-was: nothing in the sample stream is, or is at, '{told[:60]}'"
            raise SampleError(Problem(what, "give a place such as $.delta, or the whole text"))
        return found[fitting[0]][0][0], fitting[0][0], "you said so", True
    best = ranked[0]
    margin = score(best) - (score(ranked[1]) if len(ranked) > 1 else -9)
    return found[best][0][0], best[0], "its pieces read on from each other", margin >= 1.5


def text_is_at(tree: Any, path: Path) -> bool:
    """Whether a text is at a path, whatever the numbers of its lists."""
    return bool(strings_at(tree, path))


def strings_at(tree: Any, path: Path) -> list[str]:
    """The texts at a path, whatever the numbers of its lists."""
    wanted = _without_numbers(path)
    return [value for at, value in leaves(tree) if isinstance(value, str) and _without_numbers(at) == wanted]
