"""Finding JSON in a model's text: bare, in a fence, or in prose, whole or cut off.

One walk over the text, from left to right, recognises JSON by its grammar (RFC 8259): at each `{` or `[`
outside of what was already recognised a small pushdown automaton is started. It keeps its own
stack, so that nesting costs no recursion. When it meets something that is not JSON, every container
that is open there is spoilt by the same character, so none of them is looked at again: only those
which were closed before remain as candidates, and the walk goes on from where it failed. A string may
have swallowed a bracket that was the true beginning (`{"oops} {"kind": 1}`), so after a failure the
walk returns to behind that string's opening quote, once per string; a budget of a few passes over
the text bounds this, and so the whole is linear even on a megabyte of braces.

A lenient walk accepts what people and models write instead of JSON: single or typographic
quotes, a comma too many, comments, `True`, `None`, `NaN`, raw line breaks in strings. What it finds is
rewritten as JSON and marked as repaired.

The tokens of JSON, in two kinds: as RFC 8259 has them, and as people and models write them.
"""

from __future__ import annotations

import json
import math
import re
from dataclasses import dataclass, field

from drovik.text import pattern

_WORDS = {"True": "true", "False": "false", "None": "null", "NaN": "null", "undefined": "null"}
_CUT_SCALAR = pattern(r"(?:-?[\d.]{0,40}(?:[eE][-+]?\d{0,4})?|t(?:ru?)?|f(?:a(?:ls?)?)?|n(?:ul?)?)\Z")


