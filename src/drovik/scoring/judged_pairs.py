"""What answers came to beside expected outputs: the same pair is judged once, whoever gave the answer, and is kept.

What is kept is known by a digest of all that it depends on: the measure, the expected output, the answer as it was
read. So a changed expected output has the answers to its case judged again, and no others.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Mapping
from hashlib import blake2b
from typing import NamedTuple

from drovik.scoring.measure import CaseScore, Finding

MOST_JUDGED = 200_000
"""Pairs that are remembered for each measure."""
_DIGEST_BYTES = 16


class Judged(NamedTuple):
    """What one answer came to beside one expected output; see `ScoredCase`."""

    score: CaseScore | None
    as_read: CaseScore | None
    note: str


PairKey = tuple[str, str, str, str]
"""What is expected, and of the answer its status, how it was found, and its text."""


class JudgedPairs:
    """The pairs of one measure.

    :param kept: by digest, what `take_fresh` gave in an earlier run.
    """

    def __init__(self, kept: Mapping[bytes, str] | None = None) -> None:
        self._kept = kept or {}
        self._found: dict[PairKey, Judged] = {}
        self._read: dict[str, Judged] = {}
        self._fresh: list[PairKey] = []

    @property
    def has_room(self) -> bool:
        """Whether more are worth the memory."""
        return len(self._found) < MOST_JUDGED

    def find(self, key: PairKey) -> Judged | None:
        """What a pair came to; None where it was not judged, or nobody knows any more."""
        found = self._found.get(key)
        if found is None and self._kept:
            written = self._kept.get(_digest(key))
            if written is not None:
                with contextlib.suppress(ValueError, TypeError):  # it is judged again where that is damaged
                    found = self._found[key] = self._judged(written)
        return found

    def add(self, key: PairKey, judged: Judged) -> None:
        """Remember what a pair came to."""
        self._found[key] = judged
        self._fresh.append(key)

    def take_fresh(self) -> list[tuple[bytes, str]]:
        """What was judged since the last call, to be kept: digests, with what the pairs came to.

        A measure's own failure is not among them: it may be gone the next time.
        """
        fresh, self._fresh = self._fresh, []
        judged = [(key, self._found[key]) for key in fresh]
        return [
            (_digest(key), json.dumps([_plain(one.score), _plain(one.as_read)], separators=(",", ":")))
            for key, one in judged
            if one.score is not None and not one.note
        ]

    def _judged(self, written: str) -> Judged:
        """Most are right, and right in the same way: these are read once."""
        found = self._read.get(written)
        if found is None:
            score, as_read = json.loads(written)
            found = self._read[written] = Judged(_score(score), _score(as_read), "")
        return found


def _digest(key: PairKey) -> bytes:
    expected, status, how, text = key
    whole = f"{len(expected)} {expected} {status} {how} {text}"
    return blake2b(whole.encode("utf-8", "surrogatepass"), digest_size=_DIGEST_BYTES).digest()


def _plain(one: CaseScore | None) -> object:
    return None if one is None else [one.statistics, one.value, one.findings]


def _score(plain: list[list[object]] | None) -> CaseScore | None:
    if plain is None:
        return None
    statistics, value, findings = plain
    return CaseScore(tuple(statistics), value, tuple(_finding(one) for one in findings))  # type: ignore[arg-type]


def _finding(plain: list[object]) -> Finding:
    where, expected, got, cause, effect, note = plain
    return Finding(where, expected, got, cause, tuple((place, amount) for place, amount in effect), note)  # type: ignore[arg-type, attr-defined]
