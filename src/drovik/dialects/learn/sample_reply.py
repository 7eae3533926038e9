"""A sample reply → the reply half of a dialect: where the text stands, why it ended, tokens, an error's words."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from drovik.dialects.events import Events, JsonLines
from drovik.dialects.learn.literals import NotALiteral, read_literal
from drovik.dialects.learn.reply import (
    LearnedReply,
    find_ended,
    find_error,
    find_in_headers,
    find_model,
    infer_endings,
)
from drovik.dialects.learn.reply_answer import answer_in, streamed_answer, strings_at, text_is_at, text_path
from drovik.dialects.learn.reply_counts import find_tokens, find_tokens_in_headers, find_usage
from drovik.dialects.learn.samples import SampleReply
from drovik.dialects.learn.trees import NOTHING, Evidence, value_at
from drovik.dialects.reply_path import compile_path
from drovik.errors import Problem, SampleError


@dataclass(frozen=True)
class Asked:
    """What is known of the request that a reply answers: the model's id, the names of the members with the question
    and with the limit of the answer's length, and what the page says.
    """

    model: str | None = None
    prompt_name: str = ""
    limit_name: str = ""
    evidence: Evidence = NOTHING
    prose: str = ""


def learn_reply(replies: Sequence[SampleReply], asked: Asked, told: Mapping[str, str]) -> LearnedReply:
    """The reply half of a dialect.

    :param replies: the first that is no error is an answer; the others may be more answers, or errors.
    :raises DrovikError: where a person names what is not there.
    """
    learned = LearnedReply(evidence=asked.evidence)
    first = next((one for one in replies if not one.is_error), replies[0])
    kind, trees = _kind_of(first)
    learned.form["form"] = kind
    answer = first.text.strip()
    if kind == "text":
        sure = first.status is not None
        why = "the reply is plain text" if sure else "nothing but text stands where the reply is"
        learned.take("answer", "body", answer, why, sure)
    elif kind == "json":
        more = [_json(one.text.strip()) for one in replies if one is not first and not one.is_error]
        other = next((one for one in more if isinstance(one, dict | list)), None)
        answer = _learn_json(learned, trees[0][1], asked, told.get("answer"), other)
    else:
        answer = _learn_pieces(learned, kind, trees, first.text, asked, told.get("answer"))
    find_tokens_in_headers(learned, first.headers, answer)
    find_in_headers(learned, first.headers, asked.model)
    others = [one for one in replies if one is not first]
    errors = [
        tree
        for one in sorted(others, key=lambda one: not one.is_error)
        if (tree := _json(one.text.strip())) is not None
    ]
    find_error(
        learned, [tree for tree in errors if not _is_another_answer(learned, tree)], [tree for _, tree in trees]
    )
    infer_endings(learned, asked.limit_name, asked.prose)
    return learned


def _is_another_answer(learned: LearnedReply, tree: Any) -> bool:
    """Whether a further reply has a text where the answer stands, so that it is no example of an error."""
    place = str(learned.form.get("text", ""))
    return place not in ("", "$") and any(isinstance(one, str) and one for one in compile_path(place)(tree))


def _kind_of(reply: SampleReply) -> tuple[str, list[tuple[str, Any]]]:
    """How a reply is built, and its JSON values, each with its event's name."""
    text = reply.text.strip()
    if text[:1] in ("{", "["):
        try:
            return "json", [("", read_literal(text))]
        except NotALiteral:
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
        raise SampleError(Problem("the sample reply is not complete JSON", "paste it whole"))
    return "text", []


def _json(text: str) -> Any:
    try:
        found = json.loads(text, strict=False)
    except ValueError:
        return None
    return found if isinstance(found, dict | list) else None


# One JSON document.


def _learn_json(learned: LearnedReply, tree: Any, asked: Asked, told: str | None, other: Any) -> str:
    path, why, sure = answer_in(tree, told, asked.evidence)
    if path is None:
        raise SampleError(Problem("there is no text in the sample reply", "paste a reply that has an answer in it"))
    learned.form["text"] = text_path(tree, path)
    answer = str(value_at(tree, path))
    learned.take("answer", learned.form["text"], answer, why, sure)
    find_ended(learned, [tree], {path})
    find_tokens(learned, tree, answer, asked.prompt_name, str(path[-1]), other)
    find_model(learned, tree, asked.model)
    return answer


# Replies in pieces.


def _learn_pieces(
    learned: LearnedReply, kind: str, trees: list[tuple[str, Any]], text: str, asked: Asked, told: str | None
) -> str:
    if not trees:
        raise SampleError(Problem("the sample stream has no JSON in it", "paste it whole, as it was recorded"))
    path, event, why, sure = streamed_answer(trees, told)
    whole = next(tree for name, tree in trees if name == event and text_is_at(tree, path))
    learned.form["text"] = text_path(whole, path)
    pieces = [value for name, tree in trees if name == event for value in strings_at(tree, path)]
    if event:
        learned.form["text_events"] = [event]
    if len(pieces) > 1 and all(b.startswith(a) for a, b in pairwise(pieces)):
        learned.form["joined"] = "last"
    answer = pieces[-1] if "joined" in learned.form else "".join(pieces)
    learned.take("answer", f"{learned.form['text']}{f' of each {event!r}' if event else ' of each piece'}",
                 answer, why, sure)  # fmt: skip
    if kind == "events":
        _find_end_mark(learned, text)
    find_ended(learned, [tree for _, tree in trees], {path})
    if "end_mark" not in learned.form and "ended" not in learned.form and trees[-1][0] and trees[-1][0] != event:
        learned.form["finish"] = [trees[-1][0]]
        learned.take("finish", "event", trees[-1][0], "it is the last event")
    for _, tree in trees:
        find_tokens(learned, tree, answer, asked.prompt_name, str(path[-1]))
        find_model(learned, tree, asked.model)
    find_usage(learned, [tree for _, tree in trees])
    return answer


def _find_end_mark(learned: LearnedReply, text: str) -> None:
    marks = [piece.data.strip() for piece in Events().feed((text.strip() + "\n\n").encode(), last=True)]
    if marks and marks[-1] and _json(marks[-1]) is None:
        learned.form["end_mark"] = marks[-1]
        learned.take("end mark", "last event", marks[-1], "it is not JSON, and nothing follows")
