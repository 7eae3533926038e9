"""Request templates: JSON with slots, filled once, straight into the bytes of the request.

A template is compiled to a tree of small nodes. Filling walks the tree and appends to a list of
byte strings; text is escaped as JSON where it is put in, so that text which looks like a slot stays
text. A picture's base64 needs no escaping, so it is spliced in as the bytes it is and never runs
through the JSON encoder: on pictures of 200 KB that is half of the work of a request.

The rules: a string that is one slot takes that slot's own type; a slot inside a longer string is
text. `{x}` must have a value; a member whose only content is `{x?}` vanishes when it has none, and so
does a container that this empties. A list element, or a member's value, with the single key
`each NAME` is repeated, and where it repeats a list, that list's elements are, one after another; with
the single key `when SLOT` it is kept only if there is such a value.
`{{x}}` writes the characters `{x}`.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from drovik.errors import Problem, RequestError, known_words

_SLOT = re.compile(r"\{(\{?)([a-z_][a-z0-9_]*(?:\.[a-z_][a-z0-9_]*)*)(\??)\}(\}?)")
COLLECTIONS = {"turn": "turns", "part": "parts", "image": "images"}
"""What `each` may repeat, and the member of the scope that holds the scopes of its rounds."""


@dataclass(frozen=True)
class Raw:
    """ASCII bytes that need no escaping in a JSON string, such as base64."""

    data: bytes


Scope = Mapping[str, Any]


class TemplateNode(Protocol):
    """A part of a template."""

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        """Append this part's bytes, or leave `out` as it was and return False where it vanishes."""
        ...

    def slots(self) -> Iterator[str]:
        """The names of all slots inside."""
        ...


@dataclass(frozen=True)
class _Fixed:
    data: bytes

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        out.append(self.data)
        return True

    def slots(self) -> Iterator[str]:
        return iter(())


@dataclass(frozen=True)
class _Slot:
    name: str
    optional: bool

    def value(self, scope: Scope) -> Any:
        """The slot's value, or None where it has none and need not have one."""
        value = scope.get(self.name)
        if value is None and not self.optional:
            raise RequestError(
                Problem(f"the slot {{{self.name}}} has no value", f"write {{{self.name}?}} if it may be left out")
            )
        return value

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        value = self.value(scope)
        if value is None:
            return False
        if isinstance(value, Raw):
            out += (b'"', value.data, b'"')
        else:
            out.append(json.dumps(value, ensure_ascii=False).encode("utf-8", "replace"))
        return True

    def slots(self) -> Iterator[str]:
        yield self.name


@dataclass(frozen=True)
class TextTemplate:
    """A string with slots inside. It vanishes where all its slots are optional and none has a value."""

    pieces: tuple[str | _Slot, ...]

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        """Append the text with its slots filled; False where a slot that may be missing has no value."""
        values = self._values(scope)
        if values is None:
            return False
        out.append(b'"')
        for value in values:
            text = value if isinstance(value, str | Raw) else _as_text(value)
            out.append(
                text.data
                if isinstance(text, Raw)
                else json.dumps(text, ensure_ascii=False)[1:-1].encode("utf-8", "replace")
            )
        out.append(b'"')
        return True

    def as_text(self, scope: Scope, quoted: Callable[[str], str] | None = None) -> str | None:
        """The filled string itself, for headers, path and query; None where it vanishes.

        :param quoted: what is done to the slots' values, not to what stands between them.
        """
        values = self._values(scope)
        if values is None:
            return None
        texts = []
        for value, piece in zip(values, self.pieces, strict=True):
            text = value.data.decode() if isinstance(value, Raw) else _as_text(value)
            texts.append(quoted(text) if quoted and isinstance(piece, _Slot) else text)
        return "".join(texts)

    def slots(self) -> Iterator[str]:
        """The names of the slots."""
        return (piece.name for piece in self.pieces if isinstance(piece, _Slot))

    def _values(self, scope: Scope) -> list[Any] | None:
        own = [piece for piece in self.pieces if isinstance(piece, _Slot)]
        values = [piece.value(scope) if isinstance(piece, _Slot) else piece for piece in self.pieces]
        if own and all(slot.optional and scope.get(slot.name) is None for slot in own):
            return None
        return ["" if value is None else value for value in values]


