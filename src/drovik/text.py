"""Text of strangers made safe to show: what steers a terminal, hides, or turns the writing round is spelled out."""

from __future__ import annotations

import re

UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f]"
)
"""Control characters but line breaks and tabs; marks of direction; what has no width; halves of characters; tags."""


def visible(text: str) -> str:
    """Text in which every such character stands as its code point, and a line ends in one way."""
    if text.isprintable():
        return text
    text = text.replace("\r\n", "\n")
    return UNSEEN.sub(lambda one: f"\\u{{{ord(one[0]):x}}}", text)


def escaped_json(document: str) -> str:
    """A JSON document whose strings hold none of these as they are: JSON has a spelling of its own for them."""
    return document if document.isascii() else UNSEEN.sub(_escaped, document)


def _escaped(match: re.Match[str]) -> str:
    units = match[0].encode("utf-16-be", "surrogatepass")
    return "".join(f"\\u{units[at : at + 2].hex()}" for at in range(0, len(units), 2))
