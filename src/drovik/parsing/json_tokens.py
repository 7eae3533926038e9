"""The tokens of JSON, in two kinds: as RFC 8259 has them, and as people and models write them."""

from __future__ import annotations

import json
import math
import re

_WORDS = {"True": "true", "False": "false", "None": "null", "NaN": "null", "undefined": "null"}
_CUT_SCALAR = re.compile(r"(?:-?[\d.]{0,40}(?:[eE][-+]?\d{0,4})?|t(?:ru?)?|f(?:a(?:ls?)?)?|n(?:ul?)?)\Z")


class Tokens:
    """Strict tokens. Each method looks at `text` from `at` on and changes nothing."""

    opening = re.compile(r'\{(?=[ \t\r\n]*+["}]|[ \t\r\n]*+\Z)|\[(?=[ \t\r\n]*+(?:["\[{\]\-0-9tfn]|\Z))')
    """Brackets that may begin JSON, by what follows: a cheap look that passes over braces in prose."""

    _skip = re.compile(r"[ \t\r\n]*+")
    _string = re.compile(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*+"')
    _cut_string = re.compile(r'"(?:[^"\\\x00-\x1f]|\\.)*+\\?\Z')
    _scalar = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?(?![\w.])|(?:true|false|null)(?!\w)")

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


class LenientTokens(Tokens):
    """Also other quotes, raw line breaks in strings, bare names, a comma too many, comments, other words."""

    opening = re.compile(r"[{\[](?=\s*+(?:[^{(\s]|\Z))|\[")
    _skip = re.compile(r"(?:[ \t\r\n\u00a0]|//[^\n]*+|/\*(?:[^*]|\*(?!/)){0,300}+\*/|,(?=\s*[}\]]))*+")
    _string = re.compile(
        r'"(?:[^"\\]|\\.)*+"' r"|'(?:[^'\\]|\\.)*+'" r"|\u201c(?:[^\u201d\u201c\\]|\\.)*+\u201d", re.DOTALL
    )
    _cut_string = re.compile(r'"(?:[^"\\]|\\.)*+\\?\Z' r"|\u201c[^\u201c\u201d]*+\Z", re.DOTALL)
    _scalar = re.compile(
        r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?(?![\w.])|(?:true|false|null|True|False|None|NaN|undefined)(?!\w)"
    )
    _name = re.compile(r"[A-Za-z_$][\w$-]*+(?=\s*:)")

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


STRICT, LENIENT = Tokens(), LenientTokens()
