"""Where in a sample request the model stands: by what the page tells of it, what lists it, its name, its shape."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.placeholders import is_mark
from drovik.dialects.learn.trees import Evidence, Path, leaves, names_of
from drovik.dialects.learn.turns import Parts, is_picture_hint

_VALUE = re.compile(r"[\w.:/@\-<>{}$%]+")
_SHAPED = re.compile(r"(?=.*[A-Za-z]{2})[A-Za-z][\w./]*[\-:_.@/][\w.\-:@/]*\d[\w.\-]*|[A-Za-z]{3,}\d[\w.\-]*")
_HYPHENATED = re.compile(r"[A-Za-z][A-Za-z0-9]+(?:[-:/][A-Za-z0-9.]+)+")
_OTHER_NAMES = re.compile(
    r"\b(?:type|kind|sort|lang|language|locale|format|encoding|encoded|style|tone|detail|quality|size|version|purpose|mode"
    r"|time|date|user|session|id of|region|zone|media|mime)\b"
)
_DATE = re.compile(r"\d{4}-\d\d(?:-\d\d)?.*|v?\d[\d.]*")
_LEAST, _SURE = 2.0, 4.0


def find_model(parts: Parts, known: Mapping[str, Path], evidence: Evidence, elsewhere: bool) -> None:
    """Find the model's id among the parts, and note it.

    :param known: the place that a person said it has.
    :param elsewhere: whether it is known to be in the path.
    """
    if "model" in known:
        parts.model = known["model"]
        parts.take("model", known["model"], "you said so")
        return
    scored = [
        (*_score(names_of(path), str(value), evidence, first=number == 0), path)
        for number, (path, value) in enumerate(leaves(parts.tree))
        if _may_be(parts, path, value)
    ]
    ranked = sorted(scored, key=lambda one: -one[0])
    if not ranked or ranked[0][0] < (_SURE if elsewhere else _LEAST):
        return
    score, why, parts.model = ranked[0]
    others = tuple(path for other, _, path in ranked[1:] if other >= _LEAST)
    clear = len(ranked) == 1 or score - ranked[1][0] >= 1
    parts.take("model", parts.model, why, score >= _SURE and clear, others)


def _may_be(parts: Parts, path: Path, value: Any) -> bool:
    return (
        isinstance(value, str)
        and bool(names_of(path))
        and _VALUE.fullmatch(value) is not None
        and not is_picture_hint(value)
        and path not in parts.pictures
        and path not in parts.secrets
        and path not in (parts.prompt, parts.system)
        and not within(path, parts.turns)
        and not within(path, parts.schema)
    )


def _score(names: tuple[str, ...], value: str, evidence: Evidence, first: bool) -> tuple[float, str]:
    """How likely a member is to be the model, and the weightiest reason."""
    name, spaced = words.folded_name(names[-1]), words.spaced_name(names[-1])
    shaped = _SHAPED.fullmatch(value) is not None and not _DATE.fullmatch(value)
    around = any(words.folded_name(one) in words.MODEL for one in names[:-1])
    quoted = re.search(rf"\b{re.escape(names[-1])}\b[\s:'\"`]+[\w.\-]+", evidence.errors) is not None
    said = re.search(rf"\b{re.escape(value)}\b", evidence.errors) is not None
    listed_beside = re.search(rf"`{re.escape(value)}`", evidence.of(names)) is not None
    reasons = [
        (5.0 * bool(words.TELLS_MODEL.search(evidence.of(names))), "the page says so"),
        (5.0 * (value in evidence.listed), "it is in the list of models"),
        (4.0 * bool(words.TELLS_MODEL.search(evidence.told.get(value, ""))), "the page calls it a model"),
        (5.0 * (name in words.MODEL), f"'{names[-1]}' is named like one"),
        (4.0 * ("model" in name), f"'{names[-1]}' is named like one"),
        (4.0 * (is_mark(value) and "model" in value.lower()), "a model's name is to be filled in"),
        (3.0 * around, f"'{names[-1]}' is within what is named like one"),
        (
            3.0 * ((quoted or said) and (shaped or _HYPHENATED.fullmatch(value) is not None)),
            "a sample error names it",
        ),
        (2.0 * (value in evidence.echoed and (shaped or "-" in value)), "the reply names it too"),
        (2.0 * shaped, "it is shaped like a model's name"),
        (2.0 * listed_beside, "the page lists values of it"),
        (1.5 * (not shaped and _HYPHENATED.fullmatch(value) is not None), "it is shaped like a model's name"),
    ]
    score = sum(points for points, _ in reasons) + 0.5 * (len(names) <= 2) + 0.5 * first
    score -= 4.0 * bool(_OTHER_NAMES.search(spaced)) + 6.0 * bool(_DATE.fullmatch(value))
    return score, max(reasons, key=lambda one: one[0])[1]


def within(path: Path, outer: Path | None) -> bool:
    """Whether a path leads into a part, or is it."""
    return outer is not None and path[: len(outer)] == outer
