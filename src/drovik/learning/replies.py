"""A sample reply → the reply half of a dialect: where the text stands, why it ended, tokens, an error's words."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

from drovik.learning import words
from drovik.learning.request_parts import Taken
from drovik.learning.samples import SampleReply
from drovik.learning.trees import Path, leaves, names_of, shown, value_at
from drovik.problems import DrovikError, Problem
from drovik.sending.events import Events, JsonLines


@dataclass
class LearnedReply:
    """What sample replies came to; `form` is a table for a dialect's file."""

    form: dict[str, Any] = field(default_factory=dict)
    taken: list[Taken] = field(default_factory=list)

    def take(self, role: str, place: str, value: object, why: str, sure: bool = True) -> None:
        """Note what a part was taken for."""
        text = str(value)
        self.taken.append(Taken(role, place, text if len(text) <= 60 else text[:57] + "…", why, sure))


def learn_reply(replies: Sequence[SampleReply], model: str | None, told: Mapping[str, str]) -> LearnedReply:
    """The reply half of a dialect.

    :param replies: the first is an answer; among the others may be an error.
    :param model: the id that the request named, to know it again.
    :raises DrovikError: where a person names what is not there.
    """
    learned = LearnedReply()
    first = replies[0]
    kind, trees = _kind_of(first)
    learned.form["form"] = kind
    if kind == "text":
        learned.take("answer", "body", first.text.strip(), "the reply is plain text")
        _find_in_headers(learned, first, model)
    elif kind == "json":
        _learn_json(learned, trees[0][1], model, told.get("answer"))
    else:
        _learn_pieces(learned, kind, trees, first.text, model, told.get("answer"))
    errors = [tree for one in replies[1:] if (tree := _error_tree(one)) is not None]
    _find_error(learned, errors, [tree for _, tree in trees])
    _mean_endings(learned)
    return learned


def _kind_of(reply: SampleReply) -> tuple[str, list[tuple[str, Any]]]:
    """How a reply is built, and its JSON values, each with its event's name."""
    text = reply.text.strip()
    try:
        return "json", [("", json.loads(text, strict=False))] if text[:1] in ("{", "[") else _not_json()
    except ValueError:
        pass
    if re.search(r"^(?:data|event):", text, re.MULTILINE):
        pieces = list(Events().feed((text + "\n\n").encode(), last=True))
        return "events", [(piece.name, tree) for piece in pieces if (tree := _json(piece.data)) is not None]
    if text[:1] == "{":
        rows = [
            tree for piece in JsonLines().feed(text.encode(), last=True) if (tree := _json(piece.data)) is not None
        ]
        if len(rows) >= 2:
            return "lines", [("", row) for row in rows]
        raise DrovikError(Problem("the sample reply is no whole JSON", "paste it whole, and without '...' in it"))
    return "text", []


def _not_json() -> Any:
    raise ValueError


def _json(text: str) -> Any:
    try:
        found = json.loads(text, strict=False)
    except ValueError:
        return None
    return found if isinstance(found, dict | list) else None


# One JSON document.


def _learn_json(learned: LearnedReply, tree: Any, model: str | None, told: str | None) -> None:
    path, why, sure = _answer_in(tree, told)
    if path is None:
        raise DrovikError(Problem("there is no text in the sample reply", "paste a reply that has an answer in it"))
    learned.form["text"] = _whole_answer(tree, path)
    learned.take("answer", learned.form["text"], value_at(tree, path), why, sure)
    used = {path}
    _find_ended(learned, [tree], used)
    _find_tokens(learned, tree)
    _find_model(learned, tree, model)


