"""A reply's body → what a dialect finds in it: text, how it ended, tokens, the model, an error's words.

The body may be fed as it arrives; what `feed` gives is text to show at once. What counts is the result,
which is the same however the body was cut.
"""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from drovik.dialects.events import Events, JsonLines, StreamEvent
from drovik.dialects.reply_path import compile_path, compile_place
from drovik.project.dialects import ReplyForm

_MOST_TOKENS = 10**12
"""A larger count is a mistake of the service, and would spoil every sum."""
_STATUS = re.compile(r"[45][0-9]{2}")
_DIGITS = re.compile(r"[0-9]{1,13}")


@dataclass(frozen=True)
class ParsedReply:
    """What is in a reply. `note` says what did not fit the dialect, and where the text may be instead.

    `readable` is False where the body is not built as the dialect says; `incomplete` is True where it
    came to an end without a finish. `code` is the status that an error in a good reply names.
    """

    text: str = ""
    ended: str | None = None
    cut_off: bool = False
    refused: bool = False
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    counters: dict[str, int] = field(default_factory=dict)
    error: str | None = None
    code: int | None = None
    note: str = ""
    readable: bool = True
    incomplete: bool = False


def is_error(parsed: ParsedReply, form: ReplyForm) -> bool:
    """Whether a reply with a good status is an error all the same: in pieces, also where some text came before it."""
    return parsed.error is not None and (not parsed.text or form.form != "json")


def parse_reply(body: bytes, form: ReplyForm, headers: Mapping[str, str] | None = None) -> ParsedReply:
    """All that a dialect's reply half finds in a whole body."""
    reply_parser = ReplyParser(form)
    reply_parser.feed(body)
    return reply_parser.result(headers or {})


class ReplyParser:
    """Takes a body in, piece by piece."""

    def __init__(self, form: ReplyForm) -> None:
        self.form = form
        self._bytes: list[bytes] = []
        self._split: Events | JsonLines | None = None
        if form.form in ("events", "lines"):
            self._split = Events() if form.form == "events" else JsonLines()
        self._text: list[str] = []
        self._found: dict[str, Any] = {}
        self._pieces = 0
        self._read = 0
        self._text_places = 0
        self._done = form.end_mark is None and not form.finish and form.ended is None
        self._longest: Any = None
        self._decode = codecs.getincrementaldecoder("utf-8")("replace").decode

    def feed(self, data: bytes) -> str:
        """Take in more of the body.

        :return: the text that is new in it, where the reply comes in pieces or is plain text.
        """
        self._bytes.append(data)
        if self.form.form == "text":
            return self._decode(data)
        if self._split is None:
            return ""
        return well_formed("".join(self._take(piece) for piece in self._split.feed(data)))

    def result(self, headers: Mapping[str, str]) -> ParsedReply:
        """What is in all that was fed, which is taken for the whole body."""
        body = b"".join(self._bytes)
        if self.form.form == "text":
            return self._of_text(body, headers)
        if self._split is None:
            return self._of_json(body, headers)
        for piece in self._split.feed(b"", last=True):
            self._take(piece)
        if self._read == 0:
            return self._unlike(body, headers)
        return self._of_pieces(headers)

    # A reply that is one JSON document, or plain text.

    def _of_json(self, body: bytes, headers: Mapping[str, str]) -> ParsedReply:
        try:
            tree = json.loads(body.decode("utf-8"))
        except (UnicodeDecodeError, ValueError, RecursionError):
            return ParsedReply(note=f"the reply is not JSON; it begins: {_start(body)}", readable=False)
        texts = compile_path(self.form.text or "$")(tree)
        pieces = [one for one in texts if isinstance(one, str)]
        if texts and not pieces and texts != [None]:
            pieces = [json.dumps(one, ensure_ascii=False) for one in texts if one is not None]
        for name in ("ended", "model", "error", "error_code"):
            self._keep(name, _first_text(getattr(self.form, name), tree, headers))
        self._count(tree, headers)
        note = (
            ""
            if texts or self._refused() or self._found.get("error")
            else missing_path_note(self.form.text or "$", tree)
        )
        return self._parsed("".join(pieces), note)

    def _of_text(self, body: bytes, headers: Mapping[str, str]) -> ParsedReply:
        text = body.decode("utf-8", "replace").removeprefix("\N{ZERO WIDTH NO-BREAK SPACE}")
        if text.lstrip()[:14].lower().startswith(("<!doctype html", "<html")):
            return ParsedReply(
                note=f"the reply is a page, and no plain text; it begins: {_start(body)}", readable=False
            )
        self._keep("model", _first_text(self.form.model, None, headers))
        self._count(None, headers)
        return self._parsed(text, "")

    # A reply in pieces.

    def _take(self, piece: StreamEvent) -> str:
        """Take one event or line in; its new text."""
        form = self.form
        self._pieces += 1
        if form.end_mark is not None and piece.data.strip() == form.end_mark:
            self._done = True
            self._read += 1
            return ""
        if piece.name and piece.name in form.finish:
            self._done = True
        try:
            tree = json.loads(piece.data)
        except (ValueError, RecursionError):
            return ""
        self._read += 1
        for name in ("ended", "model", "error", "error_code"):
            self._keep(name, _first_text(getattr(form, name), tree, {}))
        if piece.name in form.error_events and piece.name:
            self._keep("error", _longest_text(tree) or piece.data[:500])
        if self._found.get("ended") is not None:
            self._done = True
        self._count(tree, {})
        if form.text_events and piece.name not in form.text_events:
            return ""
        texts = compile_path(form.text or "$")(tree)
        self._text_places += len(texts)
        self._longest = tree if self._longest is None else self._longest
        new = "".join(one for one in texts if isinstance(one, str))
        return self._add(new)

    def _add(self, new: str) -> str:
        if self.form.joined == "last":
            before = "".join(self._text)
            if new:
                self._text = [new]
            return new.removeprefix(before) if new.startswith(before) else ""
        self._text.append(new)
        return new

    def _of_pieces(self, headers: Mapping[str, str]) -> ParsedReply:
        self._count(None, headers)
        error = self._found.get("error")
        fits = self._text_places or self._refused() or error
        note = "" if fits else missing_path_note(self.form.text or "$", self._longest)
        incomplete = not self._done and not error
        if incomplete and not note:
            note = f"the reply came to an end without a finish, after {self._read} pieces"
        return self._parsed("".join(self._text), note, incomplete)

    def _unlike(self, body: bytes, headers: Mapping[str, str]) -> ParsedReply:
        """Not one piece could be read: perhaps a plain JSON error, or another service's page."""
        kind = "events" if self.form.form == "events" else "JSON lines"
        try:
            tree = json.loads(body)
        except (ValueError, RecursionError):
            said = f"it begins: {_start(body)}" if body.strip() else "it is empty"
            return ParsedReply(note=f"the reply holds no {kind}; {said}", readable=False)
        error = _first_text(self.form.error, tree, headers)
        return ParsedReply(
            error=error, note=f"the reply holds no {kind}; it is one JSON document", readable=bool(error)
        )

    # What both have.

    def _keep(self, name: str, value: str | None) -> None:
        if value is not None:
            self._found[name] = value

    def _count(self, tree: Any, headers: Mapping[str, str]) -> None:
        places = {"input_tokens": self.form.input_tokens, "output_tokens": self.form.output_tokens}
        places |= {f"counters.{name}": counter.at for name, counter in self.form.counters.items()}
        for name, place in places.items():
            if place is None or (place.startswith("header") and not headers):
                continue
            count = _first_count(place, tree, headers)
            if count is not None:
                before = self._found.get(name, 0) if self.form.usage == "sum" else 0
                self._found[name] = before + count

    def _refused(self) -> bool:
        return self._found.get("ended") in self.form.refused

    def _parsed(self, text: str, note: str, incomplete: bool = False) -> ParsedReply:
        found = self._found
        ended = found.get("ended")
        counters = {name: found[f"counters.{name}"] for name in self.form.counters if f"counters.{name}" in found}
        code = str(found.get("error_code", ""))
        return ParsedReply(
            text=well_formed(text),
            ended=ended,
            cut_off=ended is not None and ended in self.form.cut_off,
            refused=self._refused(),
            model=found.get("model"),
            input_tokens=found.get("input_tokens"),
            output_tokens=found.get("output_tokens"),
            counters=counters,
            error=found.get("error"),
            code=int(code) if _STATUS.fullmatch(code) else None,
            note=note,
            incomplete=incomplete,
        )


