"""A program's connection to a Dask cluster: which workers are there, and calls to them.

Requests are carried by direct calls to a worker, which no scheduler repeats: a task that Dask runs again because its
worker died would be a request that is bought twice. A worker that dies fails the calls that it had, and no others.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import importlib
import logging
import re
import signal
import socket
import threading
import time
import uuid
from collections.abc import Coroutine, Iterator
from concurrent.futures import Future
from dataclasses import replace
from typing import Any, TypeVar

from drovik.cluster.work import Setup, Worker, packed
from drovik.errors import Problem, ServiceError, UsageError
from drovik.project.keys import key_of
from drovik.project.picture_files import PictureFolder
from drovik.project.reading import Project
from drovik.version import __version__

LOCAL = re.compile(r"local:([1-9]\d{0,2})")
_TCP = re.compile(r"tcp://\[?([^\]/]+)\]?:(\d{1,5})")
CONNECT_SECONDS = 10.0
"""Within which the scheduler has to answer."""
WORKER_SECONDS = 30.0
"""For which a worker is waited for, at the start and where the last one died."""
WELCOMED_AGAIN = 5.0
"""Seconds after which an address where a worker was lost is tried again."""
MOST_WORKERS_TRIED = 5
"""With one piece of work; each of them died over it, and perhaps because of it."""
_LOOKS_EVERY = 1.0
"""Seconds between two looks at which workers there are."""
T = TypeVar("T")


class GoneElsewhere(ServiceError):
    """The cluster cannot be used any more, or not as yet."""


class Member:
    """A worker, as it is called from here; `busy` is the number of calls that it has."""

    def __init__(self, address: str, key: str) -> None:
        self.address, self.key = address, key
        self.busy = 0


class Cluster:
    """The workers of a cluster. May be used by several threads; calls are awaited in any event loop.

    :param client: of Dask, with an event loop in a thread of its own.
    :param images: where the workers see the project's folder: a folder, or an address; None: nowhere.
    """

    def __init__(self, client: Any, project: Project, images: str | None) -> None:
        self._client, self.images = client, images
        self._to_serialize = importlib.import_module("distributed.protocol").to_serialize
        keys = {name: key_of(one, project.keys) for name, one in project.settings.endpoints.items()}
        slim = replace(
            project, cases=(), keys={}, pictures=PictureFolder(project.folder), reviews={}, judgements=(), outside={}
        )
        self._setup = packed(Setup(slim, keys, images))
        self._members: dict[str, Member] = {}
        self._welcoming: dict[str, asyncio.Task[None]] = {}
        self._lost_at: dict[str, float] = {}
        self._refused: GoneElsewhere | None = None
        self._why = ""
        self._looked = 0.0
        self._futures: list[Any] = []

    # Calls from whichever thread.

    def wait(self, work: Coroutine[Any, Any, T]) -> T:
        """Run something in the client's event loop to its end."""
        return self._begun(work).result()

    async def there(self, work: Coroutine[Any, Any, T]) -> T:
        """Await something that runs in the client's event loop."""
        return await asyncio.wrap_future(self._begun(work))

    def _begun(self, work: Coroutine[Any, Any, T]) -> Future[T]:
        return asyncio.run_coroutine_threadsafe(work, self._client.loop.asyncio_loop)

    # In the client's event loop.

    async def member_for(self, what: str) -> Member:
        """The worker for something: the same for the same pictures as long as it is no busier than others by much.

        :raises GoneElsewhere: where there is none within a while, or the scheduler is gone.
        """
        until = time.monotonic() + WORKER_SECONDS
        while True:
            await self._look()
            members = list(self._members.values())
            if members:
                least = min(one.busy for one in members)
                fit = [one for one in members if one.busy <= 2 * least + 4]
                return max(fit, key=lambda one: hashlib.sha256(f"{one.address} {what}".encode()).digest())
            if time.monotonic() > until:
                remedy = "start one: dask worker ADDRESS; what was sent is kept"
                raise GoneElsewhere(Problem(f"the cluster has no worker{self._why}", remedy))
            await asyncio.sleep(0.2)

    async def anywhere(self, what: str, method: str, *words: Any) -> tuple[Member, Any]:
        """Have some worker do what does no harm twice; another one where that dies.

        :param what: what it is about: see `member_for`.
        :return: the worker that did it, and the result.
        :raises GoneElsewhere: where none is left, or they die over it.
        """
        for _ in range(MOST_WORKERS_TRIED):
            member = await self.member_for(what)
            with contextlib.suppress(OSError):
                return member, await self.call(member, method, *words)
        remedy = "see why in their logs; what was sent is kept"
        raise GoneElsewhere(Problem(f"{MOST_WORKERS_TRIED} workers died over {what[:80]}", remedy))

    async def size(self) -> int:
        """How many workers there are."""
        await self._look()
        return len(self._members)

    async def call(self, member: Member, method: str, *words: Any) -> Any:
        """Call a worker, once.

        :raises OSError: where it is gone.
        """
        member.busy += 1
        try:
            return await self._called(member.address, member.key, method, *words)
        except OSError:
            self._lose(member)
            raise
        finally:
            member.busy -= 1

    async def _called(self, address: str, key: str, method: str, *words: Any) -> Any:
        """What a worker's actor gives; Dask's own calls of actors are not used, for they may repeat one that failed.

        :raises OSError: where the worker is gone, or does not hold the actor any more.
        """
        wrapped = [self._to_serialize(word) for word in words]
        try:
            done = await self._client.rpc(address).actor_execute(function=method, actor=key, args=wrapped, kwargs={})
        except (KeyError, RuntimeError):  # the worker was started since; or the connections are closed
            raise OSError("the worker is gone") from None
        if done["status"] == "OK":
            return done["result"]
        raise done["exception"]

    def _lose(self, member: Member) -> None:
        """A worker is gone. One that comes up at the same address later is another."""
        if self._members.get(member.address) is member:
            self._lost_at[member.address] = time.monotonic()
            del self._members[member.address]

    async def _look(self) -> None:
        """See from time to time which workers there are. Newcomers are not waited for where others are there."""
        if time.monotonic() - self._looked >= _LOOKS_EVERY:
            self._looked = time.monotonic()
            there = await self._addresses()
            for address in set(self._members) - there:
                self._lose(self._members[address])
            for address in there - set(self._members) - set(self._welcoming):
                if time.monotonic() - self._lost_at.get(address, -WELCOMED_AGAIN) >= WELCOMED_AGAIN:
                    self._welcoming[address] = asyncio.create_task(self._welcome(address))
        if self._welcoming and not self._members:
            await asyncio.wait(self._welcoming.values(), return_when=asyncio.FIRST_COMPLETED)
        if self._refused is not None:
            raise self._refused

    async def _addresses(self) -> set[str]:
        try:
            async with asyncio.timeout(CONNECT_SECONDS):
                return set((await self._client.scheduler.identity())["workers"])
        except Exception:
            remedy = "start it, and send again: what was sent is kept"
            raise GoneElsewhere(Problem("the cluster's scheduler is gone", remedy)) from None

    async def _welcome(self, address: str) -> None:
        """Have a worker begin, and give it what all requests have in common."""
        key = f"drovik-{uuid.uuid4().hex}"
        try:
            future = self._client.submit(
                Worker, actor=True, workers=[address], allow_other_workers=False, pure=False, key=key
            )
            async with asyncio.timeout(WORKER_SECONDS):
                while future.status == "pending":  # noqa: ASYNC110 - Dask offers no event in this loop
                    await asyncio.sleep(0.02)
                if future.status != "finished":
                    raise OSError("Drovik cannot be started there: is the same version of it installed?")
                version = await self._called(address, key, "enter", self._setup)
            if version != __version__:
                what = f"the worker {address} has version {version} of Drovik, and this is {__version__}"
                self._refused = GoneElsewhere(Problem(what, "install the same version there"))
            self._futures.append(future)  # or Dask would let go of it
            self._members[address] = Member(address, key)
        except Exception as error:  # it died at once, or has no Drovik
            self._lost_at[address] = time.monotonic()
            words = str(error).splitlines()[0][:200] if str(error) else type(error).__name__
            self._why = f"; the worker {address} cannot work: {words}"
        finally:
            del self._welcoming[address]

    async def leave(self) -> None:
        """Let go of the workers."""
        with contextlib.suppress(Exception):
            async with asyncio.timeout(3.0):
                calls = (self._called(one.address, one.key, "leave") for one in self._members.values())
                await asyncio.gather(*calls, return_exceptions=True)
        self._futures.clear()


