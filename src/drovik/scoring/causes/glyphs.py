"""Characters that look alike, and texts that differ in nothing else."""

from __future__ import annotations

import unicodedata

_ALIKE = ("0OoQD", "1lIi|!", "5Ss", "8B", "2Zz", "6Gb", "9gq", "uv", "ce", "4A", "7T")
_PAIRS = (("rn", "m"), ("cl", "d"), ("vv", "w"), ("li", "h"), ("ii", "u"), ("lo", "b"), ("nn", "m"))
MOST = 3
"""Misread characters; a text with more of them is another text."""


def _are_alike(one: str, other: str) -> bool:
    return any(one in group and other in group for group in _ALIKE)


def is_glyph_slip(wanted: str, got: str) -> bool:
    """Whether a text is another one with a few characters taken for some that look like them: 0/O, 1/l, rn/m.

    No more than three of them, and no more than a third of the text.
    """
    one, other = unicodedata.normalize("NFC", wanted.strip()), unicodedata.normalize("NFC", got.strip())
    if one == other or abs(len(one) - len(other)) > MOST:
        return False
    slips = _slips(one, other, MOST)
    return slips is not None and 0 < slips <= max(1, len(one) // 3)


def _slips(one: str, other: str, left: int) -> int | None:
    """How many slips lead from one text to the other; None where more than `left`, or where none do."""
    at = 0
    while at < len(one) and at < len(other) and one[at] == other[at]:
        at += 1
    one, other = one[at:], other[at:]
    if not one and not other:
        return 0
    if not left or not one or not other:
        return None
    found = []
    if _are_alike(one[0], other[0]):
        found.append(_slips(one[1:], other[1:], left - 1))
    # The slip may have begun a character before the first that differs: "rn" and "m", "cl" and "d".
    for two, single in _PAIRS:
        if one.startswith(two) and other.startswith(single):
            found.append(_slips(one[2:], other[1:], left - 1))
        if one.startswith(single) and other.startswith(two):
            found.append(_slips(one[1:], other[2:], left - 1))
    known = [number for number in found if number is not None]
    return 1 + min(known) if known else None
