"""Where the parts of a sample request are.

Where a sample gives a picture, and how: as a data URL, in base64, by its address, or by a handle.

Turns in a sample request: which list they are, who asks, who answers, and who is the system.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, field
from typing import Any, Literal

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.trees import Inference, Path, leaves, lists, shown, value_at
from drovik.dialects.learn.vocabulary import HANDLE, PICTURE, spaced_name
from drovik.text import cut


@dataclass
class Parts:
    """Where the parts of a request are. `turns` is the list of turns, `turn` the one with the question."""

    tree: Any
    prompt: Path | None = None
    system: Path | None = None
    turns: Path | None = None
    turn: Path | None = None
    role_key: str = ""
    roles: dict[str, str] = field(default_factory=dict)
    pictures: dict[Path, Shown] = field(default_factory=dict)
    model: Path | None = None
    settings: dict[Path, str] = field(default_factory=dict)
    schema: Path | None = None
    secrets: dict[Path, str] = field(default_factory=dict)
    taken: list[Inference] = field(default_factory=list)

    def take(self, role: str, path: Path, why: str, sure: bool = True, others: tuple[Path, ...] = ()) -> None:
        """Note what a part was taken for."""
        value = value_at(self.tree, path)
        self.taken.append(
            Inference(
                role=role,
                place=shown(path),
                value=shortened_value(value),
                why=why,
                sure=sure,
                others=tuple(shown(one) for one in others),
            )
        )


def shortened_value(value: Any) -> str:
    """A value in few characters."""
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return cut(text, 60)


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
    name = " ".join(spaced_name(one) for one in names[-2:])
    if text in handles:
        return Shown("handle", "an earlier request of the sample got it for a picture", True)
    if re.match(r"data:[^ ]*[,;<{$]", text):
        return Shown("data_url", "it begins with data:", True)
    if text.startswith(_STARTS):
        return Shown("base64", "it begins as a picture in base64 does", True)
    hinted = PICTURE.search(name) is not None
    if _SAYS_HOW.fullmatch(text) and not (names and _NAMED.search(spaced_name(names[-1]))):
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
        return Shown("base64", f"'{names[-1]}' is named like a picture, and what is there is to be filled in", False)
    if HANDLE.search("_".join(name.split()[-2:])) and _HANDLE_SHAPED.match(text) and not MEDIA_TYPE.match(text):
        return Shown(
            "handle", f"'{names[-1]}' is named like what an upload gives; the upload is not in the sample", False
        )
    return None


def is_picture_hint(value: str) -> bool:
    """Whether a text only says how a picture is given, or what kind it is of."""
    return _SAYS_HOW.fullmatch(value.strip()) is not None or MEDIA_TYPE.match(value) is not None


def _bracketed(text: str) -> bool:
    return re.fullmatch(r"<.*>|\{\{?.*\}\}?|\[.*\]|\$\(.*\)|\$\{?\w+\}?|[A-Z0-9_]+(?:\.\.\.|…)?", text) is not None


def _is_id(name: str) -> bool:
    return re.search(r"\b(?:id|ids|ref|handle|ticket|token)\b", name) is not None


def find_turns(parts: Parts) -> None:
    """Find the list of turns, and name who speaks in it."""
    best: tuple[int, Path, str] | None = None
    for path, elements in lists(parts.tree):
        if not elements or not all(isinstance(one, dict) for one in elements):
            continue
        for key in elements[0]:
            score = _turns_score(elements, key, parts, path)
            if score and (best is None or score > best[0]):
                best = (score, path, key)
    if best is None:
        return
    _, parts.turns, parts.role_key = best
    _name_roles(parts)


def _turns_score(elements: list[dict[str, Any]], key: str, parts: Parts, path: Path) -> int:
    """How much a list looks like turns that say by `key` who speaks; 0 where it does not."""
    values = [one.get(key) for one in elements]
    if not all(isinstance(value, str) and re.fullmatch(r"[\w.\-]{1,24}", value) for value in values):
        return 0
    if words.folded_name(key) in words.MODEL:
        return 0
    if any((*path, number, key) in parts.pictures for number in range(len(elements))):
        return 0
    says = [_says_something(one, key) for one in elements]
    if not all(says):
        return 0
    low = {str(value).lower() for value in values}
    known_word = bool(low & (words.USER_ROLES | words.ASSISTANT_ROLES | words.SYSTEM_ROLES))
    part_word = bool(low & {"text", "image", "picture", "photo", "words"})
    score = 2 * (words.folded_name(key) in words.ROLE_KEYS) + 3 * known_word - 4 * part_word
    score += 2 * any(isinstance(inner, list) for one in elements for inner in one.values())
    whole = any(_holds(parts, (*path, number)) for number in range(len(elements)))
    return max(0, score + 2 * whole - (0 if known_word or words.folded_name(key) in words.ROLE_KEYS else 1))


def _says_something(element: dict[str, Any], key: str) -> bool:
    return any(isinstance(value, str) and value for name, inner in element.items() if name != key
               for _, value in leaves(inner))  # fmt: skip


def _holds(parts: Parts, path: Path) -> bool:
    """Whether both a picture and a text are within a part."""
    inside = [one for one, value in leaves(value_at(parts.tree, path), path) if isinstance(value, str)]
    return any(one in parts.pictures for one in inside) and any(
        one not in parts.pictures and " " in str(value_at(parts.tree, one)) for one in inside
    )


def _name_roles(parts: Parts) -> None:
    """Who the user, the assistant and the system are: by known words, else the last to speak is the user."""
    assert parts.turns is not None
    turns = value_at(parts.tree, parts.turns)
    spoken = [str(turn[parts.role_key]) for turn in turns]
    by_word = {name: _side_of(name) for name in spoken}
    users = [name for name in spoken if by_word[name] == "user"]
    user = users[-1] if users else next((name for name in reversed(spoken) if by_word[name] is None), spoken[-1])
    parts.roles["user"] = user
    rest = [name for name in dict.fromkeys(spoken) if name != user]
    for name in rest:
        side = by_word[name]
        opens = side is None and spoken[0] == name and spoken.count(name) == 1
        if side == "system" or (opens and (len(rest) > 1 or _says_who(turns[0], parts.role_key))):
            parts.roles.setdefault("system", name)
        else:
            parts.roles.setdefault("assistant", name)
    numbers = [number for number, name in enumerate(spoken) if name == user]
    rich = [number for number in numbers if _has_picture(parts, (*parts.turns, number))]
    parts.turn = (*parts.turns, (rich or numbers)[-1])
    sure = bool(users) or words.folded_name(parts.role_key) in words.ROLE_KEYS
    parts.take("who asks", (*parts.turn, parts.role_key), "the turns say by it who speaks", sure)
    if "assistant" not in parts.roles:
        guess = "assistant"
        why = "the sample shows no turn of the model's, so how it is named is not known; it matters in conversations"
        parts.roles["assistant"] = guess
        parts.taken.append(Inference("who answers", shown(parts.turns), guess, why, sure=False))


def _says_who(turn: dict[str, Any], key: str) -> bool:
    """Whether a turn tells the model what to be, as nobody does who asks or answers."""
    texts = [value for path, value in leaves(turn) if isinstance(value, str) and path[-1] != key]
    return any(words.SAYS_WHO.match(one.strip()) for one in texts)


def _side_of(name: str) -> str | None:
    low = name.lower()
    sides = (("user", words.USER_ROLES), ("assistant", words.ASSISTANT_ROLES), ("system", words.SYSTEM_ROLES))
    return next((side for side, known in sides if low in known), None)


def _has_picture(parts: Parts, path: Path) -> bool:
    return any(one[: len(path)] == path for one in parts.pictures)
