"""Measures run by the workers of a cluster, over partitions of the answers."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Sequence
from typing import Any

from drovik.cluster.connection import Cluster
from drovik.cluster.work import packed, unpacked
from drovik.parsing.answer_text import Answer
from drovik.project.arms import digest_of_bytes
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.judged_pairs import Judged

_PAIRS = 500
"""Pairs of a partition: some tenths of a second of most measures."""
_AT_ONCE = 4
"""Partitions under way for each worker: one is judged while the next one travels."""


class ClusterJudges:
    """Has workers judge; a partition whose worker died is judged by another one."""

    def __init__(self, cluster: Cluster) -> None:
        self._cluster = cluster

    def judged(
        self, task: Task, cases: Sequence[Case], measure: str, pairs: Sequence[tuple[str, Answer]]
    ) -> list[Judged]:
        """What answers come to, in order.

        :raises GoneElsewhere: where no worker is left.
        """
        known = packed((task, [_slim(case, task.name) for case in cases]))
        parts = [packed(list(pairs[start : start + _PAIRS])) for start in range(0, len(pairs), _PAIRS)]
        return [Judged(*row) for part in self._cluster.wait(self._all(known, measure, parts)) for row in part]

    async def _all(self, known: bytes, measure: str, parts: list[bytes]) -> list[list[tuple[Any, ...]]]:
        mark = digest_of_bytes(known)
        free = asyncio.Semaphore(_AT_ONCE * max(1, await self._cluster.size()))

        async def one(number: int, part: bytes) -> list[tuple[Any, ...]]:
            what = f"part {number} of the answers"
            async with free:
                while True:
                    member, done = await self._cluster.anywhere(what, "judge", mark, measure, part)
                    if done is not None:
                        return list(unpacked(done))
                    with contextlib.suppress(OSError):  # it has not heard of the task as yet
                        await self._cluster.call(member, "know", mark, known)

        return list(await asyncio.gather(*(one(number, part) for number, part in enumerate(parts))))


def _slim(case: Case, task: str) -> Case:
    """What measures look at of a case."""
    expected = {task: case.expected[task]} if task in case.expected else {}
    return case._replace(pictures=(), given={}, regions={}, expected=expected)
