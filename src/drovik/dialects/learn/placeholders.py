"""The marks by which documentation says "your own goes here": `<KEY>`, `{{key}}`, `$KEY`, `YOUR_KEY`, `xxxx`, `…`."""

from __future__ import annotations

import re

_VARIABLE = re.compile(r"\$\{(\w+)\}|\$env:(\w+)|\$([A-Za-z_]\w*)|%([A-Za-z_]\w*)%")
_MARK = re.compile(
    r"\$\{\w+\}|\$env:\w+|\$[A-Za-z_]\w*|%[A-Za-z_]\w*%"  # a shell's variable
    r"|<[^<>\n]+>|\{\{[^{}\n]+\}\}|\[[A-Z][A-Z _\-]+\]|\{[A-Za-z][\w \-]*\}"  # in brackets
    r"|(?:[A-Za-z]{1,8}[-_])?[xX]{3,}[\w\-]*|\.{3,}|…|\*{3,}|•{3,}"  # filled up
    r"|\b(?:YOUR|MY|INSERT|ADD|PUT|PASTE|REPLACE)[_\- ]?[A-Za-z0-9_\-]+"
    r"|\b(?:your|my|insert|replace)[_\-][A-Za-z0-9_\-]+|\byour[A-Z]\w+"
    r"|\b[A-Z][A-Z0-9]*_?(?:API_?)?(?:KEY|TOKEN|SECRET|PASSWORD)(?:_HERE)?\b"
)
_AROUND = r"[\w.\-:]"
"""What belongs to a place to fill in beside its mark: `ab-xxxx`, and `ID:SECRET`."""


def variable_of(text: str) -> str | None:
    """The name of the variable that a text is; None where it is none."""
    match = _VARIABLE.fullmatch(text.strip("\"' "))
    return next(one for one in match.groups() if one) if match else None


def mark_in(text: str) -> tuple[int, int] | None:
    """Where in a text somebody's own is to go, from and to; None where nothing is to be filled in."""
    found = list(_MARK.finditer(text))
    if not found:
        return None
    start, end = found[0].start(), found[0].end()
    for later in found[1:]:  # `ID:SECRET` is one
        if re.fullmatch(r"[:.\-_]?", text[end : later.start()]):
            end = later.end()
    while start and re.match(_AROUND, text[start - 1]):
        start -= 1
    while end < len(text) and re.match(_AROUND, text[end]):
        end += 1
    return start, end


def is_mark(text: str) -> bool:
    """Whether a text is nothing but a place to fill in."""
    return mark_in(text) == (0, len(text)) and bool(text)
