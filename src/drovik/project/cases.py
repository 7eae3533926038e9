"""Cases: pictures, facts `given` to the prompt, and expected outputs, whichever file they come from."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, Literal, NamedTuple

from drovik.project.preps import Prep

_PICTURES = (".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".webp", ".gif", ".bmp", ".tif", ".tiff", ".heic", ".heif")
_CLIPS = (".mp4", ".m4v", ".mov", ".webm", ".mkv", ".avi")
PICTURE_ENDINGS = frozenset((*_PICTURES, *_CLIPS, ".pdf"))
"""Which files of a folder are taken for pictures; what they are is then read from their content."""

Split = Literal["tune", "held_out"]


class Picture(NamedTuple):
    """A picture of a case: where it is, from the project's folder, and the tag a prompt may name it by.

    `address` is where it is on the web, for services that fetch pictures themselves. `page` is the one page
    of a document that is meant; `regions` are boxes that a prep may crop to.
    """

    path: str
    tag: str | None = None
    address: str | None = None
    page: int | None = None
    regions: Mapping[str, Any] = MappingProxyType({})


class Case(NamedTuple):
    """One or more pictures, facts for the prompt, and the expected outputs by task.

    `group` names what cases have in common, such as their source: how sure a score is goes by groups.
    `refusal` names the tasks where declining is the right answer. `place` says where it was written.
    `regions` hold for all of its pictures, unless one has a region of the same name.
    """

    id: str
    pictures: tuple[Picture, ...]
    given: Mapping[str, Any]
    expected: Mapping[str, Any]
    group: str | None
    split: Split
    refusal: frozenset[str]
    place: str
    regions: Mapping[str, Any] = MappingProxyType({})


def prep_for(prep: Prep, case: Case, number: int) -> Prep:
    """A prep as it is for one picture of a case: with the box of a region, and the page that is meant.

    :raises DrovikError: where the case has no region of the name that the prep crops to.
    """
    picture = case.pictures[number]
    if isinstance(prep.crop, str):
        prep = prep.for_region({**case.regions, **picture.regions}, f"case '{case.id}'")
    return prep if picture.page is None else prep.model_copy(update={"pages": (picture.page,)})
