"""A request → the request that leaves: its text rendered, its pictures read, digested and prepared.

This is what runs in threads, off the event loop.

Requests are made off the event loop where that takes time, with what is to be said of their pictures.
"""

from __future__ import annotations

import asyncio
import hashlib
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any, Protocol

from drovik.cost.token_rates import RequestSize, size_of_request
from drovik.dialects.request import Draft, RequestWriter
from drovik.dialects.request_template import HttpRequest
from drovik.errors import DrovikError, Problem, RequestError, ServiceError
from drovik.images.prepare import PREPARING_REVISION, Prepared, prepare
from drovik.planning.plan import Plan
from drovik.planning.rendering import canonical_conversation
from drovik.planning.requests import Request
from drovik.planning.sources import is_remote, url_digest
from drovik.project.arms import canonical, digest_of_text
from drovik.project.cases import prep_for
from drovik.project.object_pictures import READERS, is_object
from drovik.project.picture_files import TooManyFiles, source_digest
from drovik.project.preps import Prep
from drovik.project.reading import Project
from drovik.store.answer_store import Store
from drovik.store.prepared_pictures import PreparedPictures
from drovik.transport.http import RemoteRequest
from drovik.transport.queue import Tally
from drovik.transport.session import EndpointSession


@dataclass(frozen=True)
class PreparedFact:
    """What a prep made of a source: digests, and where each of the pictures comes from."""

    path: str
    source: str
    prep: str
    digest: str
    places: tuple[dict[str, Any], ...]


@dataclass(frozen=True)
class PreparedRequest:
    """A request ready to leave, what it asks in canonical form, and what its pictures became.

    Where the dialect has steps it is a draft, to be written once they have run.
    """

    request: HttpRequest | Draft | RemoteRequest
    text: str
    facts: tuple[PreparedFact, ...]
    load: RequestSize


class PictureChanged(DrovikError):
    """A picture's file is another one than when the sending was planned."""

    def __init__(self, path: str) -> None:
        self.path = path
        what = "changed on disk after the sending was planned; it was not sent"
        super().__init__(Problem(what, "send again, and it will be asked again", path))


def write_request(
    project: Project,
    writer: RequestWriter,
    request: Request,
    request_id: str,
    kept: PreparedPictures | None = None,
) -> PreparedRequest:
    """Render, read and prepare what a request needs, and write the request.

    :param kept: pictures that were prepared before.
    :raises PictureChanged: where the pictures are not those that the request's identity speaks of.
    :raises DrovikError: where a picture or the template fails.
    """
    conversation = request.conversation()
    needed = set(conversation.picture_numbers())
    pictures: list[tuple[Prepared, ...]] = []
    digests: list[str] = []
    facts = []
    for number, picture in enumerate(request.case.pictures):
        if number not in needed:
            pictures.append(())
            digests.append("")
            continue
        if is_remote(picture):
            if writer.takes_bytes():
                remedy = "download it, and name the file in the case"
                raise RequestError(Problem("the dialect sends pictures, and this one is a URL", remedy, picture.path))
            pictures.append(())
            digests.append(url_digest(picture))
            continue
        source, own = project.pictures.read_with_digest(picture.path)
        digests.append(own)
        prep = prep_for(request.arm.prep, request.case, number)
        make = partial(prepare, source, prep, picture.path, project.settings.max_pixels)
        made = make() if kept is None else kept.made(own, prepared_key(prep), make)
        pictures.append(made)
        facts.append(_fact(picture.path, digests[-1], prep, made, source))
    schema = request.task.told_schema()
    text = canonical_conversation(
        request.arm, request.case, conversation, digests, PREPARING_REVISION, request.repeat, schema
    )
    if digest_of_text(text) != request.identity:
        raise PictureChanged(_which(request, needed))
    addresses = [picture.address for picture in request.case.pictures]
    draft = writer.draft(request.arm, conversation, pictures, request_id, addresses, schema, request.repeat)
    sizes = {number: [(one.width, one.height) for one in made] for number, made in enumerate(pictures)}
    load = size_of_request(conversation, schema, sizes)
    return PreparedRequest(draft if writer.steps else writer.write(draft), text, tuple(facts), load)


def _fact(path: str, source: str, prep: Prep, made: Sequence[Prepared], data: bytes) -> PreparedFact:
    if len(made) == 1 and made[0].data is data:
        own = source  # to digest the same bytes twice is a tenth of what sending them takes
    elif len(made) == 1:
        own = source_digest(made[0].data)
    else:
        own = source_digest("".join(source_digest(one.data) for one in made).encode())
    return PreparedFact(path, source, prepared_key(prep), own, tuple(place_of(one) for one in made))


def prepared_key(prep: Prep) -> str:
    """What the pictures that a prep makes are kept by, beside their source."""
    return canonical([PREPARING_REVISION, prep.canonical()])


