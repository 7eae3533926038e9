"""A value as documentation and programs write it: JSON with its slips, or the literal of a JavaScript or Python call.

Comments, a comma too many, other quotes, bare names, an ellipsis for what was left out. What is no literal, such as
a variable, is a place to fill in: it is never run. Comments beside a member are kept, for they say what it is.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

_DEEPEST = 200
_CLOSING = {"{": "}", "[": "]"}
_QUOTES = {'"': '"', "'": "'", "`": "`", "\N{LEFT DOUBLE QUOTATION MARK}": "\N{RIGHT DOUBLE QUOTATION MARK}",
           "\N{RIGHT DOUBLE QUOTATION MARK}": "\N{RIGHT DOUBLE QUOTATION MARK}",
           "\N{LEFT SINGLE QUOTATION MARK}": "\N{RIGHT SINGLE QUOTATION MARK}"}  # fmt: skip
_WORDS = {"true": True, "True": True, "false": False, "False": False, "null": None, "None": None, "undefined": None,
          "NaN": None}  # fmt: skip
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "0": "\0"}
_BLANK = re.compile(r"(?:\s|\ufeff)+")
_COMMENT = re.compile(r"//([^\n]*)|/\*(.*?)\*/|#([^\n]*)|<!--(.*?)-->", re.DOTALL)
_ELLIPSIS = re.compile(r"\.{3,}|…|\[\.\.\.\]")
_NUMBER = re.compile(r"[-+]?(?:\d[\d_]*\.?\d*|\.\d+)(?:[eE][-+]?\d+)?(?![\w.])")
_NAME = re.compile(r"[A-Za-z_$][\w$\-]*")
_TO_FILL_IN = re.compile(r"<[^<>\n]{1,60}>|\{\{[^{}\n]{1,60}\}\}|\$\{?\w+\}?|%\w+%")


class NotALiteral(ValueError):
    """What stands here is no literal."""


class LiteralReader:
    """Reads the literal that begins at a place of a text.

    :param code: whether variables and calls may stand for values, as they do in a program.
    :param known: what a program's expression is known to be; None where it is not.
    """

    def __init__(self, text: str, at: int = 0, code: bool = False, known: Callable[[str], Any] | None = None) -> None:
        self.text, self.at, self.code = text, at, code
        self._known = known or (lambda _: None)
        self.comments: dict[str, str] = {}
        """What comments say of members, by the members' names."""
        self._last_name = ""

    def read(self, depth: int = 0) -> Any:
        """The value; `at` is behind it then.

        :raises NotALiteral: where there is none.
        """
        if depth > _DEEPEST:
            raise NotALiteral("nested too deep")
        self._skip()
        value = self._one(depth)
        while self.code and isinstance(value, str) and (match := re.compile(r"\s*\+\s*").match(self.text, self.at)):
            self.at = match.end()
            value += str(self._one(depth))
        return value

    def _one(self, depth: int) -> Any:
        char = self._char()
        if char == "{" and not self.text.startswith("{{", self.at):
            return self._object(depth)
        if char == "[":
            return self._list(depth)
        if char in _QUOTES and (char != "`" or self.code):
            return self._string()
        if match := _NUMBER.match(self.text, self.at):
            self.at = match.end()
            digits = match[0].replace("_", "")
            return float(digits) if re.search(r"[.eE]", digits) else int(digits)
        word = _NAME.match(self.text, self.at)
        if word and word[0] in _WORDS:
            self.at = word.end()
            return _WORDS[word[0]]
        if match := _TO_FILL_IN.match(self.text, self.at):
            self.at = match.end()
            return match[0]
        if self.code:
            return self._expression()
        raise NotALiteral(f"'{self.text[self.at : self.at + 12]}' is no value")

    def _char(self) -> str:
        return self.text[self.at : self.at + 1]

    def _skip(self) -> None:
        """Past blanks and comments; a comment says something of the member before it, or after it on its own line."""
        while True:
            if match := _BLANK.match(self.text, self.at):
                self.at = match.end()
            elif (match := _COMMENT.match(self.text, self.at)) and not (match[3] is not None and not self._begins()):
                own_line = not self.text[self.text.rfind("\n", 0, self.at) + 1 : self.at].strip()
                words = next(one for one in match.groups() if one is not None).strip()
                self.at = match.end()
                name = self._name_ahead() if own_line else self._last_name
                if name and words:
                    self.comments.setdefault(name, words)
            else:
                return

    def _begins(self) -> bool:
        """Whether a `#` begins a comment: only one behind a blank or a comma does."""
        return self.at == 0 or self.text[self.at - 1] in " \t\n,{["

    def _name_ahead(self) -> str:
        match = re.compile(r"\s*[\"'\u201c]?([\w$\-]+)[\"'\u201d]?\s*:").match(self.text, self.at)
        return match[1] if match else ""

    def _object(self, depth: int) -> dict[str, Any]:
        self.at += 1
        made: dict[str, Any] = {}
        while not self._closed("}"):
            if self.code and self.text.startswith("...", self.at):
                self.at += 3
                self._expression()
                continue
            if match := _ELLIPSIS.match(self.text, self.at):
                self.at = match.end()
                continue
            name = self._member_name()
            self._skip()
            self._last_name = name
            if self._char() != ":":
                if self.code and self._char() in (",", "}"):  # `{ model }` is short for `{ model: model }`
                    made[name] = self._filled(name)
                    continue
                raise NotALiteral(f"'{name}' has no value")
            self.at += 1
            made[name] = self.read(depth + 1)
            self._last_name = name
        return made

    def _list(self, depth: int) -> list[Any]:
        self.at += 1
        made: list[Any] = []
        while not self._closed("]"):
            if match := _ELLIPSIS.match(self.text, self.at):
                self.at = match.end()
                continue
            made.append(self.read(depth + 1))
        return made

    def _closed(self, mark: str) -> bool:
        """Whether a container ends here; what parts its elements is passed over."""
        self._skip()
        while self._char() == ",":
            self.at += 1
            self._skip()
        if self._char() == mark:
            self.at += 1
            return True
        if not self._char():
            raise NotALiteral("it does not end")
        return False

    def _member_name(self) -> str:
        if self._char() in _QUOTES:
            return self._string()
        match = _NAME.match(self.text, self.at) or re.compile(r"\d+").match(self.text, self.at)
        if match is None:
            raise NotALiteral("a member has no name")
        self.at = match.end()
        return match[0]

    def _string(self) -> str:
        quote = self._char()
        end = _QUOTES[quote]
        self.at += 1
        made: list[str] = []
        while self._char() != end:
            char = self._char()
            if not char:
                raise NotALiteral("a text does not end")
            if char == "\\":
                self._escape(made)
            elif quote == "`" and self.text.startswith("${", self.at):
                close = self.text.find("}", self.at)
                if close < 0:
                    raise NotALiteral("a text does not end")
                inner = self.text[self.at + 2 : close].strip()
                made.append(self._filled(inner))
                self.at = close + 1
            else:
                made.append(char)
                self.at += 1
        self.at += 1
        return "".join(made)

    def _escape(self, made: list[str]) -> None:
        following = self.text[self.at + 1 : self.at + 2]
        code = re.compile(r"u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})").match(self.text, self.at + 1)
        if code:
            made.append(chr(int(code[1] or code[2], 16)))
            self.at = code.end()
            return
        made.append("" if following == "\n" else _ESCAPES.get(following, following))
        self.at += 2

    def _expression(self) -> Any:
        """A variable or a call: what is known of it, or a place to fill in."""
        start, depth = self.at, 0
        while self.at < len(self.text):
            char = self.text[self.at]
            if char in "\"'`":
                self._string()
                continue
            if depth == 0 and char in ",}])\n;":
                break
            depth += {"(": 1, "[": 1, "{": 1, ")": -1, "]": -1, "}": -1}.get(char, 0)
            self.at += 1
        inner = self.text[start : self.at].strip()
        if not inner:
            raise NotALiteral("there is nothing")
        return self._filled(inner)

    def _filled(self, expression: str) -> Any:
        known = self._known(expression)
        return known if known is not None else f"<{re.sub(r'[<>]', '', expression)[:60]}>"


def read_literal(text: str) -> Any:
    """The JSON of a text that may have the slips of documentation; nothing but blanks may follow it.

    :raises NotALiteral: where it cannot be read even so.
    """
    return literal_with_comments(text)[0]


def literal_with_comments(text: str) -> tuple[Any, dict[str, str]]:
    """As `read_literal`, with what the comments say of the members.

    :raises NotALiteral: as there.
    """
    try:
        return json.loads(text, strict=False), {}
    except (ValueError, RecursionError):
        pass
    reader = LiteralReader(text)
    value = reader.read()
    reader._skip()
    if text[reader.at :].strip(" \t\r\n;,.…"):
        raise NotALiteral("something follows")
    return value, reader.comments


def literal_at(text: str, at: int) -> tuple[Any, int, dict[str, str]] | None:
    """The object or list that begins at a place, where it ends, and its comments; None where there is none."""
    if text[at : at + 1] not in _CLOSING:
        return None
    try:
        value, size = json.JSONDecoder(strict=False).raw_decode(text[at:])
        return value, at + size, {}
    except (ValueError, RecursionError):
        pass
    reader = LiteralReader(text, at)
    try:
        return reader.read(), reader.at, reader.comments
    except (NotALiteral, RecursionError):
        return None