@contextlib.contextmanager
def open_cluster(address: str, project: Project) -> Iterator[Cluster]:
    """The cluster at an address, or one of this machine's own: `local:4`.

    :raises UsageError: where Dask is not installed, or the address is none.
    :raises GoneElsewhere: where no scheduler answers.
    """
    try:
        distributed = importlib.import_module("distributed")
    except ImportError:
        raise UsageError(Problem("a cluster needs Dask", "pip install 'drovik[cluster]'")) from None
    for name in ("distributed", "tornado", "asyncio"):
        logging.getLogger(name).setLevel(logging.CRITICAL)  # what goes wrong is said by us, once
    local = LOCAL.fullmatch(address)
    if local is None and "://" not in address:
        raise UsageError(
            Problem(f"'{address}' is no address of a cluster", "like tcp://HOST:8786, or local:4 on this machine")
        )
    with contextlib.ExitStack() as stack:
        if local is not None:
            with _ignored_by_children():
                made = distributed.LocalCluster(
                    n_workers=int(local[1]), threads_per_worker=1, processes=True, dashboard_address=":0",
                    silence_logs=50,
                )  # fmt: skip
            stack.callback(_quietly, made.close)
            address = made.scheduler_address
        try:
            if (there := _TCP.fullmatch(address)) is not None:  # Dask tries one that is not there for its whole time
                socket.create_connection((there[1], int(there[2])), CONNECT_SECONDS).close()
            client = distributed.Client(
                address, timeout=CONNECT_SECONDS, direct_to_workers=True, set_as_default=False
            )
        except (OSError, ValueError) as error:
            what = f"no scheduler answers at {address}: {str(error).splitlines()[0][:120]}"
            raise GoneElsewhere(Problem(what, "start one: dask scheduler")) from None
        stack.callback(_quietly, client.close, 3)
        images = project.settings.cluster.images or (str(project.folder.resolve()) if local else None)
        cluster = Cluster(client, project, images)
        try:
            yield cluster
        finally:
            with contextlib.suppress(Exception):
                cluster.wait(cluster.leave())


@contextlib.contextmanager
def _ignored_by_children() -> Iterator[None]:
    """Have what is started in the meantime pass over a Ctrl-C, which a terminal sends to all of them: this program is
    the one that says what ends then, and what is under way is waited for.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def _quietly(action: Any, *words: Any) -> None:
    with contextlib.suppress(Exception):
        action(*words)
