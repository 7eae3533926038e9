"""A sample request's tree → what each part of it is for: prompt, system text, turns, pictures, model, settings.

Structure goes before names: what alternates in a list are turns, what is beside a picture in a list
are parts. Names decide between texts, and where they do not, the likeliest is taken and marked as a guess.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.model_place import find_model, within
from drovik.dialects.learn.placeholders import is_mark
from drovik.dialects.learn.trees import NOTHING, Evidence, Path, common, leaves, names_of, shown, value_at
from drovik.dialects.learn.turns import Parts, Shown, find_turns, picture_in, shortened_value
from drovik.errors import Problem, SampleError


def find_parts(
    tree: Any,
    evidence: Evidence = NOTHING,
    told: Mapping[str, str] | None = None,
    secrets: Mapping[Path, str] | None = None,
    model_elsewhere: bool = False,
) -> Parts:
    """What the parts of a request's tree are for.

    :param evidence: what the rest of the sample says of them.
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
            and (found := picture_in(value, names_of(path), evidence.handles))
        ):
            parts.pictures[path] = found
    if not parts.pictures:
        _take_any_address(parts)
    if "picture" in known:
        way = parts.pictures.get(known["picture"]) or Shown("base64", "you said so", True)
        parts.pictures[known["picture"]] = way
    find_turns(parts)
    _find_schema(parts)
    _find_texts(parts, known, evidence)
    find_model(parts, known, evidence, model_elsewhere)
    _find_settings(parts, evidence)
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


def _find_texts(parts: Parts, known: Mapping[str, Path], evidence: Evidence) -> None:
    system_turn = _system_turn(parts)
    candidates = [path for path, value in leaves(parts.tree) if _is_text(parts, path, value)]
    if parts.turns is not None:
        inside = [path for path in candidates if parts.turn and path[: len(parts.turn)] == parts.turn]
        asked = [path for path in inside if path[-1] != parts.role_key]
        outside = [path for path in candidates if path[: len(parts.turns)] != parts.turns]
    else:
        asked, outside = candidates, candidates
    ranked = sorted(asked, key=lambda path: -_prompt_score(parts, path, evidence))
    prompt = known.get("prompt") or (ranked[0] if ranked else None)
    if prompt is not None:
        parts.prompt = prompt
        best = _prompt_score(parts, prompt, evidence)
        close = tuple(path for path in ranked if path != prompt and not _is_system_named(path)
                      and best - _prompt_score(parts, path, evidence) < 2)  # fmt: skip
        told = "prompt" in known
        why = "you said so" if told else _why_prompt(parts, prompt, evidence)
        parts.take("prompt", prompt, why, told or not close, close if not told else ())
    system = known.get("system") or system_turn
    why, sure = ("you said so" if "system" in known else "its turn is the system's"), True
    if system is None:
        apart = [path for path in outside if path != prompt and not _beside(parts, path, prompt)]
        said = [
            path
            for path in apart
            if words.TELLS_SYSTEM.search(evidence.of(names_of(path))) or _marks(parts, path, "system")
        ]
        named = said or [path for path in apart if _is_system_named(path)]
        others = [path for path in apart if " " in str(value_at(parts.tree, path))]
        telling = [path for path in others if _instructs(str(value_at(parts.tree, path)))]
        system = next(iter(named or telling), None)
        sure = bool(named)
        why = "it reads like one"
        if named and system:
            why = "the page says so" if said else f"'{names_of(system)[-1]}' is named like one"
        for path in others if system is None else ():
            parts.take("copied unchanged", path, "it may be a system text, but does not read like one", False)
    if system is not None and names_of(system):
        parts.system = system
        parts.take("system text", system, why, sure)


def _beside(parts: Parts, path: Path, prompt: Path | None) -> bool:
    """Whether a text is in one list of parts with the prompt: what is before and after a picture is one text."""
    if prompt is None:
        return False
    return isinstance(value_at(parts.tree, common(path, prompt)), list)


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


def _prompt_score(parts: Parts, path: Path, evidence: Evidence) -> float:
    value, names = str(value_at(parts.tree, path)), names_of(path)
    told = evidence.of(names)
    score = 4.0 * bool(words.TELLS_PROMPT.search(told)) - 4.0 * bool(words.TELLS_SYSTEM.search(told))
    score += 3.0 * (words.folded_name(names[-1]) in words.PROMPT) + 2.0 * ("?" in value)
    score += 1.0 * (len(value.split()) >= 3) + 0.5 * any(words.folded_name(one) in words.PROMPT for one in names[:-1])
    score += 1.5 * bool(_ASKS.match(value.strip())) - 3.0 * bool(words.SAYS_WHO.match(value.strip()))
    score -= 5.0 * (_is_system_named(path) or _marks(parts, path, "system"))
    score += 3.0 * _marks(parts, path, "question|prompt|query|your text")
    score += 1.0 * any(len(common(path, one)) >= len(path) - 2 and len(path) > 2 for one in parts.pictures)
    return score


def _marks(parts: Parts, path: Path, words_: str) -> bool:
    """Whether a text is a place to fill in that says by these words what goes there."""
    value = str(value_at(parts.tree, path))
    return is_mark(value) and re.search(words_, value, re.IGNORECASE) is not None


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


def _why_prompt(parts: Parts, path: Path, evidence: Evidence) -> str:
    if words.TELLS_PROMPT.search(evidence.of(names_of(path))):
        return "the page says so"
    if words.folded_name(names_of(path)[-1]) in words.PROMPT:
        return f"'{names_of(path)[-1]}' is named like one"
    return "it is a question" if "?" in str(value_at(parts.tree, path)) else "it is the likeliest text"


# Settings, schema.


def _find_settings(parts: Parts, evidence: Evidence) -> None:
    """The settings; of several numbers that may limit the answer the one that says so most clearly."""
    found: list[tuple[bool, Path, str]] = []
    for path, value in leaves(parts.tree):
        names = names_of(path)
        if not names or within(path, parts.schema) or within(path, parts.turns):
            continue
        known = words.setting_of(names, value, evidence.of(names))
        if known is not None:
            found.append((known[1], path, known[0]))
    unnamed = [path for sure, path, _ in found if not sure and not _names_limit(path)]
    seen: set[str] = set()
    for sure, path, setting in sorted(found, key=lambda one: not one[0]):
        if setting in seen or (path in unnamed and len(unnamed) > 1):
            continue
        seen.add(setting)
        parts.settings[path] = setting
        why = "it is a whole number of that size, and nothing else limits the answer"
        why = why if path in unnamed else "by its name"
        why = "the page says so" if sure and evidence.of(names_of(path)) else why
        parts.take(f"setting {setting}", path, why, sure)


def _names_limit(path: Path) -> bool:
    return words.NAMES_LIMIT.search(words.spaced_name(names_of(path)[-1])) is not None


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
