"""Prompt versions: what changed from one to the next, which cases that fixed and broke, what was dropped."""

from __future__ import annotations

import difflib
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Literal

from drovik.evaluation.gathering import TaskView
from drovik.planning.controls import MARK as CONTROL_MARK
from drovik.planning.rendering import conversation_of
from drovik.project.arms import Arm, digest
from drovik.project.prompts import Prompt
from drovik.project.reading import Project
from drovik.store.answer_store import Store

MARK = 4
"""Characters of a digest that are shown."""
_SENTENCE = re.compile(r"(?<=[.!?])\s+|\n+")


@dataclass(frozen=True)
class PromptVersion:
    """A version: its note, when its file was written, what it is known by, and which models have been asked by it."""

    name: str
    file: str
    note: str
    written: str
    digest: str
    arms: tuple[str, ...]


@dataclass(frozen=True)
class ChangedLine:
    """A sentence of a difference: of the first version alone, of the second alone, or of both."""

    sign: Literal["-", "+", " "]
    part: str
    """`system`, `ask`, or the number of a later turn."""
    text: str


def prompt_versions(project: Project, view: TaskView) -> tuple[PromptVersion, ...]:
    """The versions of a task in their order."""
    found = []
    for prompt in view.task.prompts:
        path = project.folder / prompt.file
        written = datetime.fromtimestamp(path.stat().st_mtime, UTC).date().isoformat() if path.exists() else ""
        mark = digest([prompt.system, prompt.ask, *prompt.turns])[:MARK]
        arms = tuple(arm.name for arm in view.arms if arm.outside is None and arm.prompt_name == prompt.name)
        found.append(PromptVersion(prompt.name, prompt.file, prompt.note, written, mark, arms))
    return tuple(found)


def sentences(text: str) -> list[str]:
    """The sentences of a text: they end with a mark and a space, or with the line."""
    return [one for part in _SENTENCE.split(text) if (one := " ".join(part.split()))]


def _parts(prompt: Prompt) -> dict[str, str]:
    return {"system": prompt.system, "ask": prompt.ask} | {
        f"turn {number}": text for number, text in enumerate(prompt.turns, 2)
    }


def difference_of_prompts(first: Prompt, second: Prompt) -> list[ChangedLine]:
    """What changed from one version to another, sentence by sentence, part by part."""
    found: list[ChangedLine] = []
    before, after = _parts(first), _parts(second)
    for part in dict.fromkeys([*before, *after]):
        one, other = sentences(before.get(part, "")), sentences(after.get(part, ""))
        for kind, a, b, c, d in difflib.SequenceMatcher(None, one, other, autojunk=False).get_opcodes():
            if kind == "equal":
                found += [ChangedLine(" ", part, text) for text in one[a:b]]
            else:
                found += [ChangedLine("-", part, text) for text in one[a:b]]
                found += [ChangedLine("+", part, text) for text in other[c:d]]
    return found


def dropped_sentences(project: Project, store: Store, view: TaskView) -> list[tuple[str, str]]:
    """Sentences that were asked once and are in no version any more: each with the older arm that asked it.

    They are compared as they were sent, about one case of each older arm.
    """
    cases = {case.id: case for case in project.cases}
    current = {arm.name: arm for arm in view.arms if arm.outside is None and "@" not in arm.name}
    found: dict[str, str] = {}
    for mark, name, _ in store.older_arms(view.task.name, [arm.digest for arm in current.values()]):
        if CONTROL_MARK in name:
            continue
        rows = ((case, identity) for case, _, identity in store.asked_by(view.task.name, mark) if case in cases)
        asked = next(rows, None)
        document = store.what_was_asked(asked[1]) if asked else None
        if asked is None or document is None:
            continue
        today = {one for arm in current.values() for one in _said_today(view, arm, cases[asked[0]])}
        for sentence in _said(document):
            if sentence not in today:
                found.setdefault(sentence, f"{name}@{mark[:MARK]}")
    return [(arm, sentence) for sentence, arm in found.items()]


def _said(document: dict[str, Any]) -> list[str]:
    """The sentences of a prompt as it was sent, without what the model had answered by then."""
    texts = [
        part["text"]
        for turn in document.get("turns", ())
        if turn.get("by") != "assistant"
        for part in ([turn] if "text" in turn else turn.get("parts", ()))
        if isinstance(part, dict) and isinstance(part.get("text"), str)
    ]
    return [one for text in texts for one in sentences(text)]


def _said_today(view: TaskView, arm: Arm, case: Any) -> Sequence[str]:
    if view.task.after is not None:
        return ()
    conversation = conversation_of(view.task, arm, case)
    texts = [conversation.system, *(getattr(part, "text", "") for turn in conversation.turns for part in turn.parts)]
    return [one for text in texts for one in sentences(text)]
