"""The pictures of the cases as their files are today: digests, what they are, and what a prompt may say of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from itertools import pairwise
from typing import Any

from drovik.errors import DrovikError, PictureError, Problem
from drovik.images.decoding import look_at
from drovik.images.picture_facts import PictureFacts
from drovik.images.shots import Shot
from drovik.project.arms import Arm
from drovik.project.canonical import canonical
from drovik.project.cases import Case, Picture, prep_for
from drovik.project.picture_files import FileState, source_digest
from drovik.project.preps import Prep
from drovik.project.prompts import SHOWN_VARIABLES
from drovik.project.reading import Project
from drovik.store.store import Store

_DECIDES = ("pages", "resolution", "frames")


class Sources(dict[str, str]):
    """The digest of each picture's file by its path, and what the files are, looked at once and kept."""

    def __init__(self, digests: Mapping[str, str], project: Project, store: Store) -> None:
        super().__init__(digests)
        self._project, self._store = project, store
        self._known: dict[tuple[str, str], PictureFacts] = {}

    def facts(self, picture: Picture, prep: Prep) -> PictureFacts:
        """What a picture's file is, and the shots that a prep takes of it.

        :raises DrovikError: where it is broken, or the prep does not fit it.
        """
        key = (self[picture.path], decides_shots(prep))
        if key not in self._known:
            kept = self._store.digests.facts(*key)
            if kept is None:
                data = self._project.pictures.read(picture.path)
                kept = look_at(data, picture.path, self._project.settings.max_pixels, prep)
                self._store.digests.keep_facts(*key, kept)
            self._known[key] = kept
        return self._known[key]


def decides_shots(prep: Prep) -> str:
    """What of a prep decides which shots there are, and how large, as text."""
    return canonical({name: value for name, value in prep.canonical().items() if name in _DECIDES})


def source_digests(project: Project, store: Store, cases: Iterable[Case]) -> Sources:
    """The digest of every picture of the cases; files that look unchanged are not read.

    :raises DrovikError: with every picture that is not there.
    """
    pictures = [picture for case in cases for picture in case.pictures]
    elsewhere = {picture.path: address_digest(picture) for picture in pictures if is_elsewhere(picture)}
    states: list[FileState] = []
    missing: list[Problem] = []
    for path in dict.fromkeys(picture.path for picture in pictures if picture.path not in elsewhere):
        try:
            states.append(project.pictures.state(path))
        except DrovikError as error:
            missing += error.problems
    if missing:
        raise PictureError(missing)
    found = store.digests.of_sources(states, lambda path: source_digest(project.pictures.read(path)))
    return Sources({**found, **elsewhere}, project, store)


def is_elsewhere(picture: Picture) -> bool:
    """Whether a picture is known by its address alone, so that nobody here has its bytes."""
    return picture.address is not None and picture.path == picture.address


def address_digest(picture: Picture) -> str:
    """What a picture without bytes is known by."""
    return source_digest(f"address {picture.address}".encode())


def shown_of(arm: Arm, case: Case, sources: Mapping[str, str]) -> dict[str, Any]:
    """What a prompt may say of the pictures that are sent; empty where it says nothing of the kind.

    `times` are the seconds at which the frames are shown, `step` is the time between two, `pages` are the
    numbers of the pages, `parts` is how many pictures are sent in all.
    """
    if not arm.prompt.variables & set(SHOWN_VARIABLES) or not isinstance(sources, Sources):
        return {}
    every: list[Shot] = []
    parts = 0
    for number, picture in enumerate(case.pictures):
        if not is_elsewhere(picture):
            prep = prep_for(arm.prep, case, number)
            shots = sources.facts(picture, prep).shots
            every += shots
            parts += len(shots) * (prep.split.across * prep.split.down if prep.split else 1)
    times = [shot.time for shot in every if shot.time is not None]
    gaps = [round(after - before, 3) for before, after in pairwise(times)]
    step = sorted(gaps)[len(gaps) // 2] if gaps else None
    pages = [shot.number for shot in every if shot.time is None]
    return {"times": times, "step": step, "pages": pages, "parts": parts}
