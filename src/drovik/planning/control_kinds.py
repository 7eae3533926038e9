"""The kinds of controls, by themselves: options name them, and what plans is slow to load."""

from __future__ import annotations

from typing import Literal

Control = Literal["blank", "swapped", "none", "hint", "order"]
CONTROLS: tuple[Control, ...] = ("blank", "swapped", "none", "hint", "order")
"""Grey pictures of the same size; another case's pictures; no picture; a wrong answer in the question; labels and
pictures in another order."""
