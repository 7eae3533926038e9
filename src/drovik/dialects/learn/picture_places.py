"""Where a sample gives a picture, and how: as a data URL, in base64, by its address, or by a handle."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from drovik.dialects.learn.vocabulary import HANDLE, PICTURE, spaced

Way = Literal["data_url", "base64", "address", "handle"]

_STARTS = ("iVBORw0KGgo", "/9j/", "R0lGOD", "UklGR", "Qk0", "SUkqAA", "TU0AKg")
"""How PNG, JPEG, GIF, WebP, BMP and TIFF begin in base64."""

_BASE64 = re.compile(r"[A-Za-z0-9+/_\-\s]{40,}={0,2}(?:\.\.\.|…)?")
_PLACE_HOLDER = re.compile(r"base-?_?64|b64", re.IGNORECASE)
_SAYS_HOW = re.compile(r"[a-z_\-/+;: ]*b(?:ase)?[-_]?64")
"""A word that says how a picture is given, such as `"type": "base64"`, and is none itself."""

_NAMED = re.compile(r"image|picture|photo|pic\b|img")
_ENDING = re.compile(r"\.(?:jpe?g|png|webp|gif|bmp|tiff?)(?:[?#].*)?$", re.IGNORECASE)
_ADDRESS = re.compile(r"(?:https?|gs|s3|file)://\S+$", re.IGNORECASE)
_HANDLE_SHAPED = re.compile(r"[A-Za-z0-9_\-:./]{4,200}$")
MEDIA_TYPE = re.compile(r"image/(?:jpeg|jpg|png|webp|gif)$", re.IGNORECASE)
FORMATS = ("jpeg", "png", "webp", "jpg")


@dataclass(frozen=True)
class Shown:
    """How a string gives a picture, why it is taken for that, and whether that is sure."""

    way: Way
    why: str
    sure: bool


def picture_in(value: str, names: tuple[str, ...], handles: frozenset[str] = frozenset()) -> Shown | None:
    """How a string gives a picture; None where it gives none.

    :param names: of the members that lead to it, the nearest last.
    :param handles: what earlier requests of the sample got for their pictures.
    """
    text = value.strip()
    name = " ".join(spaced(one) for one in names[-2:])
    if text in handles:
        return Shown("handle", "an earlier request of the sample got it for a picture", True)
    if re.match(r"data:[^ ]*[,;<{$]", text):
        return Shown("data_url", "it begins with data:", True)
    if text.startswith(_STARTS):
        return Shown("base64", "it begins as a picture in base64 does", True)
    hinted = PICTURE.search(name) is not None
    if _SAYS_HOW.fullmatch(text) and not (names and _NAMED.search(spaced(names[-1]))):
        return None
    if (" " not in text and _PLACE_HOLDER.search(text)) or (_PLACE_HOLDER.search(text) and _bracketed(text)):
        return Shown("base64", "it stands for base64", True)
    if _ADDRESS.match(text):
        if _ENDING.search(text) or hinted or PICTURE.search(text.lower()):
            return Shown("address", "it is the address of a picture", True)
        return None
    if _BASE64.fullmatch(text) and " " not in text:
        return Shown("base64", "it is a long text of base64's letters", hinted)
    if hinted and _bracketed(text) and not _is_id(name):
        return Shown(
            "base64", f"'{names[-1]}' is named like a picture, and what stands there is to be filled in", False
        )
    if HANDLE.search("_".join(name.split()[-2:])) and _HANDLE_SHAPED.match(text) and not MEDIA_TYPE.match(text):
        return Shown(
            "handle", f"'{names[-1]}' is named like what an upload gives; the upload is not in the sample", False
        )
    return None


def says_how(value: str) -> bool:
    """Whether a text only says how a picture is given, or what kind it is of."""
    return _SAYS_HOW.fullmatch(value.strip()) is not None or MEDIA_TYPE.match(value) is not None


def _bracketed(text: str) -> bool:
    return re.fullmatch(r"<.*>|\{\{?.*\}\}?|\[.*\]|\$\(.*\)|\$\{?\w+\}?|[A-Z0-9_]+(?:\.\.\.|…)?", text) is not None


def _is_id(name: str) -> bool:
    return re.search(r"\b(?:id|ids|ref|handle|ticket|token)\b", name) is not None