@dataclass(frozen=True)
class _Each:
    name: str
    inner: TemplateNode

    def rounds(self, scope: Scope) -> list[Scope]:
        return [{**scope, **one} for one in scope.get(COLLECTIONS[self.name]) or ()]

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        return _Elements((self,)).fill(scope, out)

    def slots(self) -> Iterator[str]:
        return self.inner.slots()


@dataclass(frozen=True)
class _When:
    name: str
    inner: TemplateNode

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        return scope.get(self.name) is not None and self.inner.fill(scope, out)

    def slots(self) -> Iterator[str]:
        yield self.name
        yield from self.inner.slots()


@dataclass(frozen=True)
class _Elements:
    elements: tuple[TemplateNode, ...]

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        parts = [part for element in self.elements for part in self._filled(element, scope)]
        if self.elements and not parts:
            return False
        _enclose(b"[", parts, b"]", out)
        return True

    def _filled(self, element: TemplateNode, scope: Scope) -> Iterator[list[bytes]]:
        if isinstance(element, _Each):
            inner = element.inner.elements if isinstance(element.inner, _Elements) else (element.inner,)
            for one in element.rounds(scope):
                for node in inner:
                    yield from self._filled(node, one)
            return
        part: list[bytes] = []
        if element.fill(scope, part):
            yield part

    def slots(self) -> Iterator[str]:
        return (name for element in self.elements for name in element.slots())


@dataclass(frozen=True)
class _Members:
    members: tuple[tuple[bytes, TemplateNode], ...]

    def fill(self, scope: Scope, out: list[bytes]) -> bool:
        parts = []
        for key, node in self.members:
            part = [key]
            if node.fill(scope, part):
                parts.append(part)
        if self.members and not parts:
            return False
        _enclose(b"{", parts, b"}", out)
        return True

    def slots(self) -> Iterator[str]:
        return (name for _, node in self.members for name in node.slots())


def _enclose(opener: bytes, parts: list[list[bytes]], closer: bytes, out: list[bytes]) -> None:
    out.append(opener)
    for number, part in enumerate(parts):
        if number:
            out.append(b",")
        out += part
    out.append(closer)


def _as_text(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def compile_text(text: str) -> TextTemplate:
    """A string of a path, header or query as a template."""
    pieces: list[str | _Slot] = []
    at = 0
    for match in _SLOT.finditer(text):
        before, name, optional, after = match.groups()
        doubled = bool(before and after)
        pieces.append(text[at : match.start()] + ("" if doubled else before))
        pieces.append(f"{{{name}{optional}}}" if doubled else _Slot(name, bool(optional)))
        at = match.end() if doubled or not after else match.end() - 1
    pieces.append(text[at:])
    return TextTemplate(tuple(piece for piece in pieces if piece != ""))


def escaped(text: str) -> str:
    """Text that stays what it is where slots are filled: what looks like a slot gets one more pair of braces."""

    def kept(match: re.Match[str]) -> str:
        before, name, optional, after = match.groups()
        if before and after:
            return f"{{{match[0]}}}"
        return f"{before}{{{{{name}{optional}}}}}{after}"

    return _SLOT.sub(kept, text)


def compile_body(tree: Any) -> TemplateNode:
    """A parsed JSON body as a template.

    :raises DrovikError: where `each` names what cannot be repeated.
    """
    if isinstance(tree, str):
        text = compile_text(tree)
        if len(text.pieces) == 1 and isinstance(text.pieces[0], _Slot):
            return text.pieces[0]
        return text if any(text.slots()) else _Fixed(_dumped("".join(str(piece) for piece in text.pieces)))
    if isinstance(tree, list):
        return _Elements(tuple(compile_body(element) for element in tree))
    if isinstance(tree, dict):
        return _compile_object(tree)
    return _Fixed(_dumped(tree))


def _compile_object(tree: dict[str, Any]) -> TemplateNode:
    if len(tree) == 1:
        ((key, inner),) = tree.items()
        word, _, name = key.partition(" ")
        if word == "each" and name:
            if name not in COLLECTIONS:
                raise RequestError(Problem(f"'{key}': there is nothing to repeat", known_words(name, COLLECTIONS)))
            return _Each(name, compile_body(inner))
        if word == "when" and name:
            return _When(name, compile_body(inner))
    return _Members(tuple((_dumped(key) + b":", compile_body(value)) for key, value in tree.items()))


def _dumped(value: Any) -> bytes:
    return json.dumps(value, ensure_ascii=False).encode("utf-8", "replace")
