"""Where in a sample reply the answer stands: in one JSON document, or in the pieces of a stream.

What a sample reply says beside its text: why it ended, tokens, the model, an error's words.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.samples import SampleReply
from drovik.dialects.learn.trees import Inference, Path, leaves, names_of, shown, value_at
from drovik.dialects.reply_path import compile_path
from drovik.errors import Problem, SampleError
from drovik.text import cut

_THINKS = re.compile(r"\b(?:think\w*|thought\w*|reasoning|analysis|draft|plan|internal)\b")


def answer_in(tree: Any, told: str | None) -> tuple[Path | None, str, bool]:
    """The place of the answer's text: by how it reads, how long it is, and its name."""
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
        (_answer_score(tree, found[0][0], " ".join(value for _, value in found)), found[0][0])
        for found in groups.values()
    ]
    if not scored:
        return None, "", False
    (first, best), *rest = sorted(scored, key=lambda one: -one[0])
    margin = first - max((score for score, _ in rest), default=-9.0)
    named = words.ANSWER.search(words.spaced_name(names_of(best)[-1])) if names_of(best) else None
    why = f"'{names_of(best)[-1]}' is named like one" if named else "it is the text that reads like one"
    return best, why, margin >= 1.5


def _answer_score(tree: Any, path: Path, value: str) -> float:
    names = [words.spaced_name(one) for one in names_of(path)]
    last = names[-1] if names else ""
    score = 2.0 * bool(words.ANSWER.search(last)) + 0.5 * any(words.ANSWER.search(one) for one in names[:-1])
    score += min(4.0, 0.8 * len(value.split())) - 2.0 * bool(words.ERROR.search(last))
    score -= 3.0 * bool(
        re.search(r"\b(?:id|model|object|type|kind|created|date|role|version|prompt|question)\b", last)
    )
    around = value_at(tree, path[:-1]) if path else None
    key = _sort_key(around)
    sort = str(around[key]).lower() if key is not None and isinstance(around, dict) else ""
    score -= 6.0 * bool(_THINKS.search(" ".join([words.spaced_name(sort), *names])))
    return score


def _without_numbers(path: Path) -> tuple[str, ...]:
    return tuple(step if isinstance(step, str) else "*" for step in path)


def _sort_of(tree: Any, path: Path) -> object:
    found = _sort_key(value_at(tree, path[:-1])) if path else None
    return found and value_at(tree, path[:-1])[found]


def _sort_key(around: Any) -> str | None:
    """The member that says which sort of piece an element of a list is."""
    if not isinstance(around, dict):
        return None
    return next((key for key, value in around.items() if words.folded_name(key) in ("type", "kind", "sort", "part")
                 and isinstance(value, str) and re.fullmatch(r"[\w.\-]{1,30}", value)), None)  # fmt: skip


def text_path(tree: Any, path: Path) -> str:
    """The JSONPath of a text, with every list's number as `[*]`, or as a filter where the list mixes sorts."""
    text = "$"
    for at, step in enumerate(path):
        if isinstance(step, str):
            text += shown((step,))[1:]
            continue
        siblings = value_at(tree, path[:at])
        element = siblings[step]
        key = _sort_key(element)
        mixed = key is not None and any(isinstance(one, dict) and one.get(key) != element[key] for one in siblings)
        text += f"[?@{shown((key,))[1:]} == '{element[key]}']" if mixed and key else "[*]"
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


@dataclass
class LearnedReply:
    """What sample replies came to; `form` is a table for a dialect's file."""

    form: dict[str, Any] = field(default_factory=dict)
    taken: list[Inference] = field(default_factory=list)

    def take(self, role: str, place: str, value: object, why: str, sure: bool = True) -> None:
        """Note what a part was taken for."""
        text = str(value)
        self.taken.append(Inference(role, place, cut(text, 60), why, sure))


def find_usage(learned: LearnedReply, trees: list[Any]) -> None:
    """Whether the counts of the pieces are to be added up: they are where one is less than one before."""

    places = [learned.form[name] for name in ("input_tokens", "output_tokens") if name in learned.form]
    for place in places:
        counts = [one for tree in trees for one in compile_path(place)(tree) if isinstance(one, int)]
        if any(later < before for before, later in pairwise(counts)):
            learned.form["usage"] = "sum"
            learned.take("usage", place, " + ".join(map(str, counts[:6])), "a later count is less than one before")
            return
    if places and sum(any(compile_path(place)(tree) for place in places) for tree in trees) > 1:
        learned.take("usage", places[0], "the last counts", "counts come more than once, and never fall", sure=False)


def find_ended(learned: LearnedReply, trees: list[Any], used: set[Path]) -> None:
    """Where it stands why an answer ended."""
    best: tuple[float, Path, str] | None = None
    for tree in reversed(trees):
        for path, value in leaves(tree):
            if not isinstance(value, str) or not names_of(path) or path in used:
                continue
            name = words.spaced_name(names_of(path)[-1])
            if not words.ENDED.search(name) or not re.fullmatch(r"[\w.\- ]{1,40}", value) or _is_id(name):
                continue
            score = len(words.ENDED.findall(name)) + 2 * bool(re.search(r"finish|stop|ended|reason|why", name))
            if best is None or score > best[0]:
                best = (score, path, value)
    if best is not None:
        learned.form["ended"] = _starred(best[1])
        learned.take("why it ended", learned.form["ended"], best[2], "by its name", best[0] >= 2)


def _is_id(name: str) -> bool:
    return re.search(r"\b(?:id|at|time|date|by)\b", name) is not None


def _starred(path: Path) -> str:
    """A JSONPath with every list's number as it stands: one reply has one such place."""
    return shown(tuple(0 if isinstance(step, int) else step for step in path))


