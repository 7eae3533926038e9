"""A sample reply → the reply half of a dialect: where the text stands, why it ended, tokens, an error's words."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import Any

from drovik.dialects.events import Events, JsonLines
from drovik.dialects.learn.answers_in import answer_in, reaches, streamed_answer, strings_at, whole_answer
from drovik.dialects.learn.reply_facts import (
    LearnedReply,
    find_ended,
    find_error,
    find_in_headers,
    find_model,
    find_tokens,
    find_usage,
    mean_endings,
)
from drovik.dialects.learn.samples import SampleReply
from drovik.dialects.learn.trees import value_at
from drovik.errors import Problem, SampleError


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
        find_in_headers(learned, first, model)
    elif kind == "json":
        _learn_json(learned, trees[0][1], model, told.get("answer"))
    else:
        _learn_pieces(learned, kind, trees, first.text, model, told.get("answer"))
    errors = [tree for one in replies[1:] if (tree := _error_tree(one)) is not None]
    find_error(learned, errors, [tree for _, tree in trees])
    mean_endings(learned)
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
        raise SampleError(Problem("the sample reply is not complete JSON", "paste it whole, and without '...' in it"))
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
    path, why, sure = answer_in(tree, told)
    if path is None:
        raise SampleError(Problem("there is no text in the sample reply", "paste a reply that has an answer in it"))
    learned.form["text"] = whole_answer(tree, path)
    learned.take("answer", learned.form["text"], value_at(tree, path), why, sure)
    used = {path}
    find_ended(learned, [tree], used)
    find_tokens(learned, tree)
    find_model(learned, tree, model)


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
        raise SampleError(Problem("there is no JSON in the sample stream", "paste it whole, as it was recorded"))
    path, event, why, sure = streamed_answer(trees, told)
    whole = next(tree for name, tree in trees if name == event and reaches(tree, path))
    learned.form["text"] = whole_answer(whole, path)
    pieces = [value for name, tree in trees if name == event for value in strings_at(tree, path)]
    if event:
        learned.form["text_events"] = [event]
    if len(pieces) > 1 and all(b.startswith(a) for a, b in pairwise(pieces)):
        learned.form["joined"] = "last"
    learned.take("answer", f"{learned.form['text']}{f' of each {event!r}' if event else ' of each piece'}",
                 "".join(pieces), why, sure)  # fmt: skip
    if kind == "events":
        _find_end_mark(learned, text)
    find_ended(learned, [tree for _, tree in trees], {path})
    if "end_mark" not in learned.form and "ended" not in learned.form and trees[-1][0] and trees[-1][0] != event:
        learned.form["finish"] = [trees[-1][0]]
        learned.take("finish", "event", trees[-1][0], "it is the last event")
    for _, tree in trees:
        find_tokens(learned, tree)
        find_model(learned, tree, model)
    find_usage(learned, [tree for _, tree in trees])


def _find_end_mark(learned: LearnedReply, text: str) -> None:
    marks = [piece.data.strip() for piece in Events().feed((text.strip() + "\n\n").encode(), last=True)]
    if marks and marks[-1] and _json(marks[-1]) is None:
        learned.form["end_mark"] = marks[-1]
        learned.take("end mark", "last event", marks[-1], "it is not JSON, and nothing follows")


# What all replies may have.


# Errors.


def _error_tree(reply: SampleReply) -> Any:
    return _json(reply.text.strip())
