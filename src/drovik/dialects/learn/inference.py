"""What a part of a sample was taken for."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Taken:
    """What a part was taken for, and why. `sure` is False for a guess; `others` are what else it might have been."""

    role: str
    place: str
    value: str
    why: str
    sure: bool = True
    others: tuple[str, ...] = ()