def place_of(made: Prepared) -> dict[str, Any]:
    """Where a sent picture comes from, in plain values: its size, and the maps back to the source's shot.

    A map is [a, b, c, d, e, f]: x' = a·x + b·y + c and y' = d·x + e·y + f, in pixels with the origin at the upper
    left corner of the first pixel.
    """
    return {
        "size": [made.width, made.height],
        "bytes": len(made.data),
        "media_type": made.media_type,
        "shot": made.shot.number,
        "time": made.shot.time,
        "source_size": list(made.layout.stored),
        "to_source": list(made.layout.to_stored(made.part)),
        "upright_size": list(made.layout.upright),
        "to_upright": list(made.layout.to_upright(made.part)),
    }


def _which(request: Request, needed: Sequence[int] | set[int]) -> str:
    paths = [picture.path for number, picture in enumerate(request.case.pictures) if number in needed]
    return paths[0] if len(paths) == 1 else ", ".join(paths)


class WriterElsewhere(Protocol):
    """Writes requests on other machines, which then send them."""

    def takes(self, service: EndpointSession) -> bool:
        """Whether an endpoint's requests are sent from there."""

    async def write(self, service: EndpointSession, request: Request, request_id: str) -> PreparedRequest:
        """As `write_request`; a ServiceError where nothing can be written there any more."""


TAKES_NO_TIME = 0.02
"""Seconds for which the event loop may be held up by writing a request."""


class Preparer:
    """Writes the requests of one plan."""

    def __init__(
        self, project: Project, store: Store, plan: Plan, tally: Tally, elsewhere: WriterElsewhere | None = None
    ) -> None:
        self._project, self._store, self._tally, self._elsewhere = project, store, tally, elsewhere
        redraws = _redraws(plan)
        waits = _reads_objects(plan)
        self._at_once = not redraws and not waits
        folder = project.store_path.parent / "prepared"
        self._kept = PreparedPictures(folder, project.settings.pictures.kept_bytes) if redraws else None
        self._under_way: dict[tuple[str, str], asyncio.Event] = {}
        workers = READERS if waits else 2 if redraws else 1
        self._pool = ThreadPoolExecutor(max_workers=workers, thread_name_prefix="prepare")

    def close(self) -> None:
        """Stop what is still being prepared."""
        self._pool.shutdown(wait=True, cancel_futures=True)

    async def written(self, service: EndpointSession, request: Request, round_: int) -> PreparedRequest | None:
        """The request, or None where a picture or a template fails: one case's trouble stops no other.

        :raises TooManyFiles: where too many files are open just now.
        :raises ServiceError: where other machines were to write it, and cannot any more.
        """
        request_id = hashlib.sha256(f"{request.identity}:{round_}".encode()).hexdigest()[:32]
        try:
            written = await self._write(service, request, request_id)
        except (TooManyFiles, ServiceError):
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

    async def _write(self, service: EndpointSession, request: Request, request_id: str) -> PreparedRequest:
        """Write a request: at once where that takes no time, else in a thread.

        A picture that is sent as stored is read and encoded in half a millisecond; to hand that to a thread and
        take it back costs a good part of it again. The first that takes longer (a slow disk, a picture to be
        turned) has all that follow go to threads.
        """
        if self._elsewhere is not None and self._elsewhere.takes(service):
            return await self._elsewhere.write(service, request, request_id)
        if not self._at_once:
            return await self._write_alone(service, request, request_id)
        started = time.perf_counter()
        try:
            return write_request(self._project, service.writer, request, request_id)
        finally:
            self._at_once = time.perf_counter() - started < TAKES_NO_TIME

    async def _write_alone(self, service: EndpointSession, request: Request, request_id: str) -> PreparedRequest:
        """Write a request in a thread, while no other prepares the same picture in the same way.

        Arms ask about one case one after the other: to wait for the first of them takes no thread from another case.
        """
        key = (canonical([one.path for one in request.case.pictures]), canonical(request.arm.prep.canonical()))
        while key in self._under_way:
            await self._under_way[key].wait()
        done = self._under_way[key] = asyncio.Event()
        try:
            loop = asyncio.get_running_loop()
            return await loop.run_in_executor(
                self._pool, write_request, self._project, service.writer, request, request_id, self._kept
            )
        finally:
            del self._under_way[key]
            done.set()

    def _warn_of_other_bytes(self, path: str) -> None:
        what = "is prepared to other bytes than before, though the prep is the same"
        remedy = "a newer imaging library does that; nothing is asked again for it"
        self._tally.warn("prepared", Problem(what, remedy, path))


def _reads_objects(plan: Plan) -> bool:
    """Whether pictures lie at addresses, so that reading them is waiting for a network."""
    cases = {id(ask.case): ask.case for asks in plan.to_send.values() for ask in asks}.values()
    return any(is_object(one.path) for case in cases for one in case.pictures)


def _redraws(plan: Plan) -> bool:
    """Whether pictures are drawn again: decoding and shrinking then run beside each other, in two threads.

    What is sent as stored is mostly encoded, which holds the interpreter's lock: there a second thread only takes
    turns with the first, at a fifth more CPU.
    """
    return any(not request.arm.prep.keeps_pixels() for requests in plan.to_send.values() for request in requests)