def well_formed(text: str) -> str:
    """Text without halves of surrogate pairs, which JSON can escape and neither a file nor a screen can hold."""
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
    return text


def error_message(body: bytes) -> str:
    """The words of an error whose dialect does not say where they stand: the longest text in it, or its beginning."""
    try:
        return well_formed(_longest_text(json.loads(body)))[:500]
    except (ValueError, RecursionError):
        return _start(body)


def _start(body: bytes) -> str:
    return " ".join(body[:80].decode("utf-8", "replace").split())


def _first_text(path: str | None, tree: Any, headers: Mapping[str, str]) -> str | None:
    found = compile_place(path)(tree, headers) if path else []
    for one in found:
        if isinstance(one, str | int | float) and not isinstance(one, bool):
            return well_formed(str(one)[:2000])
        if isinstance(one, dict | list) and (text := _longest_text(one)):
            return well_formed(text[:2000])
    return None


def _first_count(place: str, tree: Any, headers: Mapping[str, str]) -> int | None:
    for one in compile_place(place)(tree, headers):
        count = _as_count(one)
        if count is not None:
            return count
    return None


def _as_count(one: Any) -> int | None:
    """A whole number from nought, also where it is written as text or with a point; None for anything else."""
    if isinstance(one, str):
        text = one.strip()
        # ASCII digits alone: int() also reads those of other scripts, and a million of them takes minutes.
        return int(text) if _DIGITS.fullmatch(text) and int(text) <= _MOST_TOKENS else None
    if isinstance(one, bool) or not isinstance(one, int | float) or not 0 <= one <= _MOST_TOKENS or one != int(one):
        return None
    return int(one)


def missing_path_note(path: str, tree: Any) -> str:
    """That there is nothing at a path, and where the longest text of the reply is."""
    places = sorted(texts_in(tree, "$"), key=lambda one: -len(one[1]))
    elsewhere = f"the longest text is at {places[0][0]}" if places else "there is no text in it"
    return f"nothing at {path}; {elsewhere}"


def _longest_text(tree: Any) -> str:
    return max((text for _, text in texts_in(tree, "$")), key=len, default="")


def texts_in(tree: Any, place: str) -> Iterator[tuple[str, str]]:
    """Every text of a JSON value with its path."""
    waiting = [(place, tree)]
    while waiting:
        here, one = waiting.pop()
        if isinstance(one, str):
            yield here, one
        elif isinstance(one, list):
            waiting += [(f"{here}[{number}]", inner) for number, inner in enumerate(one)]
        elif isinstance(one, dict):
            for name, inner in one.items():
                waiting.append((path_of(here, name), inner))


def path_of(here: str, name: str) -> str:
    """The path of a member."""
    if name.isidentifier():
        return f"{here}.{name}"
    escaped = name.replace("\\", "\\\\").replace("'", "\\'")
    return f"{here}['{escaped}']"
