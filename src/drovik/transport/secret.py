"""A key, and taking it out of whatever a service sends back, however it is spelled there.

A service may echo the key in an error, a debug member or a header: as it is, with JSON's escapes (`\\/`, `\\u002b`,
also twice over), percent-coded, as HTML, in base64 or hexadecimal, or split over the pieces of a stream. One
pattern finds all spellings that lie in one place; what is split is found in the strings of the pieces, joined by
where they stand.
"""

from __future__ import annotations

import base64
import binascii
import html.entities
import json
import re
from collections.abc import Callable, Collection, Iterator, Mapping
from typing import Any
from urllib.parse import quote

SHORTEST = 6
"""A shorter key is a placeholder: it keeps nobody out, and taking it out of replies would spoil them."""
MARK = "[key]"
"""What is put where a key was echoed."""
_NAMED = {chr(code): name for code, name in html.entities.codepoint2name.items()} | {"'": "apos"}
_DEEPEST = 200
"""Levels of a reply that are searched for the key; deeper ones are not kept."""
_SPELLED = re.compile(rb"\\+[ux/]|%|&")
"""Where a character may be written in another way than as itself."""


class Secret:
    """What must not survive an echo: a key, and each one that took its place. Its `repr` shows none."""

    def __init__(self, key: str) -> None:
        self._plain: list[str] = []
        self._every: list[str] = []
        self._raw: tuple[bytes, ...] = ()
        self._compiled: re.Pattern[bytes] | None = None
        self.add(key)

    def __repr__(self) -> str:
        return f"Secret({len(self._plain)})"

    def __bool__(self) -> bool:
        return bool(self._every)

    def add(self, key: str) -> None:
        """Take another key out too, from now on."""
        self._plain += [one for one in _meant_by(key) if one not in self._plain]
        if self._plain:
            self._every = sorted({one for key in self._plain for one in _encodings(key)}, key=len, reverse=True)
            raw = [one.encode("utf-8", "surrogatepass") for one in self._every]
            self._raw = tuple(dict.fromkeys([*raw, *(one.replace(b" ", b"+") for one in raw)]))
            self._compiled = None

    @property
    def _pattern(self) -> re.Pattern[bytes]:
        """All spellings of the key; made at the first text that may hold one, for it takes a while."""
        if self._compiled is None:
            self._compiled = re.compile(b"|".join(_any_spelling(one) for one in self._every))
        return self._compiled

    def _may_be_in(self, data: bytes) -> bool:
        """Whether a key may be in some bytes: as it is, or where anything is spelled otherwise than as it is."""
        if _SPELLED.search(data) or (b"\\" in data and any(mark in one for one in self._raw for mark in b"\"'\\")):
            return True
        return any(one in data for one in self._raw)

    def out_of_bytes(self, data: bytes) -> bytes:
        """Bytes without the key."""
        if not self._every or not self._may_be_in(data):
            return data
        return self._pattern.sub(MARK.encode(), data)

    def out_of(self, text: str) -> str:
        """Text without the key."""
        if not self._every:
            return text
        return self.out_of_bytes(text.encode("utf-8", "surrogatepass")).decode("utf-8", "surrogatepass")

    def out_of_body(self, body: bytes, form: str) -> bytes:
        """A reply's body without the key, also where it is split over pieces of a stream or members of a list.

        :param form: as the dialect has it: `json`, `text`, `events` or `lines`.
        """
        if not self._every:
            return body
        body = self.out_of_bytes(body)
        if form == "text":
            return body
        lines = [body] if form == "json" else re.split(rb"(\r\n|\n|\r)", body)
        trees = [_tree_of(line) for line in lines]
        changed = self._out_of_trees([tree for tree in trees if tree is not None])
        if not changed:
            return body
        return b"".join(_line_of(line, tree) for line, tree in zip(lines, trees, strict=True))

    def _out_of_trees(self, trees: list[Any]) -> bool:
        """Take the key out of strings that hold it only together; whether there were any. The trees are changed.

        Strings belong together where they are at the same place of each tree, places in a list being one.
        """
        by_place: dict[tuple[str, ...], list[_Slot]] = {}
        for tree in trees:
            for place, slot in _strings(tree):
                by_place.setdefault(place, []).append(slot)
        changed = False
        for slots in by_place.values():
            if len(slots) > 1:
                changed |= self._out_of_slots(slots)
        return changed

    def _out_of_slots(self, slots: list[_Slot]) -> bool:
        texts = [str(holder[name]).encode("utf-8", "surrogatepass") for holder, name in slots]
        whole = b"".join(texts)
        found = list(self._pattern.finditer(whole)) if self._may_be_in(whole) else []
        for match in reversed(found):
            at = 0
            first = True
            for number, text in enumerate(texts):
                start, end = max(match.start() - at, 0), min(match.end() - at, len(text))
                at += len(text)
                if start < end:
                    texts[number] = text[:start] + (MARK.encode() if first else b"") + text[end:]
                    first = False
        if found:
            for (holder, name), text in zip(slots, texts, strict=True):
                holder[name] = text.decode("utf-8", "replace")
        return bool(found)

    def out_of_headers(self, headers: Mapping[str, str]) -> Mapping[str, str]:
        """Headers whose values do not hold the key."""
        if not self._every or not any(self.out_of(value) != value for value in headers.values()):
            return headers
        copy = getattr(headers, "copy", lambda: dict(headers))()
        for name in list(copy):
            copy[name] = self.out_of(copy[name])
        return copy

    def passing(self, hear: Callable[[str], None]) -> StreamFilter:
        """Something that passes text on as it comes, but holds back what may be the beginning of the key."""
        return StreamFilter(
            self, {one for key in self._plain for one in (quote(key, safe=""), *_encodings(key))}, hear
        )


