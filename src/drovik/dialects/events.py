"""Replies that come in pieces: server-sent events and JSON lines, split as they arrive.

Server-sent events follow the HTML standard's section 9.2.6: lines end in CR LF, LF or CR; a line that
begins with a colon is a comment; several `data` lines of one event are joined by line breaks; an event
ends at an empty line. Unlike a browser we also take an event that the end of the stream leaves open,
for services that send no last empty line.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator
from dataclasses import dataclass

_LINE = re.compile(r"\r\n|\n|\r(?=.)", re.DOTALL)
"""A CR at the very end may be half of a CR LF, so it waits for what follows."""


_EMPTY_LINES = re.compile(r"(?:\r\n|\n|\r(?=.)){3,}+", re.DOTALL)
"""Many empty lines say no more than one, and a reply may be fifty megabytes of them."""


@dataclass(frozen=True)
class StreamEvent:
    """One event or line: its name where it is an event, and its data."""

    name: str
    data: str


class LineSplitter:
    """Bytes as they come → whole lines."""

    def __init__(self) -> None:
        self._decode = codecs.getincrementaldecoder("utf-8")("replace").decode
        self._rest: list[str] = []
        self._first = True

    def feed(self, data: bytes, last: bool = False) -> Iterator[str]:
        """The lines that are whole now; with `last`, the open one too."""
        text = self._decode(data, last)
        if self._first and text:
            text, self._first = text.removeprefix("\N{ZERO WIDTH NO-BREAK SPACE}"), False
        waits = bool(self._rest) and self._rest[-1].endswith("\r")
        self._rest.append(text)
        if waits or "\n" in text or "\r" in text:  # else a line of 50 MB would be gone through at each piece
            *whole, rest = _LINE.split(_EMPTY_LINES.sub("\n\n", "".join(self._rest)))
            self._rest = [rest]
            yield from whole
        if last and (rest := "".join(self._rest)):
            yield rest.removesuffix("\r")
            self._rest = []


class JsonLines:
    """Lines, each a piece; empty ones are passed over."""

    def __init__(self) -> None:
        self._lines = LineSplitter()

    def feed(self, data: bytes, last: bool = False) -> Iterator[StreamEvent]:
        """The pieces that are whole now."""
        for line in self._lines.feed(data, last):
            if line.strip():
                yield StreamEvent("", line.strip())


class Events:
    """Server-sent events."""

    def __init__(self) -> None:
        self._lines = LineSplitter()
        self._name = ""
        self._data: list[str] = []

    def feed(self, data: bytes, last: bool = False) -> Iterator[StreamEvent]:
        """The events that are whole now."""
        for line in self._lines.feed(data, last):
            if not line:
                yield from self._finished()
            elif not line.startswith(":"):
                field, _, value = line.partition(":")
                value = value.removeprefix(" ")
                if field == "data":
                    self._data.append(value)
                elif field == "event":
                    self._name = value
        if last:
            yield from self._finished()

    def _finished(self) -> Iterator[StreamEvent]:
        if self._data or self._name:
            yield StreamEvent(self._name, "\n".join(self._data))
        self._name, self._data = "", []