def _answer_in(tree: Any, told: str | None) -> tuple[Path | None, str, bool]:
    """The place of the answer's text: by how it reads, how long it is, and its name."""
    texts = [(path, value) for path, value in leaves(tree) if isinstance(value, str) and value.strip() and path]
    if told:
        for path, value in texts:
            if shown(path) == told or value.strip() == told.strip():
                return path, "you said so", True
        pieces = [path for path, value in texts if value and value in told]
        if pieces:
            return pieces[0], "you said so", True
        raise DrovikError(Problem(f"--answer-was: nothing in the sample reply is, or stands at, '{told[:60]}'",
                                  "give a place such as $.answer, or the text itself"))  # fmt: skip
    ranked = sorted(texts, key=lambda one: -_answer_score(tree, *one))
    if not ranked:
        return None, "", False
    best = ranked[0][0]
    rest = [one for one in ranked[1:] if not _same_kind(one[0], best, tree)]
    margin = _answer_score(tree, *ranked[0]) - max((_answer_score(tree, *one) for one in rest), default=-9)
    named = words.ANSWER.search(words.spaced(names_of(best)[-1])) if names_of(best) else None
    why = f"'{names_of(best)[-1]}' is named like one" if named else "it is the text that reads like one"
    return best, why, margin >= 1.5


def _answer_score(tree: Any, path: Path, value: str) -> float:
    names = [words.spaced(one) for one in names_of(path)]
    last = names[-1] if names else ""
    score = 2.0 * bool(words.ANSWER.search(last)) + 0.5 * any(words.ANSWER.search(one) for one in names[:-1])
    score += min(4.0, 0.8 * len(value.split())) - 2.0 * bool(words.ERROR.search(last))
    score -= 3.0 * bool(
        re.search(r"\b(?:id|model|object|type|kind|created|date|role|version|prompt|question)\b", last)
    )
    around = value_at(tree, path[:-1]) if path else None
    key = _sort_key(around)
    sort = str(around[key]).lower() if key is not None and isinstance(around, dict) else ""
    score -= 6.0 * bool(re.search(r"think|thought|reason|analysis|draft|plan|internal", sort + " " + " ".join(names)))
    return score


def _same_kind(one: Path, other: Path, tree: Any) -> bool:
    """Whether two places differ only in the number of a list, so that they are pieces of one text."""
    if _without_numbers(one) != _without_numbers(other):
        return False
    return _sort_of(tree, one) == _sort_of(tree, other)


def _without_numbers(path: Path) -> tuple[str, ...]:
    return tuple(step if isinstance(step, str) else "*" for step in path)


def _sort_of(tree: Any, path: Path) -> object:
    found = _sort_key(value_at(tree, path[:-1])) if path else None
    return found and value_at(tree, path[:-1])[found]


def _sort_key(around: Any) -> str | None:
    """The member that says which sort of piece an element of a list is."""
    if not isinstance(around, dict):
        return None
    return next((key for key, value in around.items() if words.folded(key) in ("type", "kind", "sort", "part")
                 and isinstance(value, str) and re.fullmatch(r"[\w.\-]{1,30}", value)), None)  # fmt: skip


def _whole_answer(tree: Any, path: Path) -> str:
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


# Replies in pieces.


def _learn_pieces(
    learned: LearnedReply,
    kind: str,
    trees: list[tuple[str, Any]],
    text: str,
    model: str | None,
    told: str | None,
) -> None:
    if not trees:
        raise DrovikError(Problem("there is no JSON in the sample stream", "paste it whole, as it was recorded"))
    path, event, why, sure = _streamed_answer(trees, told)
    whole = next(tree for name, tree in trees if name == event and _reaches(tree, path))
    learned.form["text"] = _whole_answer(whole, path)
    pieces = [value for name, tree in trees if name == event for value in _strings_at(tree, path)]
    if event:
        learned.form["text_events"] = [event]
    if len(pieces) > 1 and all(b.startswith(a) for a, b in pairwise(pieces)):
        learned.form["joined"] = "last"
    learned.take("answer", f"{learned.form['text']}{f' of each {event!r}' if event else ' of each piece'}",
                 "".join(pieces), why, sure)  # fmt: skip
    if kind == "events":
        _find_end_mark(learned, text)
    _find_ended(learned, [tree for _, tree in trees], {path})
    if "end_mark" not in learned.form and "ended" not in learned.form and trees[-1][0] and trees[-1][0] != event:
        learned.form["finish"] = [trees[-1][0]]
        learned.take("finish", "event", trees[-1][0], "it is the last event")
    for _, tree in trees:
        _find_tokens(learned, tree)
        _find_model(learned, tree, model)
    _find_usage(learned, [tree for _, tree in trees])


