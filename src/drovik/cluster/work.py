"""What runs on a worker: pictures read, digested and prepared, requests sent, answers judged.

A worker keeps nothing that counts. What is sent was noted in the store before, by the program that called; a request
leaves a worker once, however often that is called, for what was written for it is taken out as it is sent.
"""

from __future__ import annotations

import asyncio
import copyreg
import itertools
import os
import pickle
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple

from drovik.cost.token_rates import RequestSize
from drovik.dialects.request import RequestWriter
from drovik.dialects.request_template import HttpRequest
from drovik.errors import DrovikError, Problem, ProjectError
from drovik.evaluation.judged_elsewhere import Pair, judge_pair
from drovik.heavy import aiohttp
from drovik.kept_files import KeptFiles
from drovik.planning.requests import Request
from drovik.project.object_pictures import ObjectPictures, is_object
from drovik.project.picture_files import PictureFolder, source_digest
from drovik.project.reading import Project
from drovik.project.settings import PicturesFrom
from drovik.project.tasks import Task
from drovik.scoring.measure import Measure
from drovik.store.prepared_pictures import PreparedPictures
from drovik.transport.http import HttpReply, NoReply, RestingConnector, fetch
from drovik.transport.preparer import PictureChanged, PreparedFact, write_request
from drovik.version import __version__


def _unchangeable(values: dict[Any, Any]) -> MappingProxyType[Any, Any]:
    return MappingProxyType(values)


copyreg.pickle(MappingProxyType, lambda one: (_unchangeable, (dict(one),)))


@dataclass(frozen=True)
class Setup:
    """What a worker gets once: the project without its cases, its keys, and where the pictures are seen from there.

    `images` is a folder, or an address; None where the pictures come with each request.
    """

    project: Project
    keys: Mapping[str, str]
    images: str | None


class Job(NamedTuple):
    """A request to be written, under an id; with the pictures' bytes where a worker does not see them."""

    request: Request
    endpoint: str
    request_id: str
    files: Mapping[str, bytes]


class Written(NamedTuple):
    """What was written for a request: under which ticket it may be sent, and all of it but its bytes."""

    ticket: int
    text: str
    facts: tuple[PreparedFact, ...]
    load: RequestSize


class Failed(NamedTuple):
    """Why nothing was: the path of a picture that changed, or what is wrong."""

    changed: str
    problems: tuple[Problem, ...]


class SeenPictures(PictureFolder):
    """Pictures as a worker sees them: beneath a folder or an address of its own, or brought along."""

    def __init__(
        self, images: str | None, files: Mapping[str, bytes], named: PicturesFrom, kept_in: Path | None
    ) -> None:
        prefixes = [*named.addresses(), *([images] if images and is_object(images) else [])]
        kept = KeptFiles(kept_in, named.kept_bytes, ".object")
        objects = ObjectPictures(prefixes, lambda prefix: True, kept)  # whoever called had it agreed to
        super().__init__(Path(images or "."), None, objects)
        self._images, self._files = images, files

    def read_with_digest(self, path: str) -> tuple[bytes, str]:
        """The bytes of a picture and their digest.

        :raises DrovikError: where it cannot be read.
        """
        data = self._files[path] if path in self._files else self._seen(path)
        return data, source_digest(data)

    def _seen(self, path: str) -> bytes:
        if self._images is None or is_object(path):
            return self.read(path)
        try:
            return self.read(f"{self._images.rstrip('/')}/{path}" if is_object(self._images) else path)
        except ProjectError:
            what = f"the workers do not see it beneath {self._images}"
            remedy = "correct `images` of [cluster] in drovik.toml, or see that they may read it"
            raise ProjectError(Problem(what, remedy, path)) from None


