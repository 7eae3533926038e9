"""Writing in groups, and losing nothing where that fails.

Every attempt has to be on disk before its request leaves. One transaction each would cost more than the request
itself, so rows are collected for a few milliseconds and committed together; whoever needs a row committed awaits
that. How an attempt ended is written at all costs: it waits while another program holds the store, uses the room
that was set aside where the disk is full, and goes into a file beside the store where that is damaged.
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from drovik.errors import DrovikError, Problem, StoreFull, StoreGone, StoreLocked
from drovik.heavy import asyncio
from drovik.store.database import Database, transaction
from drovik.store.rescue import Ended, release_room, rescue_reply, write_all_ended

GATHER_SECONDS = 0.004
"""So long a write may wait for others: nothing beside the seconds that a model takes to answer."""
LOCKED_PATIENCE = 60.0
"""Seconds for which writes wait for another program that holds the store."""
_LOOKS_AGAIN = 0.5
"""Seconds between two tries while another program holds the store."""

Action = Callable[[sqlite3.Connection], Any]
Batch = Callable[[sqlite3.Connection, list[Any]], Sequence[Any]]
"""Writes what several have to write with a statement for each table, and gives each its result."""


@dataclass
class _Write:
    """Something to write: an action of its own, or what a batch takes together with others of its kind."""

    future: asyncio.Future[Any]
    action: Action | None = None
    batch: Batch | None = None
    payload: Any = None
    ended: Ended | None = None


class GroupWriter:
    """Collects the writes of a few milliseconds and commits them together.

    :param path: the store's file; what has to be kept beside it goes into its folder.
    """

    def __init__(self, database: Database, path: Path) -> None:
        self._connection, self._path, self._id = database.connection, path, database.id
        self._file = _file_at(path)
        self._waiting: list[_Write] = []
        self._locked_since: float | None = None
        self._has_rescued = False
        self.failure: DrovikError | None = None
        """Why the store cannot be written any more, once that is so."""

    def write(self, action: Action) -> asyncio.Future[Any]:
        """Have `action` run within the next transaction, after all batches; its result comes with the commit."""
        return self._add(_Write(asyncio.get_running_loop().create_future(), action=action))

    def write_with(self, batch: Batch, payload: Any) -> asyncio.Future[Any]:
        """Have a batch write this, with all of its kind in the next transaction; what it gives for it comes then.

        :param batch: the same function for all that are to be written together.
        """
        return self._add(_Write(asyncio.get_running_loop().create_future(), batch=batch, payload=payload))

    def write_ended(self, ended: Ended) -> asyncio.Future[Any]:
        """Keep how an attempt ended, at all costs."""
        future = asyncio.get_running_loop().create_future()
        return self._add(_Write(future, batch=write_all_ended, payload=ended, ended=ended))

    def _add(self, write: _Write) -> asyncio.Future[Any]:
        if not self._waiting:
            asyncio.get_running_loop().call_later(GATHER_SECONDS, self.flush)
        self._waiting.append(write)
        return write.future

    @property
    def is_gone(self) -> bool:
        """Whether the store's file is not the one any more that was opened."""
        return self._file is not None and _file_at(self._path) != self._file

    def flush(self) -> None:
        """Commit now whatever was collected."""
        waiting, self._waiting = self._waiting, []
        if not waiting:
            return
        if self.is_gone:
            self._fail_all_but_ended(waiting)
            waiting = [one for one in waiting if one.ended is not None]
        try:
            self._commit(waiting)
        except DrovikError as error:
            if isinstance(error, StoreLocked) and self._waits_on(waiting):
                return
            self._save(waiting, error)
        except Exception:  # one of them cannot be written at all: the others are not to suffer for it
            self._commit_singly(waiting)
        else:
            self._locked_since = None

    def _commit(self, writes: list[_Write]) -> None:
        results: list[tuple[_Write, Any]] = []
        with transaction(self._connection):
            for batch in dict.fromkeys(one.batch for one in writes if one.batch is not None):
                group = [one for one in writes if one.batch == batch]
                results += zip(group, batch(self._connection, [one.payload for one in group]), strict=True)
            results += [(one, one.action(self._connection)) for one in writes if one.action is not None]
        for one, result in results:
            if not one.future.done():
                one.future.set_result(result)

    def _commit_singly(self, writes: list[_Write]) -> None:
        for one in writes:
            try:
                self._commit([one])
            except DrovikError as error:
                self._save([one], error)
            except Exception as error:
                if one.ended is not None:
                    rescue_reply(self._path.parent, self._id, [one.ended])
                _fail(one, error)

    def _fail_all_but_ended(self, waiting: list[_Write]) -> None:
        """The file was deleted while it was in use: no new request leaves, and what comes back still has a place.

        The open file holds all that was written until it is closed; `write_out` then puts it back.
        """
        what = "was deleted or replaced while it was in use"
        remedy = "it is written again with all that came back; then go on: drovik send"
        self.failure = self.failure or StoreGone(Problem(what, remedy, ".drovik/answers.sqlite"))
        for one in waiting:
            if one.ended is None:
                _fail(one, self.failure)

    def write_out(self) -> None:
        """Write a store whose file was deleted again, under another name if there is one of its name now."""
        path = self._path
        if path.exists():
            path = path.with_name(f"{path.stem}-{self._id[:8]}-{os.getpid()}.sqlite")
        path.parent.mkdir(parents=True, exist_ok=True)
        self._connection.execute("VACUUM INTO ?", (str(path),))

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
        if not self._has_rescued:  # what came is beside the store: that is to be said, whatever fails after it
            self.failure = error
        if ended and isinstance(error, StoreFull) and release_room(self._path.parent):
            try:
                self._commit(ended)
                ended = []
            except DrovikError as again:
                self.failure = error = again
        rows = [one.ended for one in ended if one.ended is not None]
        if rows and (where := rescue_reply(self._path.parent, self._id, rows)) is not None:
            self._has_rescued = True
            first = error.problems[0]
            remedy = f"{first.remedy}; what came meanwhile is in {where}, and is taken in by the next send"
            self.failure = type(error)(first._replace(remedy=remedy))
            for one in ended:
                if not one.future.done():
                    one.future.set_result(None)
        for one in waiting:
            _fail(one, self.failure or error)


def _fail(one: _Write, error: Exception) -> None:
    if not one.future.done():
        one.future.set_exception(error)
        one.future.exception()  # whoever does not await it need not hear of it


def _file_at(path: Path) -> tuple[int, int] | None:
    """What a file is known by while it is open; None if there is none."""
    try:
        looks = path.stat()
    except OSError:
        return None
    return looks.st_dev, looks.st_ino
