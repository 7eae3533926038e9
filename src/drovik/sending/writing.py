"""An ask → the request that leaves: its text rendered, its pictures read, digested and prepared.

This is what runs in threads, off the event loop.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass

from drovik.images.prepare import PREPARING_REVISION, Prepared, prepare
from drovik.images.source import read_source, source_digest
from drovik.problems import DrovikError, Problem
from drovik.project.canonical import canonical
from drovik.project.opening import Project
from drovik.sending.plan import Ask
from drovik.sending.request import HttpRequest, RequestWriter
from drovik.sending.turns import asking_of, canonical_asking


@dataclass(frozen=True)
class PreparedFact:
    """What a prep made of a source, by digests."""

    path: str
    source: str
    prep: str
    digest: str


@dataclass(frozen=True)
class Written:
    """A request ready to leave, what it asks in canonical form, and what its pictures became."""

    request: HttpRequest
    text: str
    facts: tuple[PreparedFact, ...]


class PictureChanged(DrovikError):
    """A picture's file is another one than when the sending was planned."""

    def __init__(self, path: str) -> None:
        self.path = path
        what = "changed on disk after the sending was planned; it was not sent"
        super().__init__(Problem(what, "send again, and it will be asked anew", path))


def write_request(project: Project, writer: RequestWriter, ask: Ask, request_id: str) -> Written:
    """Render, read and prepare what an ask needs, and write the request.

    :raises PictureChanged: where the pictures are not those that the ask's identity speaks of.
    :raises DrovikError: where a picture or the template fails.
    """
    asking = asking_of(ask.task, ask.arm, ask.case)
    needed = set(asking.picture_numbers())
    pictures: list[Prepared | None] = []
    digests: list[str] = []
    facts = []
    for number, picture in enumerate(ask.case.pictures):
        if number not in needed:
            pictures.append(None)
            digests.append("")
            continue
        source = read_source(project.folder, picture.path)
        digests.append(source_digest(source))
        made = prepare(source, ask.arm.prep, picture.path, project.settings.max_pixels)
        pictures.append(made)
        if made.data is not source:
            own = hashlib.sha256(made.data).hexdigest()
            facts.append(PreparedFact(picture.path, digests[-1], canonical(ask.arm.prep.canonical()), own))
    text = canonical_asking(ask.arm, asking, digests, PREPARING_REVISION, ask.repeat)
    if hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest() != ask.identity:
        raise PictureChanged(_which(ask, needed))
    return Written(writer.write(ask.arm, asking, pictures, request_id), text, tuple(facts))


def _which(ask: Ask, needed: Sequence[int] | set[int]) -> str:
    paths = [picture.path for number, picture in enumerate(ask.case.pictures) if number in needed]
    return paths[0] if len(paths) == 1 else ", ".join(paths)