class Worker:
    """All that one worker does for one program; its methods are called from there."""

    def __init__(self) -> None:
        from distributed import get_worker

        self._setup: Setup | None = None
        self._objects = Path(get_worker().local_directory) / "objects"  # Dask deletes it with the worker
        self._writers: dict[str, RequestWriter] = {}
        self._waiting: dict[int, HttpRequest] = {}
        self._tickets = itertools.count(1)
        self._kept = PreparedPictures(None, 0)
        self._pool = ThreadPoolExecutor(max(1, len(os.sched_getaffinity(0))), "prepare")
        self._session: aiohttp.ClientSession | None = None
        self._judging: tuple[str, Task, Measure] | None = None

    async def enter(self, setup: bytes) -> str:
        """Take in what all requests have in common; gives the version of the program here."""
        self._setup = pickle.loads(setup)
        self._own = self._pictures({})
        return __version__

    async def write(self, job: bytes) -> bytes:
        """Write a request, off the event loop; gives `Written` or `Failed`."""
        return await asyncio.get_running_loop().run_in_executor(self._pool, self._write, job)

    def _write(self, data: bytes) -> bytes:
        job: Job = pickle.loads(data)
        try:
            done: Written | Failed = self._written(job)
        except PictureChanged as error:
            done = Failed(error.path, ())
        except DrovikError as error:
            done = Failed("", error.problems)
        return pickle.dumps(done, protocol=5)

    def _written(self, job: Job) -> Written:
        setup = self._known()
        pictures = self._pictures(job.files) if job.files else self._own
        project = replace(setup.project, pictures=pictures)
        if job.endpoint not in self._writers:
            endpoint = project.settings.endpoints[job.endpoint]
            dialect = project.dialects[endpoint.dialect]
            self._writers[job.endpoint] = RequestWriter(endpoint, dialect, setup.keys.get(job.endpoint) or None)
        made = write_request(project, self._writers[job.endpoint], job.request, job.request_id, self._kept)
        assert isinstance(made.request, HttpRequest)
        ticket = next(self._tickets)
        self._waiting[ticket] = made.request
        return Written(ticket, made.text, made.facts, made.load)

    async def send(self, ticket: int, seconds: float) -> bytes:
        """Send what was written under a ticket; gives an `HttpReply`, or the `Outcome` of an attempt without one.

        :raises LookupError: where it was sent before, or this worker was started since.
        """
        request = self._waiting.pop(ticket)
        if self._session is None:
            self._session = aiohttp.ClientSession(connector=RestingConnector())
        try:
            got = await fetch(self._session, request, seconds)
        except NoReply as failure:
            return packed(failure.outcome)
        headers = getattr(got.headers, "copy", lambda: got.headers)()  # a view of them cannot travel
        return packed(HttpReply(got.status, headers, got.body))

    async def digests(self, paths: Sequence[str]) -> bytes:
        """The digests of pictures as they are now, or what is wrong with one."""
        return await asyncio.get_running_loop().run_in_executor(self._pool, self._digests, paths)

    def _digests(self, paths: Sequence[str]) -> bytes:
        try:
            return packed([self._own.read_with_digest(path)[1] for path in paths])
        except DrovikError as error:
            return packed(Failed("", error.problems))

    async def know(self, mark: str, data: bytes) -> None:
        """Take in a task and the measure that its answers are to be judged by; `mark` is what they are known by."""
        self._judging = mark, *pickle.loads(data)

    async def judge(self, mark: str, pairs: bytes) -> bytes | None:
        """What answers come to beside what is expected of their cases: score, as read, note. None where the measure
        is not known here.
        """
        if self._judging is None or self._judging[0] != mark:
            return None
        return await asyncio.get_running_loop().run_in_executor(self._pool, _judged, *self._judging[1:], pairs)

    async def leave(self) -> None:
        """Close the connections."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        if self._session is not None:
            await self._session.close()

    def _pictures(self, files: Mapping[str, bytes]) -> SeenPictures:
        setup = self._known()
        return SeenPictures(setup.images, files, setup.project.settings.pictures, self._objects)

    def _known(self) -> Setup:
        assert self._setup is not None
        return self._setup


def _judged(task: Task, measure: Measure, pairs: bytes) -> bytes:
    return packed([tuple(judge_pair(task, measure, Pair.unpacked(one))) for one in pickle.loads(pairs)])


def packed(something: Any) -> bytes:
    """Something for a worker, or from one."""
    return pickle.dumps(something, protocol=5)


def unpacked(data: bytes) -> Any:
    """What `packed` packed.

    :param data: of this program or a worker that the person named, never of a file: unpacking may run what is in it.
    """
    return pickle.loads(data)