class StrictTokens:
    """Strict tokens. Each method looks at `text` from `at` on and changes nothing."""

    opening = pattern(r'\{(?=[ \t\r\n]*+["}]|[ \t\r\n]*+\Z)|\[(?=[ \t\r\n]*+(?:["\[{\]\-0-9tfn]|\Z))')
    """Brackets that may begin JSON, by what follows: a cheap look that passes over braces in prose."""

    _skip = pattern(r"[ \t\r\n]*+")
    _string = pattern(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*+"')
    _cut_string = pattern(r'"(?:[^"\\\x00-\x1f]|\\.)*+\\?\Z')
    _scalar = pattern(r"-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?(?![\w.])|(?:true|false|null)(?!\w)")

    def skip(self, text: str, at: int) -> int:
        """Where the next token begins."""
        match = self._skip.match(text, at)
        return match.end() if match else at

    def key(self, text: str, at: int) -> tuple[str, int] | None:
        """A member's name as strict JSON, and how long it is in the text."""
        return self._text(text, at)

    def value(self, text: str, at: int) -> tuple[str, int] | None:
        """A string, number or word as strict JSON, and how long it is in the text."""
        return self._text(text, at) or self._plain(text, at)

    def breaks_off(self, text: str, at: int) -> bool:
        """Whether the text ends in the middle of a token."""
        return bool(self._cut_string.match(text, at) or _CUT_SCALAR.match(text, at))

    def _text(self, text: str, at: int) -> tuple[str, int] | None:
        match = self._string.match(text, at)
        return (match[0], len(match[0])) if match else None

    def _plain(self, text: str, at: int) -> tuple[str, int] | None:
        match = self._scalar.match(text, at)
        return (match[0], len(match[0])) if match else None


class LenientTokens(StrictTokens):
    """Also other quotes, raw line breaks in strings, bare names, a comma too many, comments, other words."""

    opening = pattern(r"[{\[](?=\s*+(?:[^{(\s]|\Z))|\[")
    _skip = pattern(r"(?:[ \t\r\n\u00a0]|//[^\n]*+|/\*(?:[^*]|\*(?!/)){0,300}+\*/|,(?=\s*[}\]]))*+")
    _string = pattern(
        r'"(?:[^"\\]|\\.)*+"' r"|'(?:[^'\\]|\\.)*+'" r"|\u201c(?:[^\u201d\u201c\\]|\\.)*+\u201d", re.DOTALL
    )
    _cut_string = pattern(r'"(?:[^"\\]|\\.)*+\\?\Z' r"|\u201c[^\u201c\u201d]*+\Z", re.DOTALL)
    _scalar = pattern(
        r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?(?![\w.])|(?:true|false|null|True|False|None|NaN|undefined)(?!\w)"
    )
    _name = pattern(r"[A-Za-z_$][\w$-]*+(?=\s*:)")

    def key(self, text: str, at: int) -> tuple[str, int] | None:
        """A member's name, also one without quotes."""
        match = self._name.match(text, at)
        return (json.dumps(match[0]), len(match[0])) if match else self._text(text, at)

    def _text(self, text: str, at: int) -> tuple[str, int] | None:
        match = self._string.match(text, at)
        if not match:
            return None
        inner = match[0][1:-1]
        if match[0][0] == "'":
            inner = inner.replace("\\'", "'").replace('"', '\\"')
        try:
            value = json.loads(f'"{inner}"', strict=False)
        except json.JSONDecodeError:
            value = inner
        return json.dumps(value, ensure_ascii=False), len(match[0])

    def _plain(self, text: str, at: int) -> tuple[str, int] | None:
        match = self._scalar.match(text, at)
        if not match:
            return None
        word = match[0]
        if word[0] in "+-.0123456789":
            number = (
                float(word) if not re.fullmatch(r"[-+]?\d+", word) else int(word) if len(word) < 300 else math.inf
            )
            return _written(number, word), len(word)
        return _WORDS.get(word, word), len(word)


def _written(number: float, word: str) -> str:
    """A number as JSON; one that is too large as such a one, for the reader to say so."""
    if math.isinf(number):
        return "-1e999" if word.startswith("-") else "1e999"
    return json.dumps(number)


STRICT, LENIENT = StrictTokens(), LenientTokens()


_CLOSER = {"{": "}", "[": "]"}
_PASSES = 6
"""Characters looked at, beyond the text's own length this many times: a bound of the work."""
_WINDOW, _TRIES, _WHOLE_TRIES, _MOST_IN_LONG = 300_000, 1000, 5, 200
"""Bounds of the work on one text: characters looked through, starts tried, whole values tried, values kept."""
MAX_DEPTH = 400
"""Containers within containers beyond this are no answer, nor is what is within or behind them; and they would
exhaust the parser's stack.
"""


@dataclass(frozen=True)
class JsonSpan:
    """A stretch of the text that is one whole JSON object or array; `json` is it as strict JSON."""

    start: int
    end: int
    json: str


@dataclass
class FoundSpans:
    """Whole spans in the order of the text; and, where the text ended inside of a container, what that would
    be if it were closed after its last whole value, and the whole containers within it.
    """

    spans: list[JsonSpan] = field(default_factory=list)
    cut_json: str | None = None
    within_cut: list[JsonSpan] = field(default_factory=list)


def find_json(text: str, lenient: bool = False) -> FoundSpans:
    """All the outermost JSON objects and arrays in a text.

    :param lenient: whether to accept, and fix, what is nearly JSON.
    """
    found = FoundSpans()
    tokens = LENIENT if lenient else STRICT
    at, budget = 0, _PASSES * len(text) + 100
    while budget > 0 and (opening := tokens.opening.search(text, at)):
        walk = _Walk(text, opening.start(), tokens)
        walk.run()
        budget -= walk.at - opening.start() + 1
        if walk.state == "cut off":
            # What was closed within is a part of the answer, not the answer.
            found.cut_json, found.within_cut = walk.closed_up(), walk.whole()
            break
        if walk.state == "too deep":
            break
        found.spans += walk.whole()
        at = walk.at if walk.state == "done" else max(walk.go_on, opening.start() + 1)
    return found


def find_in_long(text: str) -> list[JsonSpan]:
    """The outermost JSON objects and arrays of a text that is too long to be walked through, as a parser finds them.

    A number of beginnings is tried: each on the next part of the text, and the first few that fail there on all that
    follows. (A parser's error counts the lines before it, so each costs as much as the text it was given is long.)
    """
    decoder = json.JSONDecoder()
    found: list[JsonSpan] = []
    at, tries, whole_tries = 0, _TRIES, _WHOLE_TRIES
    while tries > 0 and len(found) < _MOST_IN_LONG and (opening := STRICT.opening.search(text, at)):
        start = opening.start()
        for end in (start + _WINDOW, len(text)):
            tries -= 1
            try:
                size = decoder.raw_decode(text[start:end])[1]
                found.append(JsonSpan(start, start + size, text[start : start + size]))
                at = start + size
                break
            except RecursionError:
                return found
            except ValueError:
                at = start + 1
            whole_tries -= 1
            if end >= len(text) or whole_tries < 0:
                break
    return found


@dataclass(frozen=True)
class _Closed:
    start: int
    end: int
    first_piece: int
    last_piece: int


class _Walk:
    """One run of the automaton, from an opening bracket until that closes, fails, or the text ends.

    `state` is what may come next: "value", "first value", "key", "first key", "colon", "next"; at the
    end "done", "failed", "too deep" or "cut off". `pieces` is what was read, as strict JSON; `safe` is how many
    of them end with a whole value or an opening bracket.
    """

    def __init__(self, text: str, start: int, tokens: StrictTokens) -> None:
        self.text, self.at, self.tokens = text, start, tokens
        self.state = "value"
        self.go_on = start
        self.pieces: list[str] = []
        self.safe = 0
        self.open: list[tuple[str, int, int]] = []
        self.closed: list[_Closed] = []

    def run(self) -> None:
        """Walk until the state is one of the last four."""
        while self.state not in ("done", "failed", "too deep", "cut off"):
            if self.open:
                self.at = self.tokens.skip(self.text, self.at)
            if self.at >= len(self.text):
                self.state = "cut off"
                return
            self.go_on = self.at
            self._step(self.text[self.at])

    def _step(self, char: str) -> None:
        if char in "{[" and self.state in ("value", "first value"):
            self._open(char)
        elif char in "}]" and self.state in ("next", "first key", "first value"):
            self._close(char)
        elif char == "," and self.state == "next":
            self._take(",", 1, "key" if self.open[-1][0] == "{" else "value")
        elif char == ":" and self.state == "colon":
            self._take(":", 1, "value")
        elif self.state in ("key", "first key"):
            self._token("colon", self.tokens.key(self.text, self.at))
        elif self.state in ("value", "first value"):
            self._token("next", self.tokens.value(self.text, self.at))
        else:
            self._fail()

    def _open(self, char: str) -> None:
        if len(self.open) >= MAX_DEPTH:
            self.state = "too deep"
            return
        self.open.append((char, self.at, len(self.pieces)))
        self._take(char, 1, "first key" if char == "{" else "first value")
        self.safe = len(self.pieces)

    def _close(self, char: str) -> None:
        opener, start, first = self.open[-1]
        if char != _CLOSER[opener]:
            self._fail()
            return
        self.open.pop()
        self._take(char, 1, "next" if self.open else "done")
        self.safe = len(self.pieces)
        self.closed.append(_Closed(start, self.at, first, len(self.pieces)))

    def _token(self, then: str, token: tuple[str, int] | None) -> None:
        if token is not None:
            self._last_token = self.at
            self._take(token[0], token[1], then)
            if then == "next":
                self.safe = len(self.pieces)
        elif self.tokens.breaks_off(self.text, self.at):
            self.state = "cut off"
        else:
            self._fail()

    def _take(self, piece: str, length: int, then: str) -> None:
        self.pieces.append(piece)
        self.at += length
        self.state = then

    def _fail(self) -> None:
        self.state = "failed"
        previous = self.pieces[-1] if self.pieces else ""
        if previous.startswith('"'):
            self.go_on = self._last_token + 1

    def whole(self) -> list[JsonSpan]:
        """The outermost containers that were closed, in the order of the text."""
        outermost: list[JsonSpan] = []
        for one in reversed(self.closed):
            if not outermost or one.end <= outermost[-1].start:
                piece = "".join(self.pieces[one.first_piece : one.last_piece])
                outermost.append(JsonSpan(one.start, one.end, piece))
        return outermost[::-1]

    def closed_up(self) -> str:
        """What was read up to the last whole value, with the closing brackets that are missing."""
        return "".join(self.pieces[: self.safe]) + "".join(_CLOSER[opener] for opener, _, _ in reversed(self.open))
