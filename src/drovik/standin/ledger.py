"""The stand-in's own books: what it was asked, and what it billed."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TextIO


@dataclass(frozen=True)
class Entry:
    """One request that arrived whole: whatever became of the reply, this is what the service knows."""

    slip: str
    model: str
    outcome: str
    billed: bool
    tokens_in: int
    tokens_out: int


class Ledger:
    """Keeps every entry, and writes each to a file at once where there is one."""

    def __init__(self, path: Path | None = None) -> None:
        self.entries: list[Entry] = []
        self._file: TextIO | None = path.open("a", encoding="utf-8") if path else None

    def add(self, entry: Entry) -> None:
        """Enter a request."""
        self.entries.append(entry)
        if self._file:
            self._file.write(json.dumps(asdict(entry)) + "\n")
            self._file.flush()

    def close(self) -> None:
        """Close the file."""
        if self._file:
            self._file.close()

    def summary(self) -> dict[str, object]:
        """Counts by outcome, and what was billed."""
        outcomes: dict[str, int] = {}
        for entry in self.entries:
            outcomes[entry.outcome] = outcomes.get(entry.outcome, 0) + 1
        billed = [entry for entry in self.entries if entry.billed]
        tokens = {"in": sum(one.tokens_in for one in billed), "out": sum(one.tokens_out for one in billed)}
        return {"requests": len(self.entries), "billed": len(billed), "tokens": tokens, "outcomes": outcomes}
