"""Writing in groups, and losing nothing where that fails.

Every attempt has to be on disk before its request leaves. One transaction each would cost more than the request
itself, so rows are collected for a few milliseconds and committed together; whoever needs a row committed awaits
that. How an attempt ended is written at all costs: it waits while another program holds the store, uses the room
that was set aside where the disk is full, and goes into a file beside the store where that is damaged.
"""

from __future__ import annotations

import asyncio
import sqlite3
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from drovik.problems import DrovikError, Problem
from drovik.store.database import transaction
from drovik.store.rescue import Ended, give_room, put_beside, write_ended

GATHER_SECONDS = 0.004
"""So long a write may wait for others: nothing beside the seconds that a model takes to answer."""
LOCKED_PATIENCE = 60.0
"""Seconds for which writes wait for another program that holds the store."""
_LOOKS_AGAIN = 0.5

Action = Callable[[sqlite3.Connection], Any]


@dataclass
class _Write:
    action: Action
    future: asyncio.Future[Any]
    ended: Ended | None = None


class GroupWriter:
    """Collects the writes of a few milliseconds and commits them together.

    :param folder: the store's, for what has to be kept beside it.
    """

    def __init__(self, connection: sqlite3.Connection, folder: Path) -> None:
        self._connection, self._folder = connection, folder
        self._waiting: list[_Write] = []
        self._locked_since: float | None = None
        self.failure: DrovikError | None = None
        """Why the store cannot be written any more, once that is so."""

    def write(self, action: Action) -> asyncio.Future[Any]:
        """Have `action` run within the next transaction; its result comes once that is committed."""
        return self._add(action, None)

    def write_ended(self, ended: Ended) -> asyncio.Future[Any]:
        """Keep how an attempt ended, at all costs."""
        return self._add(lambda connection: write_ended(connection, ended), ended)

    def _add(self, action: Action, ended: Ended | None) -> asyncio.Future[Any]:
        loop = asyncio.get_running_loop()
        future: asyncio.Future[Any] = loop.create_future()
        if not self._waiting:
            loop.call_later(GATHER_SECONDS, self.flush)
        self._waiting.append(_Write(action, future, ended))
        return future

    def flush(self) -> None:
        """Commit now whatever was collected."""
        waiting, self._waiting = self._waiting, []
        if not waiting:
            return
        try:
            self._commit(waiting)
        except DrovikError as error:
            if _is_lock(error) and self._waits_on(waiting):
                return
            self._save(waiting, error)
        else:
            self._locked_since = None

    def _commit(self, writes: list[_Write]) -> None:
        with transaction(self._connection):
            results = [one.action(self._connection) for one in writes]
        for one, result in zip(writes, results, strict=True):
            if not one.future.done():
                one.future.set_result(result)

    def _waits_on(self, waiting: list[_Write]) -> bool:
        """Put writes off while another program holds the store; False where that takes too long."""
        self._locked_since = self._locked_since or time.monotonic()
        if time.monotonic() - self._locked_since > LOCKED_PATIENCE:
            return False
        try:
            loop = asyncio.get_running_loop()
        except RuntimeError:
            return False  # at the very end nobody is there to try again
        self._waiting = waiting + self._waiting
        loop.call_later(_LOOKS_AGAIN, self.flush)
        return True

    def _save(self, waiting: list[_Write], error: DrovikError) -> None:
        """Keep how attempts ended by other means; everything else fails."""
        ended = [one for one in waiting if one.ended is not None]
        self.failure = error
        if ended and _is_full(error) and give_room(self._folder):
            try:
                self._commit(ended)
                ended = []
            except DrovikError as again:
                self.failure = again
        rows = [one.ended for one in ended if one.ended is not None]
        if rows and (where := put_beside(self._folder, rows)) is not None:
            first = self.failure.problems[0]
            remedy = f"{first.remedy}; what came meanwhile is in {where}, and is taken in by the next send"
            self.failure = DrovikError(Problem(first.what, remedy, first.file, first.place))
            for one in ended:
                if not one.future.done():
                    one.future.set_result(None)
        for one in waiting:
            if not one.future.done():
                one.future.set_exception(self.failure)
                one.future.exception()  # whoever does not await it need not hear of it


def _is_lock(error: DrovikError) -> bool:
    return "another program holds" in error.problems[0].what


def _is_full(error: DrovikError) -> bool:
    return "is full" in error.problems[0].what
