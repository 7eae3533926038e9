"""Hearing what comes of each request while it is sent."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from drovik.dialects.response import ParsedReply
from drovik.planning.plan import Request
from drovik.store.records import Reply
from drovik.transport.outcomes import Outcome


@dataclass(frozen=True)
class AttemptEnd:
    """How an attempt ended; no reply where none came whole."""

    outcome: Outcome
    parsed: ParsedReply | None
    reply: Reply | None
    seconds: float


class Listener(Protocol):
    """Hears what comes of each request while it is sent."""

    def begins(self, request: Request, try_: int) -> None:
        """A request is about to leave."""

    def text(self, request: Request, text: str) -> None:
        """More of an answer's text came."""

    def ended(self, request: Request, ending: AttemptEnd) -> None:
        """An attempt came to an end."""
