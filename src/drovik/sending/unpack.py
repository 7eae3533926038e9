"""A reply's body → what a dialect finds in it: text, how it ended, tokens, the model, an error's words."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from drovik.problems import DrovikError, Problem
from drovik.project.dialects import Dialect, ReplyForm
from drovik.sending.jsonpath import compile_path

_MOST_TOKENS = 10**12


@dataclass(frozen=True)
class Unpacked:
    """What stands in a reply. `note` says what did not fit the dialect, and where the text may be instead."""

    text: str = ""
    ended: str | None = None
    cut_off: bool = False
    refused: bool = False
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    error: str | None = None
    note: str = ""
    readable: bool = True


def unpack(body: bytes, form: ReplyForm) -> Unpacked:
    """All that a dialect's reply half finds in a body; `readable` is False where it is no JSON."""
    try:
        tree = json.loads(body.decode("utf-8"))
    except (UnicodeDecodeError, ValueError, RecursionError):
        start = " ".join(body[:80].decode("utf-8", "replace").split())
        return Unpacked(note=f"the reply is no JSON; it begins: {start}", readable=False)
    texts = compile_path(form.text)(tree)
    pieces = [one for one in texts if isinstance(one, str)]
    ended = _first_text(form.ended, tree)
    refused = ended is not None and ended in form.refused
    error = _first_text(form.error, tree)
    note = "" if texts or refused or error else _nothing_at(form.text, tree)
    if texts and not pieces and texts != [None]:
        pieces = [json.dumps(one, ensure_ascii=False) for one in texts if one is not None]
    return Unpacked(
        well_formed("".join(pieces)),
        ended,
        ended is not None and ended in form.cut_off,
        refused,
        _first_text(form.model, tree),
        _first_count(form.input_tokens, tree),
        _first_count(form.output_tokens, tree),
        error,
        note,
    )


def well_formed(text: str) -> str:
    """Text without halves of surrogate pairs, which JSON can escape and neither a file nor a screen can hold."""
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
    return text


def check_reply_form(dialect: Dialect, file: str) -> list[Problem]:
    """A Problem for each path of the reply half that is no JSONPath."""
    problems = []
    for name in ("text", "ended", "model", "input_tokens", "output_tokens", "error"):
        path = getattr(dialect.reply, name)
        try:
            if path is not None:
                compile_path(path)
        except DrovikError as error:
            first = error.problems[0]
            problems.append(Problem(first.what, first.remedy, file, f"reply.{name}"))
    return problems


def _first_text(path: str | None, tree: Any) -> str | None:
    found = compile_path(path)(tree) if path else []
    for one in found:
        if isinstance(one, str | int | float) and not isinstance(one, bool):
            return well_formed(str(one)[:2000])
    return None


def _first_count(path: str | None, tree: Any) -> int | None:
    found = compile_path(path)(tree) if path else []
    for one in found:
        if isinstance(one, int) and not isinstance(one, bool) and 0 <= one <= _MOST_TOKENS:
            return one
    return None


def _nothing_at(path: str, tree: Any) -> str:
    places = sorted(_texts(tree, "$"), key=lambda one: -len(one[1]))
    elsewhere = f"the longest text is at {places[0][0]}" if places else "there is no text in it"
    return f"nothing at {path}; {elsewhere}"


def _texts(tree: Any, place: str) -> Iterator[tuple[str, str]]:
    waiting = [(place, tree)]
    while waiting:
        here, one = waiting.pop()
        if isinstance(one, str):
            yield here, one
        elif isinstance(one, list):
            waiting += [(f"{here}[{number}]", inner) for number, inner in enumerate(one)]
        elif isinstance(one, dict):
            for name, inner in one.items():
                waiting.append((f"{here}.{name}" if name.isidentifier() else f"{here}['{name}']", inner))
