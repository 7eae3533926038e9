"""Text: made safe to show, shortened, folded for comparing; and numbers as text."""

from __future__ import annotations

import re
import unicodedata
from typing import Any, cast


class _Later:
    def __init__(self, text: str, flags: int) -> None:
        self._how = text, flags

    def __getattr__(self, name: str) -> Any:
        made = re.compile(*self._how)
        for one in ("search", "match", "fullmatch", "findall", "finditer", "sub", "split"):
            setattr(self, one, getattr(made, one))
        return getattr(made, name)


def pattern(text: str, flags: int = 0) -> re.Pattern[str]:
    """A regular expression that is compiled at its first use: what only an error needs delays no start."""
    return cast("re.Pattern[str]", _Later(text, flags))


UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f]"
)
"""Control characters but line breaks and tabs; marks of direction; what has no width; halves of characters; tags."""

_PUNCTUATION = re.compile(r"[^\w\s]|_")


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


def without_controls(text: str, instead: str = " ", keep: str = "") -> str:
    """Text without what cannot be printed: it cannot steer a terminal, nor break a line.

    :param keep: characters that stay all the same.
    """
    return "".join(char if char.isprintable() or char in keep else instead for char in text)


def shortened(text: str, most: int) -> str:
    """Text on one line, `most` characters at most."""
    return cut(" ".join(text.split()), most)


def cut(text: str, most: int) -> str:
    """Text of `most` characters at most, its end made known by an ellipsis; lines stay lines."""
    return text if len(text) <= most else text[: most - 1] + "…"


def normalized(text: str, *, case: bool = False, accents: bool = True, punctuation: bool = True) -> str:
    """Text with what does not count left out, its lines and spaces as they were.

    One form of each character always counts as another: a ligature is its letters, a full-width digit is a digit
    (Unicode's NFKC, UAX 15).

    :param case: whether letter case counts; so of accents and punctuation, which becomes spaces.
    """
    if not text.isascii():
        text = unicodedata.normalize("NFKC", text)
        if not accents:
            text = "".join(char for char in unicodedata.normalize("NFD", text) if not unicodedata.combining(char))
    if not case:
        text = text.casefold()
    return text if punctuation else _PUNCTUATION.sub(" ", text)


def folded(text: str, *, case: bool = False, accents: bool = True, punctuation: bool = True) -> str:
    """Normalized text on one line with single spaces: how labels, names and short texts are compared."""
    return " ".join(normalized(text, case=case, accents=accents, punctuation=punctuation).split())


def counted(number: int, noun: str) -> str:
    """A number of things: `1 answer`, `2 answers`, `3 replies`."""
    many = f"{noun[:-1]}ies" if noun.endswith("y") else f"{noun}s"
    return f"{number} {noun if number == 1 else many}"


def decimal(value: float, places: int, signed: bool = False) -> str:
    """A number with a fixed number of decimals; what rounds to nothing has no sign."""
    text = f"{value:+.{places}f}" if signed else f"{value:.{places}f}"
    return text.lstrip("+-") if float(text) == 0 else text


def percent(value: float) -> str:
    """A share in per cent with one decimal."""
    return f"{decimal(value * 100, 1)} %"


def score_text(value: float, coefficient: bool = False) -> str:
    """A score: a share in per cent, a coefficient (kappa, a correlation) as it is."""
    return decimal(value, 2) if coefficient else percent(value)


def difference_text(value: float, coefficient: bool = False) -> str:
    """A difference of scores with its sign: of shares in percentage points, of coefficients as it is."""
    return decimal(value, 2, signed=True) if coefficient else f"{decimal(value * 100, 1, signed=True)} points"


def bounds_text(low: float, high: float, coefficient: bool = False, signed: bool = False) -> tuple[str, str]:
    """The bounds of an interval of scores, without their unit."""
    places, scale = (2, 1) if coefficient else (1, 100)
    return decimal(low * scale, places, signed), decimal(high * scale, places, signed)


def about(count: float) -> str:
    """A count to two places, for what is only known about."""
    return f"{float(f'{count:.2g}'):.0f}"


def p_value(p: float) -> str:
    """A p value with its sign of relation."""
    return "< 0.001" if p < 0.001 else f"= {p:.3f}"


def seconds_text(value: float | None) -> str:
    """A time in seconds; a dash where it is not known."""
    return "–" if value is None else f"{value:.2f} s"
