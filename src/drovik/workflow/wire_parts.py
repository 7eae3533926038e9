"""What of a clip or a document was sent: how many frames or pages, at which times, and what was left out and why."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from drovik.errors import DrovikError
from drovik.planning.sources import is_remote, source_digests
from drovik.project.cases import prep_for
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.images.decode.facts import PictureFacts
    from drovik.planning.sources import AdhocProject
    from drovik.project.preps import Prep
    from drovik.store.answer_store import Store

_MOST_TIMES = 12


def sent_parts(made: AdhocProject, store: Store) -> Iterator[str]:
    """A line for each picture of a question that is several, and for each that moves and was sent as one."""
    project = made.project
    digests = source_digests(project, store, project.cases)
    prep = made.arms[0].prep
    for case in project.cases:
        for number, picture in enumerate(case.pictures):
            if is_remote(picture):
                continue
            try:
                own = prep_for(prep, case, number)
                facts = digests.facts(picture, own)
            except DrovikError:  # said by what sends it
                continue
            if facts.count > 1:
                yield f"{case.id}: {parts_line(facts, own)}"


def parts_line(facts: PictureFacts, prep: Prep) -> str:
    """How many of a source's frames or pages went, which, and what was left out."""
    shots = facts.shots
    if prep.frames is None and facts.format in ("GIF", "WEBP"):
        return f"it moves, and the first of its {facts.count} frames went; --prep frames={{every=5}} sends more"
    moves = any(shot.time is not None for shot in shots)
    kind = "frame" if moves or facts.format in ("GIF", "WEBP") else "page"
    times = [f"{shot.time:g}" for shot in shots if shot.time is not None]
    shown = ", ".join(times[:_MOST_TIMES]) + (" …" if len(times) > _MOST_TIMES else "")
    at = f", at {shown} s" if times else ""
    if kind == "page" and len(shots) < facts.count:
        numbers = [str(shot.number) for shot in shots]
        at = f", {'page' if len(numbers) == 1 else 'pages'} {', '.join(numbers[:_MOST_TIMES])}"
    left = facts.count - len(shots)
    went = f"{len(shots)} of {counted(facts.count, kind)} went{at}"
    if not left:
        return f"{went}; none was left out"
    named = f"the prep's {kind}s" if prep.frames is not None or prep.pages is not None else "what is sent unasked"
    more = "" if prep.frames is not None or prep.pages is not None else f"; --prep {kind}s=… sends more"
    return f"{went}; {left} left out, by {named}{more}"
