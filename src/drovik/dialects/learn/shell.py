"""A command as a shell would read it, as documentation writes them: quotes, continuation lines, here-documents.

Of the shells of Unix, and of the prompt of Windows and PowerShell. Nothing is run and nothing is expanded:
`$KEY` stays `$KEY`, and so does `$(base64 tray.jpg)`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from drovik.dialects.learn.literals import literal_at

_ESCAPES = {
    "n": "\n",
    "t": "\t",
    "r": "\r",
    "\\": "\\",
    "'": "'",
    '"': '"',
    "a": "\a",
    "b": "\b",
    "e": "\x1b",
    "0": "\0",
}
_DOUBLE = {'"': '"', "\N{LEFT DOUBLE QUOTATION MARK}": "\N{RIGHT DOUBLE QUOTATION MARK}",
           "\N{RIGHT DOUBLE QUOTATION MARK}": "\N{RIGHT DOUBLE QUOTATION MARK}"}  # fmt: skip
"""Double quotes, and what a word processor made of them."""
_HEREDOC = re.compile(r"<<-?\s*(['\"]?)(\w+)\1")
_CODED = re.compile(r"x([0-9a-fA-F]{1,2})|u([0-9a-fA-F]{1,4})")


@dataclass(frozen=True)
class Command:
    """A command's words, what it reads from standard input (a here-document), and where it ended in the text."""

    words: tuple[str, ...]
    stdin: str | None
    end: int


def read_command(text: str, at: int) -> Command:
    """The command that begins at a place; it ends at the first line break that no quote and no mark continues."""
    return _Reader(text, at).read()


class _Reader:
    def __init__(self, text: str, at: int) -> None:
        self.text, self.at = text, at
        self.words: list[str] = []
        self.word: list[str] | None = None
        self.waiting: list[str] = []

    def read(self) -> Command:
        while self.at < len(self.text):
            char = self.text[self.at]
            if char == "\n":
                break
            if char in " \t\r":
                self._end_word()
                self.at += 1
            elif char in "|;" or (char == "#" and self.word is None):
                self._skip_line()
                break
            elif match := _HEREDOC.match(self.text, self.at):
                self.waiting.append(match[2])
                self.at = match.end()
            else:
                self._piece(char)
        self._end_word()
        stdin = self._here_document() if self.waiting else None
        return Command(tuple(self.words), stdin, min(self.at, len(self.text)))

    def _end_word(self) -> None:
        if self.word is not None:
            self.words.append("".join(self.word))
        self.word = None

    def _add(self, text: str) -> None:
        self.word = [*(self.word or []), text]

    def _skip_line(self) -> None:
        end = self.text.find("\n", self.at)
        self.at = len(self.text) if end < 0 else end

    def _piece(self, char: str) -> None:
        rest = self.text[self.at : self.at + 2]
        if char in "\\^`" and re.match(r".[ \t]*\r?\n", self.text[self.at : self.at + 80]):
            self._end_word()  # a line goes on: with a backslash, or the mark of another shell
            self.at = self.text.index("\n", self.at) + 1
        elif char == "\\":
            self._add(rest[1:])
            self.at += 2
        elif rest == "$'":
            self._coded()
        elif char == "'":
            self._quoted("'", escapes="")
        elif char in _DOUBLE:
            self._quoted(_DOUBLE[char], escapes='"\\$`')
        elif rest == "$(":
            end = _closing(self.text, self.at + 1)
            self._add(self.text[self.at : end])
            self.at = end
        else:
            self._add(char)
            self.at += 1

    def _quoted(self, quote: str, escapes: str) -> None:
        self._add("")
        self.at += 1
        if quote == "'" and self._body_with_apostrophes():
            return
        doubled = escapes and re.match(r'\s*[{\[]\s*[{\[]?\s*""', self.text[self.at :]) is not None
        while self.at < len(self.text):
            if doubled and self.text.startswith('""', self.at):  # the prompt of Windows doubles quotes within quotes
                self._add('"')
                self.at += 2
                continue
            if self.text[self.at] == quote:
                break
            following = self.text[self.at + 1 : self.at + 2]
            if escapes and self.text.startswith('`"', self.at):  # PowerShell's way
                self._add('"')
                self.at += 2
                continue
            if escapes and self.text.startswith("$(", self.at):
                end = _closing(self.text, self.at + 1)
                self._add(self.text[self.at : end])
                self.at = end
                continue
            if escapes and self.text[self.at] == "\\" and following and following in escapes + "\n":
                self._add("" if following == "\n" else following)
                self.at += 2
                continue
            self._add(self.text[self.at])
            self.at += 1
        self.at += 1

    def _body_with_apostrophes(self) -> bool:
        """A body in single quotes in which somebody forgot that `don't` ends them: it ends where its JSON does."""
        end = self.text.find("'", self.at)
        start = self.at + len(self.text[self.at : end]) - len(self.text[self.at : end].lstrip())
        if end < 0 or self.text[start : start + 1] not in ("{", "["):
            return False
        found = literal_at(self.text, start)
        if found is None or found[1] <= end or not re.match(r"\s*'", self.text[found[1] :]):
            return False
        if "'\\''" in self.text[start : found[1]] or "'\"'\"'" in self.text[start : found[1]]:
            return False  # somebody did know
        self._add(self.text[start : found[1]])
        self.at = self.text.index("'", found[1]) + 1
        return True

    def _coded(self) -> None:
        """The quotes with escapes, such as `$'it\\'s'`."""
        self.at += 2
        self._add("")
        while self.at < len(self.text) and self.text[self.at] != "'":
            if self.text[self.at] != "\\":
                self._add(self.text[self.at])
                self.at += 1
            elif match := _CODED.match(self.text, self.at + 1):
                self._add(chr(int(match[1] or match[2], 16)))
                self.at = match.end()
            else:
                following = self.text[self.at + 1 : self.at + 2]
                self._add(_ESCAPES.get(following, "\\" + following))
                self.at += 2
        self.at += 1

    def _here_document(self) -> str:
        end_mark = self.waiting[0]
        start = self.text.find("\n", self.at) + 1
        if start == 0:
            return ""
        match = re.compile(rf"^[ \t]*{re.escape(end_mark)}[ \t]*\r?$", re.MULTILINE).search(self.text, start)
        self.at = match.end() if match else len(self.text)
        return self.text[start : match.start() if match else len(self.text)].removesuffix("\n")


def _closing(text: str, at: int) -> int:
    """Just behind the bracket that closes the one at `at`."""
    depth = 0
    while at < len(text):
        depth += {"(": 1, ")": -1}.get(text[at], 0)
        at += 1
        if depth == 0:
            break
    return at
