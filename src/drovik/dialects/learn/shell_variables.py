"""The variables that a page sets before it uses them: `API=https://…`, `PIC=$(base64 tray.jpg)`, `set NAME=…`.

Only what is no secret is put in place of a name: an address, a text. A key's variable stays a variable, for it is
the place where the key goes.
"""

from __future__ import annotations

import re

from drovik.project.key_signs import is_secret_name

_SET = re.compile(
    r"^[ \t]*(?:[$>%#][ \t]+)?(?:export[ \t]+|set[ \t]+|setx[ \t]+|let[ \t]+)?\$?(?:env:)?([A-Za-z_]\w*)[ \t]?=[ \t]?"
    r"(\"(?:[^\"\\\n]|\\.)*\"|'[^'\n]*'|\$\([^\n]*\)|`[^`\n]+`|[^\s;&|]+)",
    re.MULTILINE,
)
_NAME = re.compile(r"\$env:(\w+)|\$\{(\w+)\}|\$(\w+)|%([A-Za-z_]\w+)%")
_MAKES_BASE64 = re.compile(r"\bbase64\b|b64|openssl[ \t]+enc", re.IGNORECASE)
_TO_FILL_IN = re.compile(r"<[^>]+>|\{\{|your[_\- ]|\.{3}|…|x{3,}|\*{3,}", re.IGNORECASE)


class ShellVariables:
    """What the variables of a page are, as far as it sets them."""

    def __init__(self, text: str) -> None:
        self._known: dict[str, str] = {}
        for match in _SET.finditer(text):
            value = _value(match[1], match[2])
            if value is not None:
                self._known.setdefault(match[1], value)

    def expanded(self, word: str) -> str:
        """A word of a command in which variables that are known stand for what they are."""
        word = re.sub(r"\$\((?:[^()]|\([^()]*\))*\)|`[^`]*base64[^`]*`", _of_command, word)
        for _ in range(3):  # one may be made of another
            word = _NAME.sub(self._one, word)
        return word

    def _one(self, match: re.Match[str]) -> str:
        name = next(one for one in match.groups() if one)
        return self._known.get(name, f"${name}" if match[1] or match[4] else match[0])


def _value(name: str, text: str) -> str | None:
    if text.startswith(("$(", "`")):
        return "<base64>" if _MAKES_BASE64.search(text) else None
    bare = text[1:-1] if text[:1] in ("'", '"') else text
    if is_secret_name(name) or not bare or (_TO_FILL_IN.search(bare) and "://" not in bare):
        return None
    is_plain = "://" in bare or text[:1] in ("'", '"') or re.fullmatch(r"[\w.\-/:]+", bare)
    return bare if is_plain and not _secret_shaped(bare) else None


def _secret_shaped(text: str) -> bool:
    return re.fullmatch(r"(?=.*\d)(?=.*[A-Za-z])[A-Za-z0-9_\-.]{20,}", text) is not None


def _of_command(match: re.Match[str]) -> str:
    """A command within a word: base64 of a file stands for a picture; all else stays."""
    return (
        "<base64>"
        if _MAKES_BASE64.search(match[0]) and not re.search(r"key|token|user|pass", match[0], re.IGNORECASE)
        else match[0]
    )
