"""The files that a sample would send (`-d @FILE`): read only beneath the page's own folder, and only where agreed to.

A page of documentation is a stranger's text. `-d @~/.ssh/id_ed25519` in it would put a private file into the
dialect, and with the first request to try it into the stranger's hands.

A command as a shell would read it, as documentation writes them: quotes, continuation lines, here-documents.

Nothing is run and nothing is expanded: `$KEY` stays `$KEY`, and so does `$(base64 tray.jpg)`.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from drovik.errors import Problem, SampleError
from drovik.files import read_text

_HOLDS_KEYS = re.compile(
    r"^\.env|^\.netrc|^_netrc|^\.npmrc|^\.pypirc|^\.git-credentials|^id_[a-z0-9]+$|\.(?:pem|key|p12|pfx|jks|kdbx|asc|gpg)$"
    r"|secret|credential|passw|token|api.?key|private",
    re.IGNORECASE,
)
_IS_A_KEY = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY|^[A-Z][A-Z0-9_]*(?:KEY|TOKEN|SECRET)\s*=\s*\S", re.MULTILINE)


class SampleFiles:
    """Reads what a sample names.

    :param folder: of the page; nothing outside of it is read.
    :param ask: puts a question to the person at the terminal; None if there is none.
    :param agreed: the command line has agreed to all of them.
    """

    def __init__(self, folder: Path, ask: Callable[[str], bool] | None = None, agreed: bool = False) -> None:
        self._folder, self._ask, self._agreed = folder, ask, agreed
        self._texts: dict[str, str] = {}

    def text(self, name: str) -> str:
        """The text of a file.

        :raises DrovikError: where it is not there, lies elsewhere, holds keys, or nobody agrees.
        """
        if name not in self._texts:
            self._texts[name] = self._read(name)
        return self._texts[name]

    def _read(self, name: str) -> str:
        what = f"the sample sends the file {name}"
        paste = "paste what is to be sent in its place"
        if "\0" in name:
            raise SampleError(Problem("the sample sends a file whose name cannot be", paste))
        path = self._folder / name
        real = Path(os.path.realpath(path))
        if not real.is_relative_to(os.path.realpath(self._folder)):
            raise SampleError(Problem(f"{what}, which lies outside of the page's folder", paste))
        if not real.is_file():
            raise SampleError(Problem(f"{what}, which is not here", "put it there, or paste what is in it"))
        if any(_HOLDS_KEYS.search(part) for one in (path, real) for part in one.relative_to(one.anchor).parts[-2:]):
            raise SampleError(Problem(f"{what}, which by its name holds keys", paste))
        question = f"{what} ({real.stat().st_size} bytes). Read it, and send what is in it when the service is tried?"
        if not (self._agreed or (self._ask is not None and self._ask(question))):
            raise SampleError(Problem(f"{what}, and nobody agreed to that", f"say --with-files, or {paste}"))
        text = read_text(real, name)
        if _IS_A_KEY.search(text):
            raise SampleError(Problem(f"{what}, which has a key in it", paste))
        return text


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
        elif char == '"':
            self._quoted('"', escapes='"\\$`')
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
        while self.at < len(self.text) and self.text[self.at] != quote:
            following = self.text[self.at + 1 : self.at + 2]
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