def _streamed_answer(trees: list[tuple[str, Any]], told: str | None) -> tuple[Path, str, str, bool]:
    """Where each piece of the text stands, and in which events: what comes most often and reads like text."""
    found: dict[tuple[str, tuple[str, ...]], list[tuple[Path, str]]] = {}
    for name, tree in trees:
        for path, value in leaves(tree):
            if isinstance(value, str) and names_of(path):
                found.setdefault((name, _without_numbers(path)), []).append((path, value))
    if not found:
        raise DrovikError(Problem("there is no text in the sample stream", "paste one that has an answer in it"))

    def score(key: tuple[str, tuple[str, ...]]) -> float:
        pieces = [value for _, value in found[key]]
        joined = "".join(pieces)
        names = [words.spaced(one) for one in key[1] if one != "*"]
        points = 2.0 * bool(words.ANSWER.search(names[-1])) + 3.0 * (len(set(pieces)) > 1)
        points += min(4.0, 0.8 * len(joined.split())) * (len(set(pieces)) > 1 or len(trees) == 1)
        thinks = re.search(r"think|thought|reason", " ".join([key[0], *names]))
        return points - 4.0 * bool(re.search(r"\b(?:id|model|type|kind|role)\b", names[-1])) - 6.0 * bool(thinks)

    ranked = sorted(found, key=lambda key: -score(key))
    if told:
        fitting = [key for key in ranked if any(shown(path) == told for path, _ in found[key])
                   or "".join(value for _, value in found[key]).strip() == told.strip()]  # fmt: skip
        if not fitting:
            what = f"--answer-was: nothing in the sample stream is, or stands at, '{told[:60]}'"
            raise DrovikError(Problem(what, "give a place such as $.delta, or the whole text"))
        return found[fitting[0]][0][0], fitting[0][0], "you said so", True
    best = ranked[0]
    margin = score(best) - (score(ranked[1]) if len(ranked) > 1 else -9)
    return found[best][0][0], best[0], "its pieces read on from each other", margin >= 1.5


def _reaches(tree: Any, path: Path) -> bool:
    return bool(_strings_at(tree, path))


def _strings_at(tree: Any, path: Path) -> list[str]:
    wanted = _without_numbers(path)
    return [value for at, value in leaves(tree) if isinstance(value, str) and _without_numbers(at) == wanted]


def _find_end_mark(learned: LearnedReply, text: str) -> None:
    marks = [piece.data.strip() for piece in Events().feed((text.strip() + "\n\n").encode(), last=True)]
    if marks and marks[-1] and _json(marks[-1]) is None:
        learned.form["end_mark"] = marks[-1]
        learned.take("end mark", "last event", marks[-1], "it is no JSON, and nothing follows")


def _find_usage(learned: LearnedReply, trees: list[Any]) -> None:
    """Whether the counts of the pieces are to be added up: they are where one is less than one before."""
    from drovik.sending.jsonpath import compile_path

    places = [learned.form[name] for name in ("input_tokens", "output_tokens") if name in learned.form]
    for place in places:
        counts = [one for tree in trees for one in compile_path(place)(tree) if isinstance(one, int)]
        if any(later < before for before, later in pairwise(counts)):
            learned.form["usage"] = "sum"
            learned.take("usage", place, " + ".join(map(str, counts[:6])), "a later count is less than one before")
            return
    if places and sum(any(compile_path(place)(tree) for place in places) for tree in trees) > 1:
        learned.take("usage", places[0], "the last counts", "counts come more than once, and never fall", sure=False)


# What all replies may have.


