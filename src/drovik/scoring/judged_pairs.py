"""What answers came to beside expected outputs: the same pair is judged once, whoever gave the answer, and is kept.

What is kept is known by a digest of all that it depends on: the measure, the expected output, the answer as it was
read. So a changed expected output has the answers to its case judged again, and no others.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from typing import NamedTuple

from drovik.project.arms import digest_of_text
from drovik.scoring.measure import CaseScore, Finding

MOST_JUDGED = 200_000
"""Pairs that are remembered for each measure."""
_MOST_READ = 10_000
_DIGEST_BYTES = 16
_ENCODER = json.JSONEncoder(separators=(",", ":"), check_circular=False)
_WHOLE = {float(number): float(number) for number in range(4_096)}


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

    def __init__(self, kept: dict[bytes, str] | None = None) -> None:
        self._kept = {} if kept is None else kept
        self._found: dict[PairKey, Judged] = {}
        self._read: dict[str, Judged] = {}
        self._right: dict[Judged, Judged] = {}
        self._fresh: list[PairKey] = []

    @property
    def fresh(self) -> int:
        """How many were judged since the last `take_fresh`."""
        return len(self._fresh)

    def has_room(self, under_way: int = 0) -> bool:
        """Whether another one is worth the memory, beside those that are under way."""
        return len(self._found) + under_way < MOST_JUDGED

    def find(self, key: PairKey) -> Judged | None:
        """What a pair came to; None where it was not judged, or nobody knows any more."""
        found = self._found.get(key)
        if found is None and self._kept:
            written = self._kept.pop(_digest(key), None)  # it is needed no more in that form
            if written is not None:
                with contextlib.suppress(ValueError, TypeError):  # it is judged again where that is damaged
                    found = self._found[key] = self._judged(written)
        return found

    def add(self, key: PairKey, judged: Judged) -> None:
        """Remember what a pair came to."""
        self._found[key] = self._shared(judged)
        self._fresh.append(key)

    def _shared(self, judged: Judged) -> Judged:
        """What a pair came to, with as much of it as can be in common with others: most are right in the same way."""
        found = Judged(_sharing(judged.score), _sharing(judged.as_read), judged.note)
        if found.score is None or found.score.findings or found.as_read is not None:
            return found
        return (
            self._right.setdefault(found, found) if len(self._right) < _MOST_READ else self._right.get(found, found)
        )

    def take_fresh(self) -> Iterator[tuple[bytes, str]]:
        """What was judged since the last call, to be kept: digests, with what the pairs came to.

        A measure's own failure is not among them: it may be gone the next time.
        """
        fresh, self._fresh = self._fresh, []
        for key in fresh:
            one = self._found[key]
            if one.score is not None and not one.note:
                yield _digest(key), _ENCODER.encode([_plain(one.score), _plain(one.as_read)])

    def _judged(self, written: str) -> Judged:
        """Most are right, and right in the same way: these are read once."""
        found = self._read.get(written)
        if found is None:
            score, as_read = json.loads(written)
            found = self._shared(Judged(_score(score), _score(as_read), ""))
            if len(self._read) < _MOST_READ:
                self._read[written] = found
        return found


def _sharing(score: CaseScore | None) -> CaseScore | None:
    """A score whose whole numbers are those that all others have: a statistic takes a third of the memory then."""
    if score is None:
        return None
    return score._replace(statistics=tuple(map(_WHOLE.get, score.statistics, score.statistics)))


def _digest(key: PairKey) -> bytes:
    expected, status, how, text = key
    whole = f"{len(expected)} {expected} {status} {how} {text}"
    return bytes.fromhex(digest_of_text(whole))[:_DIGEST_BYTES]


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
