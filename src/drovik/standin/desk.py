"""What the simulated service does with a question, whichever dialect it came in: look, answer, count, bill.

The stand-in's own books: what it was asked, and what it billed.
"""

from __future__ import annotations

import hashlib
import json
import time
from collections import Counter
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import TextIO

from drovik.standin.answering import NATURES, ModelNature, answer
from drovik.standin.faults import NO_FAULT, Fault, FaultPlan
from drovik.standin.scenes import SeenPicture, chance_seed, recognise


@dataclass(frozen=True)
class Entry:
    """One request that arrived whole: whatever became of the reply, this is what the service knows."""

    slip: str
    model: str
    outcome: str
    billed: bool
    tokens_in: int
    tokens_out: int
    at: float = field(default_factory=lambda: round(time.time(), 3))
    """Seconds since 1970."""


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


_PIXELS_A_TOKEN = 900
_LETTERS_A_TOKEN = 4


class Refusal(Exception):
    """A request that is turned down, with the HTTP status and the words for it; `fault` says what it asks to wait."""

    def __init__(self, status: int, words: str, fault: Fault = NO_FAULT) -> None:
        self.status, self.words, self.fault = status, words, fault
        super().__init__(words)


@dataclass(frozen=True)
class DeskQuestion:
    """What a request comes to: model, rules, the last turn's words, and every picture's bytes."""

    model: str
    rules: str
    words: str
    pictures: tuple[bytes, ...]
    room: int | None = None
    warm: bool = False
    slip: str = ""

    def mark(self) -> str:
        """The same for the same question."""
        parts = [self.model, self.rules, self.words, str(self.room), str(self.warm)]
        digest = hashlib.sha256("\x1f".join(parts).encode())
        for picture in self.pictures:
            digest.update(hashlib.sha256(picture).digest())
        return digest.hexdigest()


@dataclass(frozen=True)
class Answered:
    """What is said, how it ended (`done`, `room` or `declined`), what it came to, and what is to go wrong."""

    text: str
    ended: str
    model: str
    tokens_in: int
    tokens_out: int
    seconds: float
    fault: Fault


@dataclass
class Desk:
    """The service behind its dialects. `slow` is added to each answer's time, in seconds."""

    key: str
    slow: float
    faults: FaultPlan
    ledger: Ledger
    _seen: dict[bytes, SeenPicture | None] = field(default_factory=dict)
    _asked: Counter[str] = field(default_factory=Counter)

    def check_key(self, given: str) -> None:
        """See that the key is right.

        :raises Refusal: where it is not, or there is none.
        """
        if not given:
            raise Refusal(401, "no key came with the request")
        if given != self.key:
            raise Refusal(401, "this key is not known here")

    def answer(self, question: DeskQuestion) -> Answered:
        """Answer a question and enter it in the books.

        :raises Refusal: where it cannot be answered, or a fault is on order.
        """
        try:
            nature = self._nature(question)
            seen = self._look_at(nature, question.pictures)
        except Refusal as refusal:
            self.refused(question.slip, refusal)
            raise
        fault = self.faults.draw(nature.id)
        if fault.kind in ("limit", "error"):
            self.ledger.add(Entry(question.slip, nature.id, fault.kind, billed=False, tokens_in=0, tokens_out=0))
            if fault.kind == "limit":
                raise Refusal(429, "too many at once", fault)
            raise Refusal(fault.status, "something broke here")
        mark = question.mark()
        self._asked[mark] += 1
        said = answer(nature, question.rules, question.words, seen, str(self._asked[mark]) if question.warm else "")
        tokens_in = (len(question.rules) + len(question.words)) // _LETTERS_A_TOKEN + 8
        tokens_in += sum(one.width * one.height // _PIXELS_A_TOKEN for one in seen)
        text, ended = said.text, "declined" if said.declined else "done"
        if question.room is not None and len(text) > question.room * _LETTERS_A_TOKEN:
            text, ended = text[: question.room * _LETTERS_A_TOKEN], "room"
        tokens_out = len(text) // _LETTERS_A_TOKEN + 1
        outcome = fault.kind if fault.kind != "none" else "answered"
        self.ledger.add(
            Entry(
                slip=question.slip,
                model=nature.id,
                outcome=outcome,
                billed=True,
                tokens_in=tokens_in,
                tokens_out=tokens_out,
            )
        )
        spread = chance_seed(nature.id, mark) % 1000 / 1000
        seconds = self.slow + nature.seconds * (0.5 + spread)
        return Answered(
            text=text,
            ended=ended,
            model=nature.id,
            tokens_in=tokens_in,
            tokens_out=tokens_out,
            seconds=seconds,
            fault=fault,
        )

    def refused(self, slip: str, refusal: Refusal) -> None:
        """Enter a request that was turned down."""
        self.ledger.add(Entry(slip, "", f"refused {refusal.status}", billed=False, tokens_in=0, tokens_out=0))

    def _nature(self, question: DeskQuestion) -> ModelNature:
        nature = NATURES.get(question.model)
        if nature is None:
            raise Refusal(404, f"the desk knows no model '{question.model}'")
        if question.room is not None and (not isinstance(question.room, int) or question.room < 1):
            raise Refusal(400, "'room' is a number of tokens")
        return nature

    def _look_at(self, nature: ModelNature, pictures: tuple[bytes, ...]) -> list[SeenPicture]:
        if pictures and not nature.sees:
            raise Refusal(400, f"'{nature.id}' takes words only, no pictures")
        found = []
        for data in pictures:
            mark = hashlib.sha256(data).digest()
            if mark not in self._seen:
                self._seen[mark] = recognise(data)
            one = self._seen[mark]
            if one is None:
                raise Refusal(400, "one of the pictures cannot be opened")
            found.append(one)
        return found
