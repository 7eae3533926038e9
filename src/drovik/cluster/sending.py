"""Requests that are written and sent by the workers of a cluster; the pace, the tries and the store stay here."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from drovik.cluster.connection import Cluster, Member
from drovik.cluster.work import Failed, Job, Written, packed, unpacked
from drovik.errors import DrovikError
from drovik.planning.requests import Request
from drovik.planning.sources import is_remote
from drovik.project.object_pictures import is_object
from drovik.project.picture_files import PictureFolder
from drovik.transport.http import HttpReply, NoReply, RemoteRequest
from drovik.transport.outcomes import Outcome
from drovik.transport.preparer import PictureChanged, PreparedRequest
from drovik.transport.session import EndpointSession

_DIGESTED_AT_ONCE = 32
"""Pictures whose digests are asked for in one call."""


class RequestAtWorker(RemoteRequest):
    """A request that a worker has written, and may send once."""

    def __init__(self, cluster: Cluster, member: Member, ticket: int) -> None:
        self._cluster, self._member, self._ticket = cluster, member, ticket

    async def send(self, seconds: float) -> HttpReply:
        """Have it sent.

        :raises NoReply: where no reply came whole, or the worker died.
        """
        call = self._cluster.call(self._member, "send", self._ticket, seconds)
        try:
            came: HttpReply | Outcome = unpacked(await self._cluster.there(call))
        except Exception:  # whatever it was, nobody knows whether the request left
            raise NoReply(Outcome("lost", again=True, words="the worker that sent it is gone")) from None
        if isinstance(came, Outcome):
            raise NoReply(came)
        return came


class ClusterWriter:
    """Has requests written by workers, near the pictures."""

    def __init__(self, cluster: Cluster, pictures: PictureFolder) -> None:
        self._cluster, self._pictures = cluster, pictures

    def takes(self, service: EndpointSession) -> bool:
        """Whether workers send an endpoint's requests: those in several steps, or waited for, go from here."""
        return not service.writer.steps and service.dialect.request.until is None

    async def write(self, service: EndpointSession, request: Request, request_id: str) -> PreparedRequest:
        """A request, written by some worker; by another one where that dies.

        :raises PictureChanged: where a picture is another than the request's identity speaks of.
        :raises DrovikError: where a picture or the template fails, or the cluster is gone.
        """
        files = {} if self._cluster.images else self._files(request)
        job = packed(Job(request, service.name, request_id, files))
        what = " ".join(picture.path for picture in request.case.pictures)
        member, done = await self._cluster.there(self._cluster.anywhere(what, "write", job))
        written: Written | Failed = unpacked(done)
        if isinstance(written, Failed):
            if written.changed:
                raise PictureChanged(written.changed)
            raise DrovikError(written.problems)
        remote = RequestAtWorker(self._cluster, member, written.ticket)
        return PreparedRequest(remote, written.text, written.facts, written.load)

    def _files(self, request: Request) -> dict[str, bytes]:
        """The pictures that no worker sees."""
        pictures = (one for one in request.case.pictures if not is_remote(one) and not is_object(one.path))
        return {one.path: self._pictures.read(one.path) for one in pictures}


def digests_by(cluster: Cluster, paths: Sequence[str]) -> list[str]:
    """The digests of pictures as they are now, worked out by the workers that see them.

    :raises DrovikError: where one cannot be read, or no worker is left.
    """

    async def of_part(part: list[str]) -> list[str]:
        found = unpacked((await cluster.anywhere(part[0], "digests", part))[1])
        if isinstance(found, Failed):
            raise DrovikError(found.problems)
        return list(found)

    async def of_all() -> list[list[str]]:
        starts = range(0, len(paths), _DIGESTED_AT_ONCE)
        return await asyncio.gather(*(of_part(list(paths[start : start + _DIGESTED_AT_ONCE])) for start in starts))

    return [digest for part in cluster.wait(of_all()) for digest in part]