class StreamFilter:
    """Text on its way to a screen, piece by piece; `end` lets what was held back pass once no more comes."""

    def __init__(self, secret: Secret, whole: Collection[str], hear: Callable[[str], None]) -> None:
        self._secret, self._whole, self._hear = secret, whole, hear
        self._held = ""

    def __call__(self, text: str) -> None:
        """Take more text."""
        held = self._secret.out_of(self._held + text)
        keep = max((_overlap(held, one) for one in self._whole), default=0)
        passes, self._held = held[: len(held) - keep], held[len(held) - keep :]
        self._hear(passes)

    def end(self) -> None:
        """No more comes: what was held is shown, unless it is a good part of the key."""
        is_much = any(one.startswith(self._held) and 2 * len(self._held) > len(one) for one in self._whole)
        self._hear(MARK if self._held and is_much else self._held)
        self._held = ""


_Slot = tuple[Any, Any]
"""The list or table that holds a string, and where in it."""


def _meant_by(key: str) -> list[str]:
    """A key, and the password in it where it is a name and a password in base64."""
    found = [key] if len(key) >= SHORTEST else []
    try:
        inner = base64.b64decode(key, validate=True).decode("ascii")
    except (binascii.Error, ValueError):
        return found
    if ":" in inner and inner.isprintable():
        found += [one for one in (inner, inner.partition(":")[2]) if len(one) >= SHORTEST]
    return found


def _encodings(key: str) -> list[str]:
    """A key as it is, in hexadecimal, and what of its base64 is the same whatever stands around it."""
    data = key.encode("utf-8", "surrogatepass")
    found = [key, data.hex()]
    for before in range(3):
        coded = base64.b64encode(b"\0" * before + data + b"\0" * ((-before - len(data)) % 3)).decode("ascii")
        # A letter of base64 holds six bits; those at the seams have bits of what is beside the key.
        start, end = -(-before * 8 // 6), (before + len(data)) * 8 // 6
        found += [coded[start:end], coded[start:end].translate(str.maketrans("+/", "-_"))]
    return list(dict.fromkeys(one for one in found if len(one) >= SHORTEST))


def _any_spelling(text: str) -> bytes:
    """A pattern for a text, each character in any of its spellings."""
    return b"".join(_spellings_of(char) for char in text)


def _spellings_of(char: str) -> bytes:
    raw = char.encode("utf-8", "surrogatepass")
    units = char.encode("utf-16-be", "surrogatepass")
    escaped = b"".join(rb"\\+u(?i:%s)" % units[at : at + 2].hex().encode() for at in range(0, len(units), 2))
    percent = b"".join(rb"%%(?:25)*(?i:%s)" % bytes([byte]).hex().encode() for byte in raw)
    code = ord(char)
    entity = rb"&(?:amp;)?#0*(?:%d|[xX]0*(?i:%s));?" % (code, b"%x" % code)
    ways = [escaped, percent, entity]
    if char in _NAMED:
        ways.append(b"&(?:amp;)?%s;" % _NAMED[char].encode())
    if char == " ":
        ways.append(rb"\+")
    if char in "/\"'\\":
        ways.append(rb"\\+" + re.escape(raw))
    if code < 256:
        ways.append(rb"\\+x(?i:%02x)" % code)
    # The character itself comes last: where it is a percent sign, what follows may still belong to it.
    return b"(?:" + b"|".join([*ways, re.escape(raw)]) + b")"


def _tree_of(line: bytes) -> Any:
    """The JSON that a line of a stream holds, behind `data:` or alone; None for anything else."""
    text = line.strip().removeprefix(b"data:").strip()
    if text[:1] not in (b"{", b"["):
        return None
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return None


def _line_of(line: bytes, tree: Any) -> bytes:
    if tree is None:
        return line
    before = b"data: " if line.lstrip().startswith(b"data:") else b""
    return before + json.dumps(tree, ensure_ascii=True).encode("ascii")


def _strings(tree: Any) -> Iterator[tuple[tuple[str, ...], _Slot]]:
    """Every string of a JSON value, in order, with its place."""
    waiting: list[tuple[tuple[str, ...], Any, Any]] = [((), tree, None)]
    while waiting:
        place, one, slot = waiting.pop()
        if isinstance(one, str) and slot is not None:
            yield place, slot
        elif isinstance(one, dict) and len(place) < _DEEPEST:
            waiting += [((*place, name), inner, (one, name)) for name, inner in reversed(one.items())]
        elif isinstance(one, list) and len(place) < _DEEPEST:
            waiting += [((*place, "*"), one[at], (one, at)) for at in range(len(one) - 1, -1, -1)]


def _overlap(text: str, key: str) -> int:
    """How many characters at the end of a text are the beginning of a key."""
    most = min(len(text), len(key) - 1)
    return next((size for size in range(most, 0, -1) if key.startswith(text[-size:])), 0)
