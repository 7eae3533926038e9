"""A sample reply → the reply half of a dialect: where the text stands, why it ended, tokens, an error's words.

A sample → a dialect, an endpoint and a model, with what each part was taken for; and the files of them.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from drovik.dialects.dialect_checks import check_reply_form, check_request_form
from drovik.dialects.events import Events, JsonLines
from drovik.dialects.learn.learned_files import add_endpoint, dialect_text
from drovik.dialects.learn.multi_step import learn_requests, with_values
from drovik.dialects.learn.reply import (
    LearnedReply,
    answer_in,
    find_ended,
    find_error,
    find_in_headers,
    find_model,
    find_tokens,
    find_usage,
    infer_endings,
    streamed_answer,
    strings_at,
    text_is_at,
    text_path,
)
from drovik.dialects.learn.sample_keys import SHORTEST_KEY
from drovik.dialects.learn.samples import Exchange, SampleReply
from drovik.dialects.learn.trees import Inference, value_at
from drovik.errors import Problem, SampleError
from drovik.files import parse_toml, read_bytes, write_whole
from drovik.project.dialects import Dialect
from drovik.project.settings import Endpoint
from drovik.project.toml_files import problems_of, validated


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
    infer_endings(learned)
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
    learned.form["text"] = text_path(tree, path)
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
    whole = next(tree for name, tree in trees if name == event and text_is_at(tree, path))
    learned.form["text"] = text_path(whole, path)
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


NO_REPLY = "there is no sample reply; all of the reply is taken for the answer"


@dataclass(frozen=True)
class Learned:
    """All that was learned of a service. `key` is the key that stood in the sample: it is written nowhere."""

    name: str
    url: str
    text: str
    dialect: Dialect
    model: str
    settings: dict[str, Any]
    key: str
    key_env: str | None
    taken: tuple[Inference, ...]
    fixed: tuple[str, ...] = field(default=())

    @property
    def guesses(self) -> tuple[Inference, ...]:
        """What was taken for something without being sure."""
        return tuple(one for one in self.taken if not one.sure)


def learn(
    name: str,
    exchanges: Sequence[Exchange],
    replies: Sequence[SampleReply] = (),
    told: Mapping[str, str] | None = None,
) -> Learned:
    """What a sample says of a service.

    :param replies: to the request with the question, where they are not in the sample itself.
    :param told: what a person says of it, by role: prompt, system, model, picture, assistant, answer, key_env.
    :raises DrovikError: where it cannot be learned, with why.
    """
    told = dict(told or {})
    found = learn_requests(exchanges, {role: told.get(role, "") for role in ("prompt", "system", "model", "picture")})
    proper = found.proper
    if not proper.has_prompt and not proper.has_picture:
        raise SampleError(Problem("there is no question in the sample", "say which text it is: --prompt-was TEXT"))
    given = [*replies, *found.replies]
    reply, reply_taken = _reply(given, proper.model, told)
    taken = [*found.taken, *proper.taken, *reply_taken]
    if told.get("assistant"):
        proper.names["assistant"] = told["assistant"]
        taken = [one for one in taken if one.role != "who answers"]
        taken.append(Inference("who answers", "", told["assistant"], "you said so"))
    if not proper.has_picture:
        why = "nothing in the sample looks like a picture; say --picture-was where one stands"
        taken.append(Inference("picture", "nowhere", "", why, sure=False))
    if not given:
        taken.append(Inference("answer", reply["text"], "", NO_REPLY, sure=False))
    steps = [{key: value for key, value in step.items() if key != "ties"} for step in found.steps]
    secrets = dict.fromkeys(proper.other_keys, "left-out")
    if proper.key and len(proper.key) >= SHORTEST_KEY:
        secrets[proper.key] = "{key}"
    taken = [replace(one, value=with_values(one.value, dict.fromkeys(secrets, "…"))) for one in taken]
    proper.form, steps = with_values(proper.form, secrets), with_values(steps, secrets)
    text = dialect_text(name, proper.form, steps, proper.names, reply, taken)
    dialect = _checked(text, f"dialects/{name}.toml")
    key_env = told.get("key_env") or proper.key_variable or f"{re.sub(r'[^A-Z0-9]+', '_', name.upper())}_KEY"
    return Learned(
        name=name,
        url=_proper_url(proper.url),
        text=text,
        dialect=dialect,
        model=proper.model or name,
        settings={setting: value for setting, value in proper.settings.items() if value is not None},
        key=proper.key or "",
        key_env=key_env if proper.key is not None else None,
        taken=tuple(taken),
        fixed=tuple(proper.fixed),
    )


def _proper_url(url: str) -> str:
    problems: list[Problem] = []
    validated(Endpoint, {"url": url, "dialect": "d"}, "the sample", problems)
    if problems:
        raise SampleError([_of_the_sample(one) for one in problems])
    return url


def _of_the_sample(problem: Problem) -> Problem:
    """A problem of a sample, without the place in a file that it has not."""
    return problem._replace(place="address")


def _reply(
    given: Sequence[SampleReply], model: str | None, told: Mapping[str, str]
) -> tuple[dict[str, Any], list[Inference]]:
    if given:
        learned = learn_reply(given, model, told)
        return learned.form, learned.taken
    answer = told.get("answer", "")
    return {"form": "json", "text": answer if answer.startswith("$") else "$"}, []


def _checked(text: str, file: str) -> Dialect:
    """The dialect of a file's text; what was learned must be one that works.

    :raises DrovikError: where it is not.
    """

    try:
        dialect = Dialect.model_validate(parse_toml(text, file))
    except ValidationError as error:
        raise SampleError(problems_of(error, Dialect, file)) from None
    problems = check_request_form(dialect, file) + check_reply_form(dialect, file)
    if problems:
        raise SampleError(problems)
    return dialect


def dialect_there(folder: Path, name: str) -> str | None:
    """The text of a dialect that is in a folder already."""
    path = folder / "dialects" / f"{name}.toml"
    return read_bytes(path, f"dialects/{name}.toml").decode("utf-8", "replace") if os.path.lexists(path) else None


def write_learned(learned: Learned, folder: Path, model_name: str, before: str | None = None) -> list[str]:
    """Write what was learned into a folder; the names of the files.

    :param model_name: what the model is called in the project.
    :param before: a dialect that stood there; where it said otherwise it is kept beside it, for it may have been
        edited by hand.
    """
    dialect = folder / "dialects" / f"{learned.name}.toml"
    if before is not None and before != learned.text:
        write_whole(dialect.with_suffix(".toml.before"), before)
    write_whole(dialect, learned.text)
    endpoint: dict[str, Any] = {"url": learned.url, "dialect": learned.name}
    if learned.key_env:
        endpoint["key_env"] = learned.key_env
    model: dict[str, Any] = {"endpoint": learned.name, "id": learned.model}
    if learned.settings:
        model["settings"] = learned.settings
    add_endpoint(folder, learned.name, endpoint, model_name, model)
    return [f"dialects/{learned.name}.toml", "drovik.toml"]
