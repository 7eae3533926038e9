"""The pictures that a command shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from drovik.project.cases import Case
    from drovik.project.reading import Project


@dataclass(frozen=True)
class Shown:
    """A picture to be shown: whose it is, where its file is, and its bytes."""

    case: Case
    number: int
    data: bytes

    @property
    def path(self) -> str:
        """As the case names it."""
        return self.case.pictures[self.number].path


def sources(project: Project | None, cases: Sequence[Case]) -> Iterator[Shown]:
    """Each picture of the cases whose bytes are here."""
    from drovik.planning.sources import is_elsewhere
    from drovik.project.picture_files import PictureFolder

    named = PictureFolder(Path(), None)
    own = {case.id: case for case in project.cases} if project else {}
    for case in cases:
        folder = project.pictures if project and own.get(case.id) is case else named
        for number, picture in enumerate(case.pictures):
            if not is_elsewhere(picture):
                yield Shown(case, number, folder.read(picture.path))
