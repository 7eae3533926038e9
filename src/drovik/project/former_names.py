"""What settings and options were called before: the old names are unknown, and lead to the new."""

from __future__ import annotations

SETTINGS = {
    "at_once": "concurrency", "tries": "max_tries", "patience": "give_up_after", "sees": "takes_pictures",
    "lives": "valid_for", "second_try": "repair_turn", "own": "function", "likeness": "similarity",
    "held": "held_out",
}  # fmt: skip
OPTIONS = {"--most": "--budget", "--again": "--resend", "--doubtful": "--suspects", "--instead": "--break-even"}


def remedy_for(name: str) -> str | None:
    """What to write in place of a former name; None where it is none."""
    new = SETTINGS.get(name) or OPTIONS.get(name)
    return f"it is '{new}' now" if new else None
