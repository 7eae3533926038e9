"""Hearing what comes of each ask while it is sent."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from drovik.dialects.response import Unpacked
from drovik.planning.plan import Ask
from drovik.store.records import Reply
from drovik.transport.outcomes import Outcome


@dataclass(frozen=True)
class Ending:
    """How an attempt ended; no reply where none came whole."""

    outcome: Outcome
    unpacked: Unpacked | None
    reply: Reply | None
    seconds: float


class Listener(Protocol):
    """Hears what comes of each ask while it is sent."""

    def begins(self, ask: Ask, try_: int) -> None:
        """A request is about to leave."""

    def text(self, ask: Ask, text: str) -> None:
        """More of an answer's text came."""

    def ended(self, ask: Ask, ending: Ending) -> None:
        """An attempt came to an end."""