def _find_ended(learned: LearnedReply, trees: list[Any], used: set[Path]) -> None:
    best: tuple[float, Path, str] | None = None
    for tree in reversed(trees):
        for path, value in leaves(tree):
            if not isinstance(value, str) or not names_of(path) or path in used:
                continue
            name = words.spaced(names_of(path)[-1])
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


def _mean_endings(learned: LearnedReply) -> None:
    """Which endings mean that the output limit was met, or that it was declined, no sample says."""
    if "ended" in learned.form:
        learned.form["cut_off"] = list(words.MEANS_CUT_OFF)
        learned.form["refused"] = list(words.MEANS_REFUSED)
        why = "the sample shows none; these are common words, correct them by the documentation"
        learned.take("cut off, refused", learned.form["ended"], "common words", why, sure=False)


def _find_tokens(learned: LearnedReply, tree: Any) -> None:
    counts = [(path, value) for path, value in leaves(tree) if _is_count(path, value)]
    scored: dict[str, list[tuple[float, Path]]] = {"input_tokens": [], "output_tokens": []}
    for path, _ in counts:
        name = words.spaced(names_of(path)[-1])
        around = " ".join(words.spaced(one) for one in names_of(path)[:-1])
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
        name = words.folded(names_of(path)[-1])
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
    usage = [path for path, _ in counts if words.USAGE.search(" ".join(words.spaced(one) for one in names_of(path)))]
    if len(usage) == 2 and usage[0][:-1] == usage[1][:-1]:
        for role, path in zip(("input_tokens", "output_tokens"), usage, strict=True):
            learned.form[role] = _starred(path)
            why = "there are two counts; the first is taken for the input"
            learned.take(role.replace("_", " "), _starred(path), value_at(tree, path), why, sure=False)


def _is_count(path: Path, value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0 and bool(names_of(path))


def _find_model(learned: LearnedReply, tree: Any, model: str | None) -> None:
    for path, value in leaves(tree):
        named = names_of(path) and words.folded(names_of(path)[-1]) in words.MODEL
        same = model is not None and value == model
        if isinstance(value, str) and "model" not in learned.form and (named or same):
            learned.form["model"] = _starred(path)
            learned.take(
                "model that answered", _starred(path), value, "by its name" if named else "it is the model's id"
            )


def _find_in_headers(learned: LearnedReply, reply: SampleReply, model: str | None) -> None:
    for name, value in reply.headers.items():
        low = words.spaced(name)
        if value.isdigit() and ("token" in low or words.USAGE.search(low)):
            for role, sign in (("input_tokens", words.IN_TOKENS), ("output_tokens", words.OUT_TOKENS)):
                if sign.search(low) and role not in learned.form:
                    learned.form[role] = f"header {name}"
                    learned.take(role.replace("_", " "), f"header {name}", value, "by its name")
        elif "model" in low.split() or (model and value == model):
            learned.form["model"] = f"header {name}"
            learned.take("model that answered", f"header {name}", value, "by its name")


# Errors.


def _error_tree(reply: SampleReply) -> Any:
    return _json(reply.text.strip())


def _find_error(learned: LearnedReply, errors: list[Any], answers: list[Any]) -> None:
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
            if value is None and names_of(path) and words.ERROR.search(words.spaced(names_of(path)[-1])):
                learned.form["error"] = _starred(path)
                learned.take("an error's words", _starred(path), "null", "by its name")
                return


def _error_score(path: Path, value: str) -> float:
    name = words.spaced(names_of(path)[-1])
    named = 2.0 * bool(re.search(r"message|detail|text|description|reason", name)) + bool(words.ERROR.search(name))
    return named + min(3.0, 0.6 * len(value.split()))


def _find_code(learned: LearnedReply, tree: Any) -> None:
    for path, value in leaves(tree):
        if isinstance(value, int) and 400 <= value < 600 and names_of(path):
            learned.form["error_code"] = _starred(path)
            learned.take("an error's status", _starred(path), value, "it is a status of HTTP")
            return
