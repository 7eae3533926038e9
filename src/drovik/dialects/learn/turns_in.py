"""Turns in a sample request: which list they are, who asks, who answers, and who is the system."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.inference import Taken
from drovik.dialects.learn.trees import Path, leaves, lists, shown, value_at

if TYPE_CHECKING:
    from drovik.dialects.learn.parts import Parts


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
    if any((*path, number, key) in parts.pictures for number in range(len(elements))):
        return 0
    says = [_says_something(one, key) for one in elements]
    if not all(says):
        return 0
    low = {str(value).lower() for value in values}
    known_word = bool(low & (words.USER_ROLES | words.ASSISTANT_ROLES | words.SYSTEM_ROLES))
    part_word = bool(low & {"text", "image", "picture", "photo", "words"})
    score = 2 * (words.folded(key) in words.ROLE_KEYS) + 3 * known_word - 4 * part_word
    score += 2 * any(isinstance(inner, list) for one in elements for inner in one.values())
    whole = any(_holds(parts, (*path, number)) for number in range(len(elements)))
    return max(0, score + 2 * whole - (0 if known_word or words.folded(key) in words.ROLE_KEYS else 1))


def _says_something(element: dict[str, Any], key: str) -> bool:
    return any(isinstance(value, str) and value for name, inner in element.items() if name != key
               for _, value in leaves(inner))  # fmt: skip


def _holds(parts: Parts, path: Path) -> bool:
    """Whether both a picture and a text stand within a part."""
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
        if side == "system" or (side is None and spoken[0] == name and spoken.count(name) == 1 and len(rest) > 1):
            parts.roles.setdefault("system", name)
        else:
            parts.roles.setdefault("assistant", name)
    numbers = [number for number, name in enumerate(spoken) if name == user]
    rich = [number for number in numbers if _has_picture(parts, (*parts.turns, number))]
    parts.turn = (*parts.turns, (rich or numbers)[-1])
    sure = bool(users) or words.folded(parts.role_key) in words.ROLE_KEYS
    parts.take("who asks", (*parts.turn, parts.role_key), "the turns say by it who speaks", sure)
    if "assistant" not in parts.roles:
        guess = "assistant"
        why = "the sample shows no turn of the model's, so how it is named is not known; it matters in conversations"
        parts.roles["assistant"] = guess
        parts.taken.append(Taken("who answers", shown(parts.turns), guess, why, sure=False))


def _side_of(name: str) -> str | None:
    low = name.lower()
    sides = (("user", words.USER_ROLES), ("assistant", words.ASSISTANT_ROLES), ("system", words.SYSTEM_ROLES))
    return next((side for side, known in sides if low in known), None)


def _has_picture(parts: Parts, path: Path) -> bool:
    return any(one[: len(path)] == path for one in parts.pictures)