def infer_endings(learned: LearnedReply) -> None:
    """Which endings mean that the output limit was met, or that it was declined, no sample says."""
    if "ended" in learned.form:
        learned.form["cut_off"] = list(words.MEANS_CUT_OFF)
        learned.form["refused"] = list(words.MEANS_REFUSED)
        why = "the sample shows none; these are common words, correct them by the documentation"
        learned.take("cut off, refused", learned.form["ended"], "common words", why, sure=False)


def find_tokens(learned: LearnedReply, tree: Any) -> None:
    """Where tokens are counted: input, output, and those with a name of their own."""
    counts = [(path, value) for path, value in leaves(tree) if _is_count(path, value)]
    scored: dict[str, list[tuple[float, Path]]] = {"input_tokens": [], "output_tokens": []}
    for path, _ in counts:
        name = words.spaced_name(names_of(path)[-1])
        around = " ".join(words.spaced_name(one) for one in names_of(path)[:-1])
        usage = 1.0 * bool(words.USAGE.search(around)) + 1.0 * ("token" in name)
        other = bool(words.OTHER_COUNTERS.search(name))
        for role, sign in (("input_tokens", words.IN_TOKENS), ("output_tokens", words.OUT_TOKENS)):
            if sign.search(name) and usage and not other:
                scored[role].append((usage, path))
    for role, found in scored.items():
        if found and role not in learned.form:
            _, path = max(found, key=lambda one: one[0])
            learned.form[role] = _starred(path)
            learned.take(role.replace("_", " "), learned.form[role], value_at(tree, path), "by its name")
    _count_by_place(learned, tree, counts)
    for path, value in counts:
        name = words.folded_name(names_of(path)[-1])
        kind = "cached" if "cach" in name else "thinking" if re.search(r"think|reason", name) else None
        if kind and kind not in learned.form.get("counters", {}):
            within = "input" if kind == "cached" else "output"
            learned.form.setdefault("counters", {})[kind] = {"at": _starred(path), "within": within}
            why = f"by its name; whether the {within} counts them too is not known"
            learned.take(f"{kind} tokens", _starred(path), value, why, sure=False)


def _count_by_place(learned: LearnedReply, tree: Any, counts: list[tuple[Path, Any]]) -> None:
    """Two counts side by side whose names say nothing: first in, then out."""
    if "input_tokens" in learned.form or "output_tokens" in learned.form:
        return
    usage = [
        path for path, _ in counts if words.USAGE.search(" ".join(words.spaced_name(one) for one in names_of(path)))
    ]
    if len(usage) == 2 and usage[0][:-1] == usage[1][:-1]:
        for role, path in zip(("input_tokens", "output_tokens"), usage, strict=True):
            learned.form[role] = _starred(path)
            why = "there are two counts; the first is taken for the input"
            learned.take(role.replace("_", " "), _starred(path), value_at(tree, path), why, sure=False)


def _is_count(path: Path, value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0 and bool(names_of(path))


def find_model(learned: LearnedReply, tree: Any, model: str | None) -> None:
    """Where the model that answered is named."""
    for path, value in leaves(tree):
        named = names_of(path) and words.folded_name(names_of(path)[-1]) in words.MODEL
        same = model is not None and value == model
        if isinstance(value, str) and "model" not in learned.form and (named or same):
            learned.form["model"] = _starred(path)
            learned.take(
                "model that answered", _starred(path), value, "by its name" if named else "it is the model's id"
            )


def find_in_headers(learned: LearnedReply, reply: SampleReply, model: str | None) -> None:
    """What the headers of a plain text say."""
    for name, value in reply.headers.items():
        low = words.spaced_name(name)
        if value.isdigit() and ("token" in low or words.USAGE.search(low)):
            for role, sign in (("input_tokens", words.IN_TOKENS), ("output_tokens", words.OUT_TOKENS)):
                if sign.search(low) and role not in learned.form:
                    learned.form[role] = f"header {name}"
                    learned.take(role.replace("_", " "), f"header {name}", value, "by its name")
        elif "model" in low.split() or (model and value == model):
            learned.form["model"] = f"header {name}"
            learned.take("model that answered", f"header {name}", value, "by its name")


def find_error(learned: LearnedReply, errors: list[Any], answers: list[Any]) -> None:
    """Where an error's words and status stand: in a sample error, else where an answer has a place for one."""
    for tree in errors:
        found = [(path, value) for path, value in leaves(tree) if isinstance(value, str) and names_of(path)]
        ranked = sorted(found, key=lambda one: -_error_score(*one))
        if ranked:
            path, value = ranked[0]
            learned.form["error"] = _starred(path)
            learned.take("an error's words", _starred(path), value, "it is the text of the sample's error")
            _find_code(learned, tree)
            return
    for tree in answers:
        for path, value in leaves(tree):
            if value is None and names_of(path) and words.ERROR.search(words.spaced_name(names_of(path)[-1])):
                learned.form["error"] = _starred(path)
                learned.take("an error's words", _starred(path), "null", "by its name")
                return


def _error_score(path: Path, value: str) -> float:
    name = words.spaced_name(names_of(path)[-1])
    named = 2.0 * bool(re.search(r"message|detail|text|description|reason", name)) + bool(words.ERROR.search(name))
    return named + min(3.0, 0.6 * len(value.split()))


def _find_code(learned: LearnedReply, tree: Any) -> None:
    for path, value in leaves(tree):
        if isinstance(value, int) and 400 <= value < 600 and names_of(path):
            learned.form["error_code"] = _starred(path)
            learned.take("an error's status", _starred(path), value, "it is a status of HTTP")
            return
