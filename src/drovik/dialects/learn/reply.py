"""What a sample reply says beside its text: why it ended, the model, an error's words."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.reply_answer import sort_key
from drovik.dialects.learn.trees import NOTHING, Evidence, Inference, Path, leaves, names_of, shown, value_at
from drovik.text import cut


@dataclass
class LearnedReply:
    """What sample replies came to; `form` is a table for a dialect's file.

    `evidence` is what the rest of the sample says: `echoed` are the texts of the request here.
    """

    form: dict[str, Any] = field(default_factory=dict)
    taken: list[Inference] = field(default_factory=list)
    evidence: Evidence = NOTHING

    def take(self, role: str, place: str, value: object, why: str, sure: bool = True) -> None:
        """Note what a part was taken for."""
        text = str(value)
        self.taken.append(Inference(role, place, cut(text, 60), why, sure))


def find_ended(learned: LearnedReply, trees: list[Any], used: set[Path]) -> None:
    """Where it stands why an answer ended: by what the page says, by its name, or as the only word that is left."""
    best: tuple[float, Path, str] | None = None
    left: list[tuple[Path, str]] = []
    for tree in reversed(trees):
        for path, value in leaves(tree):
            if not isinstance(value, str) or not names_of(path) or path in used or _is_sort(path, tree):
                continue
            name = words.spaced_name(names_of(path)[-1])
            if not re.fullmatch(r"[\w.\- ]{1,40}", value) or _is_id(name):
                continue
            told = words.TELLS_ENDED.search(learned.evidence.of(names_of(path)))
            if told or words.ENDED.search(name):
                score = len(words.ENDED.findall(name)) + 2 * bool(
                    re.search(r"finish|stop|ended|reason|why|closed|because", name)
                )
                score += 3 * bool(told)
                if best is None or score > best[0]:
                    best = (score, path, value)
            elif _is_a_word(value) and value not in learned.evidence.echoed:
                left.append((path, value))
    if best is not None:
        learned.form["ended"] = _starred(best[1])
        learned.take("why it ended", learned.form["ended"], best[2], "by its name", best[0] >= 2)
    elif len({path for path, _ in left}) == 1:
        path, value = left[0]
        learned.form["ended"] = _starred(path)
        learned.take(
            "why it ended", learned.form["ended"], value, "it is the only word that is left in the reply", False
        )


def _is_a_word(value: str) -> bool:
    return re.fullmatch(r"[A-Za-z]+(?:[_\- ][A-Za-z]+){0,3}", value) is not None


def _is_sort(path: Path, tree: Any) -> bool:
    """Whether a member only says which kind of thing an element is, or who speaks."""
    name = words.folded_name(str(path[-1]))
    if len(path) >= 2 and isinstance(path[-2], int) and len(siblings := value_at(tree, path[:-2])) > 1:
        return sort_key(siblings) == path[-1]
    return name in ("type", "kind", "sort", "object") or name in words.ROLE_KEYS or name in words.MODEL


def _is_id(name: str) -> bool:
    return re.search(r"\b(?:id|at|time|date|by)\b", name) is not None


def _starred(path: Path) -> str:
    """A JSONPath with every list's number as it stands: one reply has one such place."""
    return shown(tuple(0 if isinstance(step, int) else step for step in path))


_CUT_OFF = re.compile(
    r"`\"?([\w\-]{2,30})\"?`(?=[^`.\n]{0,30}(?:`[^`\n]*`)?[^`.\n]{0,40}"
    r"(?:reached|too long|cut off|limit|ran out|used up))"
)
"""A word in code, of which a page says that it stands for an answer that was too long."""


def infer_endings(learned: LearnedReply, limit: str = "", prose: str = "") -> None:
    """Which endings mean that the output limit was met, or a refusal: by the page and by common words.

    :param limit: what the request calls the limit of the answer's length; services often name the ending after it.
    :param prose: the page's own words.
    """
    if "ended" not in learned.form:
        return
    said: list[str] = _CUT_OFF.findall(prose)
    named = [limit, f"at_{limit}", limit.removeprefix("max_")] if limit else []
    learned.form["cut_off"] = list(dict.fromkeys([*said, *named, *words.MEANS_CUT_OFF]))
    learned.form["refused"] = list(words.MEANS_REFUSED)
    why = "the sample shows none; these are common words, correct them by the documentation"
    learned.take("cut off, refused", learned.form["ended"], ", ".join(said) or "common words", why, sure=False)


def find_model(learned: LearnedReply, tree: Any, model: str | None) -> None:
    """Where the model that answered is named."""
    for path, value in leaves(tree):
        named = names_of(path) and words.folded_name(names_of(path)[-1]) in words.MODEL
        same = model is not None and value == model
        if isinstance(value, str) and "model" not in learned.form and (named or same):
            learned.form["model"] = _starred(path)
            learned.take(
                "model that answered", _starred(path), value, "by its name" if named else "it is the model's id"
            )


def find_in_headers(learned: LearnedReply, headers: Mapping[str, str], model: str | None) -> None:
    """Where a reply's headers name the model that answered."""
    for name, value in headers.items():
        named = "model" in words.spaced_name(name).split()
        if (named or (model and value == model)) and "model" not in learned.form:
            learned.form["model"] = f"header {name}"
            learned.take("model that answered", f"header {name}", value, "by its name")


def find_error(learned: LearnedReply, errors: list[Any], answers: list[Any]) -> None:
    """Where an error's words and status stand: in a sample error, else where an answer has a place for one."""
    for tree in errors:
        found = [(path, value) for path, value in leaves(tree) if isinstance(value, str) and names_of(path)]
        ranked = sorted(found, key=lambda one: -_error_score(*one))
        if ranked:
            path, value = ranked[0]
            learned.form["error"] = _starred(path)
            learned.take("an error's words", _starred(path), value, "it is the text of the sample's error")
            _find_code(learned, tree)
            return
    for tree in answers:
        for path, value in leaves(tree):
            if value is None and names_of(path) and words.ERROR.search(words.spaced_name(names_of(path)[-1])):
                learned.form["error"] = _starred(path)
                learned.take("an error's words", _starred(path), "null", "by its name")
                return


def _error_score(path: Path, value: str) -> float:
    name = words.spaced_name(names_of(path)[-1])
    named = 2.0 * bool(re.search(r"message|detail|text|description|reason", name)) + bool(words.ERROR.search(name))
    return named + min(3.0, 0.6 * len(value.split()))


def _find_code(learned: LearnedReply, tree: Any) -> None:
    for path, value in leaves(tree):
        if isinstance(value, int) and 400 <= value < 600 and names_of(path):
            learned.form["error_code"] = _starred(path)
            learned.take("an error's status", _starred(path), value, "it is a status of HTTP")
            return
