"""Measures run by the workers of a cluster, over partitions of the answers."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from drovik.cluster.connection import Cluster
from drovik.cluster.sending import MOST_WORKERS_TRIED
from drovik.cluster.work import packed, unpacked
from drovik.evaluation.judged_elsewhere import Judged
from drovik.parsing.answer_text import Answer
from drovik.project.cases import Case
from drovik.project.tasks import Task

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
        slim = [
            case._replace(pictures=(), given={}, regions={}, expected={task.name: case.expected[task.name]})
            if task.name in case.expected
            else case._replace(pictures=(), given={}, regions={}, expected={})
            for case in cases
        ]
        parts = [pairs[start : start + _PAIRS] for start in range(0, len(pairs), _PAIRS)]
        work = self._all(packed((task, slim)), measure, [packed(list(part)) for part in parts])
        return [one for part in self._cluster.wait(work) for one in part]

    async def _all(self, known: bytes, measure: str, parts: list[bytes]) -> list[list[Judged]]:
        told: dict[str, asyncio.Task[None]] = {}
        free = asyncio.Semaphore(_AT_ONCE * max(1, await self._cluster.size()))

        async def one(number: int, part: bytes) -> list[Judged]:
            for left in range(MOST_WORKERS_TRIED, 0, -1):
                async with free:
                    member = await self._cluster.member_for(f"part {number}")
                    try:
                        if member.key not in told:
                            told[member.key] = asyncio.create_task(self._cluster.call(member, "know", known))
                        await told[member.key]
                        return [
                            Judged(*row) for row in unpacked(await self._cluster.call(member, "judge", measure, part))
                        ]
                    except OSError:
                        if left == 1:
                            raise
            raise AssertionError("the last try returns or raises")

        return list(await asyncio.gather(*(one(number, part) for number, part in enumerate(parts))))
