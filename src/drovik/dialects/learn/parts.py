"""Where the parts of a sample request are."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

from drovik.dialects.learn.inference import Taken
from drovik.dialects.learn.picture_places import Shown
from drovik.dialects.learn.trees import Path, shown, value_at


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
    taken: list[Taken] = field(default_factory=list)

    def take(self, role: str, path: Path, why: str, sure: bool = True, others: tuple[Path, ...] = ()) -> None:
        """Note what a part was taken for."""
        value = value_at(self.tree, path)
        self.taken.append(
            Taken(role, shown(path), shortened_value(value), why, sure, tuple(shown(one) for one in others))
        )


def shortened_value(value: Any) -> str:
    """A value in few characters."""
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 60 else text[:57] + "…"
