"""Measures run by the workers of a cluster, over partitions of the answers."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice
from pickle import PicklingError
from typing import Any

from drovik.cluster.connection import Cluster
from drovik.cluster.work import packed, unpacked
from drovik.evaluation.judged_elsewhere import JudgedPart, Pair, judge_pair
from drovik.project.arms import digest_of_bytes
from drovik.project.tasks import Task
from drovik.scoring.judged_pairs import Judged
from drovik.scoring.measure import Measure

_PAIRS = 500
"""Pairs of a partition: some tenths of a second of most measures."""
_IN_MEMORY = 10_000
"""Pairs that are held in memory beside what they come to."""
_AT_ONCE = 4
"""Partitions under way for each worker: one is judged while the next one travels."""


class ClusterJudges:
    """Has workers judge; a partition whose worker died is judged by another one."""

    def __init__(self, cluster: Cluster) -> None:
        self._cluster = cluster

    def judged(self, task: Task, measure: Measure, pairs: Iterable[Pair]) -> Iterator[JudgedPart]:
        """Parts of the pairs with what these come to.

        :raises GoneElsewhere: where no worker is left.
        """
        left = iter(pairs)
        while some := list(islice(left, _IN_MEMORY)):
            yield some, self._judged(task, measure, some)

    def rest(self) -> None:
        """The workers stay: others ask them too."""

    def _judged(self, task: Task, measure: Measure, pairs: Sequence[Pair]) -> list[Judged]:
        try:
            known = packed((task, measure))
            every = [pair.packed() for pair in pairs]
            parts = [packed(every[start : start + _PAIRS]) for start in range(0, len(every), _PAIRS)]
        except (TypeError, AttributeError, PicklingError):  # somebody's own measure, which cannot travel
            return [judge_pair(task, measure, pair) for pair in pairs]
        return [Judged(*row) for part in self._cluster.wait(self._all(known, parts)) for row in part]

    async def _all(self, known: bytes, parts: list[bytes]) -> list[list[tuple[Any, ...]]]:
        mark = digest_of_bytes(known)
        free = asyncio.Semaphore(_AT_ONCE * max(1, await self._cluster.size()))

        async def one(number: int, part: bytes) -> list[tuple[Any, ...]]:
            what = f"part {number} of the answers"
            async with free:
                while True:
                    member, done = await self._cluster.anywhere(what, "judge", mark, part)
                    if done is not None:
                        return list(unpacked(done))
                    with contextlib.suppress(OSError):  # it has not heard of the measure as yet
                        await self._cluster.call(member, "know", mark, known)

        return list(await asyncio.gather(*(one(number, part) for number, part in enumerate(parts))))
