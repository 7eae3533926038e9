"""Values as the cells of a table that a spreadsheet opens."""

from __future__ import annotations

import json
from typing import Any

from drovik.text import visible

RISKY = ("=", "+", "-", "@", "\t", "\n", "\N{FULLWIDTH EQUALS SIGN}", "\N{FULLWIDTH PLUS SIGN}",
          "\N{FULLWIDTH HYPHEN-MINUS}", "\N{FULLWIDTH COMMERCIAL AT}")  # fmt: skip
"""What a spreadsheet takes for the beginning of a formula."""


def guarded(value: Any) -> str:
    """A cell that no spreadsheet takes for a formula, and in which nothing is that tears the row or hides."""
    text = "" if value is None else value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    text = visible(text)
    return f"'{text}" if isinstance(value, str) and text.startswith(RISKY) else text


def unguarded(cell: str) -> str:
    """A cell as it was before it was guarded."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(RISKY) else cell
