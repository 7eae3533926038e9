"""Asks made into requests: off the event loop where that takes time, with what is to be said of their pictures."""

from __future__ import annotations

import asyncio
import hashlib
import time
from concurrent.futures import ThreadPoolExecutor
from functools import partial

from drovik.errors import DrovikError, Problem
from drovik.planning.plan import Ask, Plan
from drovik.project.picture_files import TooManyFiles
from drovik.project.reading import Project
from drovik.store.store import Store
from drovik.transport.request_writing import PictureChanged, Written, write_request
from drovik.transport.session import Line
from drovik.transport.tally import Tally

TAKES_NO_TIME = 0.02
"""Seconds for which the event loop may be held up by writing a request."""


class Preparer:
    """Writes the requests of one plan."""

    def __init__(self, project: Project, store: Store, plan: Plan, tally: Tally) -> None:
        self._project, self._store, self._tally = project, store, tally
        redraws = _redraws(plan)
        self._at_once = not redraws
        self._pool = ThreadPoolExecutor(max_workers=2 if redraws else 1, thread_name_prefix="prepare")

    def close(self) -> None:
        """Stop what is still being prepared."""
        self._pool.shutdown(wait=True, cancel_futures=True)

    async def written(self, line: Line, ask: Ask, round_: int) -> Written | None:
        """The request, or None where a picture or a template fails: one case's trouble stops no other.

        :raises TooManyFiles: where too many files are open just now.
        """
        request_id = hashlib.sha256(f"{ask.identity}:{round_}".encode()).hexdigest()[:32]
        try:
            written = await self._write(line, ask, request_id)
        except TooManyFiles:
            raise
        except PictureChanged as error:
            self._store.digests.forget_source(error.path)
            self._tally.warn(error.path, error.problems[0])
            return None
        except DrovikError as error:
            self._tally.warn(error.problems[0].line(), error.problems[0])
            return None
        for fact in written.facts:
            differs = partial(self._warn_of_other_bytes, fact.path)
            self._store.digests.note_prepared(fact.source, fact.prep, fact.digest, fact.places, differs)
        return written

    async def _write(self, line: Line, ask: Ask, request_id: str) -> Written:
        """Write a request: at once where that takes no time, else in a thread.

        A picture that is sent as stored is read and encoded in half a millisecond; to hand that to a thread and
        take it back costs a good part of it again. The first that takes longer (a slow disk, a picture to be
        turned) has all that follow go to threads.
        """
        if not self._at_once:
            loop = asyncio.get_running_loop()
            return await loop.run_in_executor(self._pool, write_request, self._project, line.writer, ask, request_id)
        started = time.perf_counter()
        try:
            return write_request(self._project, line.writer, ask, request_id)
        finally:
            self._at_once = time.perf_counter() - started < TAKES_NO_TIME

    def _warn_of_other_bytes(self, path: str) -> None:
        what = "is prepared to other bytes than before, though the prep is the same"
        remedy = "a newer imaging library does that; nothing is asked again for it"
        self._tally.warn("prepared", Problem(what, remedy, path))


def _redraws(plan: Plan) -> bool:
    """Whether pictures are drawn again: decoding and shrinking then run beside each other, in two threads.

    What is sent as stored is mostly encoded, which holds the interpreter's lock: there a second thread only takes
    turns with the first, at a fifth more CPU.
    """
    return any(not ask.arm.prep.keeps_pixels() for asks in plan.to_send.values() for ask in asks)
