"""A sample request's tree → what each part of it is for: prompt, system text, turns, pictures, model, settings.

Structure goes before names: what alternates in a list are turns, what is beside a picture in a list
are parts. Names decide between texts, and where they do not, the likeliest is taken and marked as a guess.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.trees import Path, common, leaves, names_of, shown, value_at
from drovik.dialects.learn.turns import Parts, Shown, find_turns, is_picture_hint, picture_in, shortened_value
from drovik.errors import Problem, SampleError


def find_parts(
    tree: Any,
    handles: frozenset[str] = frozenset(),
    told: Mapping[str, str] | None = None,
    echoed: frozenset[str] = frozenset(),
    secrets: Mapping[Path, str] | None = None,
    model_elsewhere: bool = False,
) -> Parts:
    """What the parts of a request's tree are for.

    :param handles: what earlier requests of the sample got for pictures.
    :param echoed: the texts that are in the reply too, as a model's id often does.
    :param secrets: where keys stand, and what is written there.
    :param model_elsewhere: whether the model is known to be in the path.
    :param told: by role (`prompt`, `system`, `model`, `picture`), the place or the value that a person says it has.
    :raises DrovikError: where a person names what is not there.
    """
    parts = Parts(tree, secrets=dict(secrets or {}))
    known = {role: _told_place(tree, role, text) for role, text in (told or {}).items() if text}
    for path, value in leaves(tree):
        if (
            isinstance(value, str)
            and path not in parts.secrets
            and (found := picture_in(value, names_of(path), handles))
        ):
            parts.pictures[path] = found
    if not parts.pictures:
        _take_any_address(parts)
    if "picture" in known:
        way = parts.pictures.get(known["picture"]) or Shown("base64", "you said so", True)
        parts.pictures[known["picture"]] = way
    find_turns(parts)
    _find_schema(parts)
    _find_texts(parts, known)
    _find_model(parts, known, echoed, model_elsewhere)
    _find_settings(parts)
    for path, how in parts.pictures.items():
        parts.take(f"picture ({how.way})", path, how.why, how.sure)
    return parts


def _take_any_address(parts: Parts) -> None:
    """Where nothing looks like a picture, an address is taken for one."""
    for path, value in leaves(parts.tree):
        if isinstance(value, str) and re.fullmatch(r"https?://\S+", value):
            parts.pictures[path] = Shown(
                "address", "it is the only address, and nothing else looks like a picture", False
            )
            return


def _told_place(tree: Any, role: str, text: str) -> Path:
    for path, value in leaves(tree):
        if shown(path) == text or (isinstance(value, str) and value.strip() == text.strip()):
            return path
    raise SampleError(Problem(f"--{role}-was: nothing in the sample is, or is at, '{shortened_value(text)}'",
                              "give a place such as $.question, or the text itself"))  # fmt: skip


# Turns.


# Texts.


def _find_texts(parts: Parts, known: Mapping[str, Path]) -> None:
    system_turn = _system_turn(parts)
    candidates = [path for path, value in leaves(parts.tree) if _is_text(parts, path, value)]
    if parts.turns is not None:
        inside = [path for path in candidates if parts.turn and path[: len(parts.turn)] == parts.turn]
        asked = [path for path in inside if path[-1] != parts.role_key]
        outside = [path for path in candidates if path[: len(parts.turns)] != parts.turns]
    else:
        asked, outside = candidates, candidates
    ranked = sorted(asked, key=lambda path: -_prompt_score(parts, path))
    prompt = known.get("prompt") or (ranked[0] if ranked else None)
    if prompt is not None:
        parts.prompt = prompt
        close = tuple(path for path in ranked if path != prompt and not _is_system_named(path)
                      and _prompt_score(parts, prompt) - _prompt_score(parts, path) < 2)  # fmt: skip
        told = "prompt" in known
        why = "you said so" if told else _why_prompt(parts, prompt)
        parts.take("prompt", prompt, why, told or not close, close if not told else ())
    system = known.get("system") or system_turn
    why, sure = ("you said so" if "system" in known else "its turn is the system's"), True
    if system is None:
        named = [path for path in outside if path != prompt and _is_system_named(path)]
        others = [path for path in outside if path != prompt and " " in str(value_at(parts.tree, path))]
        telling = [path for path in others if _instructs(str(value_at(parts.tree, path)))]
        system = next(iter(named or telling), None)
        sure = bool(named)
        why = f"'{names_of(system)[-1]}' is named like one" if named and system else "it reads like one"
        for path in others if system is None else ():
            parts.take("copied unchanged", path, "it may be a system text, but does not read like one", False)
    if system is not None and names_of(system):
        parts.system = system
        parts.take("system text", system, why, sure)


def _system_turn(parts: Parts) -> Path | None:
    """The text in the turn of the system, if there is one."""
    if parts.turns is None or "system" not in parts.roles:
        return None
    for number, turn in enumerate(value_at(parts.tree, parts.turns)):
        if turn[parts.role_key] == parts.roles["system"]:
            path = (*parts.turns, number)
            texts = [one for one, value in leaves(turn, path) if isinstance(value, str) and one[-1] != parts.role_key]
            return max(texts, key=lambda one: len(value_at(parts.tree, one)), default=None)
    return None


def _is_text(parts: Parts, path: Path, value: Any) -> bool:
    if not isinstance(value, str) or path in parts.pictures or path in parts.secrets or not names_of(path):
        return False
    if parts.schema is not None and path[: len(parts.schema)] == parts.schema:
        return False
    name = words.folded_name(names_of(path)[-1])
    worded = bool(re.search(r"\w\s+\w", value.strip())) or value.strip().endswith(("?", "!"))
    return worded or (
        name in words.PROMPT and name not in ("role", "input") and not re.fullmatch(r"[a-z_\-/]+", value)
    )


_ASKS = re.compile(
    r"(?:what|which|who|where|when|how|is|are|does|do|can|describe|read|say|tell|list|count|find|name|translate|extract"
    r"|identify|explain|look|show|give|transcribe|compare|classify|summari[sz]e|caption)\b",
    re.IGNORECASE,
)
_SAYS_WHO = re.compile(r"(?:you are|you're|you will|act as|your (?:task|role|job)|always|never)\b", re.IGNORECASE)


def _prompt_score(parts: Parts, path: Path) -> float:
    value, names = str(value_at(parts.tree, path)), names_of(path)
    score = 3.0 * (words.folded_name(names[-1]) in words.PROMPT) + 2.0 * ("?" in value)
    score += 1.0 * (len(value.split()) >= 3) + 0.5 * any(words.folded_name(one) in words.PROMPT for one in names[:-1])
    score += 1.5 * bool(_ASKS.match(value.strip())) - 3.0 * bool(_SAYS_WHO.match(value.strip()))
    score -= 5.0 * _is_system_named(path)
    score += 1.0 * any(len(common(path, one)) >= len(path) - 2 and len(path) > 2 for one in parts.pictures)
    return score


def _is_system_named(path: Path) -> bool:
    named = [words.folded_name(one) for one in names_of(path)]
    return named[-1] in words.SYSTEM - words.PROMPT or any("system" in one for one in named)


_INSTRUCTS = re.compile(
    r"\b(?:you|your|answer|reply|respond|always|never|only|do not|don't|must|be|use|keep|write|speak|act)\b",
    re.IGNORECASE,
)


def _instructs(text: str) -> bool:
    """Whether a text reads as if it told somebody what to be or to do."""
    return _INSTRUCTS.search(text) is not None or (text.rstrip().endswith(".") and len(text.split()) >= 5)


def _why_prompt(parts: Parts, path: Path) -> str:
    if words.folded_name(names_of(path)[-1]) in words.PROMPT:
        return f"'{names_of(path)[-1]}' is named like one"
    return "it is a question" if "?" in str(value_at(parts.tree, path)) else "it is the likeliest text"


# Model, settings, schema.


_MODEL_SHAPED = re.compile(r"(?=.*[A-Za-z]{2})[A-Za-z][\w./]*[\-:_.@/][\w.\-:@/]*\d[\w.\-]*|[A-Za-z]{3,}\d[\w.\-]*")


def _find_model(parts: Parts, known: Mapping[str, Path], echoed: frozenset[str], elsewhere: bool) -> None:
    if "model" in known:
        parts.model = known["model"]
        parts.take("model", known["model"], "you said so")
        return
    named = []
    for path, value in leaves(parts.tree):
        name = words.folded_name(names_of(path)[-1]) if names_of(path) else ""
        if (
            isinstance(value, str)
            and re.fullmatch(r"[\w.:/@\-<>{}$]+", value)
            and path not in {**parts.pictures, **parts.secrets}
        ):
            score = 3 * (name in words.MODEL) + 2 * ("model" in name) + (len(path) <= 2)
            if score >= 3:
                named.append((score, path))
    if named:
        _, parts.model = max(named, key=lambda one: one[0])
        parts.take("model", parts.model, f"'{names_of(parts.model)[-1]}' is named like one")
        return
    shaped = [
        path
        for path, value in leaves(parts.tree)
        if isinstance(value, str) and _MODEL_SHAPED.fullmatch(value) and not is_picture_hint(value)
        and path not in parts.pictures
        and path not in parts.secrets
        and not _within(path, parts.turns) and not _within(path, parts.schema)
    ]  # fmt: skip
    echoing = [path for path in shaped if value_at(parts.tree, path) in echoed]
    if shaped:
        parts.model = (echoing or shaped)[0]
        why = "the reply names it too" if echoing else "it is shaped like a model's name"
        parts.take("model", parts.model, why, bool(echoing), tuple((echoing or shaped)[1:]))


def _find_settings(parts: Parts) -> None:
    seen: set[str] = set()
    for path, value in leaves(parts.tree):
        if not names_of(path) or _within(path, parts.schema) or _within(path, parts.turns):
            continue
        setting = words.setting_of(names_of(path)[-1], value)
        if setting and setting not in seen:
            seen.add(setting)
            parts.settings[path] = setting
            parts.take(f"setting {setting}", path, "by its name")


def _within(path: Path, outer: Path | None) -> bool:
    return outer is not None and path[: len(outer)] == outer


def _find_schema(parts: Parts) -> None:
    waiting: list[tuple[Path, Any]] = [((), parts.tree)]
    while waiting:
        path, one = waiting.pop(0)
        if isinstance(one, dict):
            if path and isinstance(one.get("properties"), dict) and one.get("type") == "object":
                parts.schema = path
                parts.take("schema of the answer", path, "it is a JSON Schema")
                return
            waiting += [((*path, name), inner) for name, inner in one.items()]
        elif isinstance(one, list):
            waiting += [((*path, number), inner) for number, inner in enumerate(one)]
