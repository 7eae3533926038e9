"""Pictures looked at and prepared: what they are, what looks wrong, what a prep makes of them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik.errors import DrovikError, Problem, UsageError, known_words
from drovik.following import followed
from drovik.images.inspection import inspect
from drovik.planning.sources import is_remote
from drovik.project.cases import Case
from drovik.project.picture_files import PictureFolder
from drovik.project.settings import ProjectFile
from drovik.project.spending import Spending
from drovik.text import shortened
from drovik.workflow.asking import prep_of
from drovik.workflow.services import Services

if TYPE_CHECKING:
    from drovik.images.inspection import Inspection
    from drovik.images.prepare import Prepared
    from drovik.project.models import Model
    from drovik.project.preps import Prep
    from drovik.project.reading import Project


@dataclass(frozen=True)
class SourcePicture:
    """A picture to be shown: whose it is, where its file is, and its bytes."""

    case: Case
    number: int
    data: bytes

    @property
    def path(self) -> str:
        """As the case names it."""
        return self.case.pictures[self.number].path


def sources(project: Project | None, cases: Sequence[Case]) -> Iterator[SourcePicture]:
    """Each picture of the cases whose bytes are here."""

    named = PictureFolder(Path(), None)
    own = {case.id: case for case in project.cases} if project else {}
    for case in cases:
        folder = project.pictures if project and own.get(case.id) is case else named
        for number, picture in enumerate(case.pictures):
            if not is_remote(picture):
                yield SourcePicture(case, number, folder.read(picture.path))


def tokens_and_money(part: Prepared, model: Model) -> tuple[int, Spending | None]:
    """What a picture counts as with a model, and what that costs beside the words and the request itself."""

    assert model.picture_tokens is not None
    tokens = model.picture_tokens.of((part.width, part.height))
    price = model.price.model_copy(update={"request": None}) if model.price else None
    return tokens, Spending.of(price, tokens, 0, pictures=1)


def picture_record(part: Prepared, models: Mapping[str, Model]) -> dict[str, Any]:
    """All of it in plain values; `to_source` maps its points back to the source's stored pixels."""
    counted = {}
    for name, model in models.items():
        tokens, spent = tokens_and_money(part, model)
        counted[name] = {"tokens": tokens, "money": {spent.currency: spent.amount} if spent else {}}
    return {
        "size": [part.width, part.height],
        "bytes": len(part.data),
        "media_type": part.media_type,
        "shot": part.shot.number,
        "time": part.shot.time,
        "part": part.part + 1,
        "as_stored": part.as_stored,
        "stretch": round(part.layout.stretch(), 4),
        "to_source": list(part.layout.to_stored(part.part)),
        "models": counted,
    }


@dataclass
class PictureFile:
    """A file with the cases that name it."""

    path: str
    cases: list[str] = field(default_factory=list)
    found: Inspection | None = None
    wrong: list[str] = field(default_factory=list)


def inspect_pictures(project: Project) -> list[PictureFile]:
    """Look at every picture of the cases, each file once."""
    files: dict[str, PictureFile] = {}
    for case in project.cases:
        for picture in case.pictures:
            files.setdefault(picture.path, PictureFile(picture.path)).cases.append(case.id)
    every = list(files.values())
    project.pictures.look_up(files)
    with ThreadPoolExecutor(2) as pool:
        for _ in followed("looking at pictures", pool.map(lambda one: _look(project, one), every), len(every)):
            pass
    _mark_duplicates(every)
    return every


def _look(project: Project, one: PictureFile) -> None:

    try:
        one.found = inspect(project.pictures.read(one.path), one.path, project.settings.max_pixels)
        one.wrong = one.found.looks_wrong()
    except DrovikError as error:
        one.wrong = [error.problems[0].what]


def _mark_duplicates(every: list[PictureFile]) -> None:
    """Say where two cases show the same; one file in several cases is not a mistake, two files may be one."""
    first: dict[str, PictureFile] = {}
    for one in every:
        if one.found is None or "nearly blank" in one.wrong:
            continue
        other = first.setdefault(one.found.mark, one)
        if other is not one:
            one.wrong.append(f"shows the same as {other.cases[0]}")


def file_record(one: PictureFile) -> dict[str, object]:
    """A picture's file in plain values."""
    found = one.found
    facts = found.facts if found else None
    return {
        "picture": one.path,
        "cases": one.cases,
        "format": facts.format if facts else None,
        "size": [facts.width, facts.height] if facts else None,
        "orientation": facts.orientation if facts else None,
        "shots": facts.count if facts else None,
        "bytes": found.bytes if found else None,
        "spread": round(found.spread, 2) if found else None,
        "blur": round(found.blur, 3) if found else None,
        "wrong": one.wrong,
    }


def chosen_preps(settings: ProjectFile, words: Sequence[str] | None) -> dict[str, Prep]:
    """The preps that are meant, by name; all of the project, where none is named."""

    services = Services(Path(), settings, {}, {})
    if not words:
        return dict(settings.preps)
    found = {}
    for word in words:
        found[shortened(word, 40)] = prep_of(services, word)[1]
    return found


def _model_name(settings: ProjectFile, word: str) -> str:
    """A model by its name, or by its id.

    :raises UsageError: where there is none.
    """
    found = (
        word
        if word in settings.models
        else next((name for name, one in settings.models.items() if one.id == word), None)
    )
    if found is None:
        raise UsageError(Problem(f"there is no model '{word}'", known_words(word, settings.models)))
    return found


def counting_models(settings: ProjectFile, words: Sequence[str] | None) -> dict[str, Model]:
    """The models for which tokens can be told beforehand, or those that are named."""
    words = [_model_name(settings, word) for word in words or ()]
    for word in words:
        if settings.models[word].picture_tokens is None:
            what = f"how '{word}' counts pictures is not known"
            raise UsageError(Problem(what, "add picture_tokens to it", "drovik.toml", f"models.{word}"))
    return {
        name: model
        for name, model in settings.models.items()
        if model.picture_tokens and (not words or name in words)
    }


def sent_boxes(made: Sequence[Prepared]) -> list[tuple[float, float, float, float]]:
    """Where the parts lie in the source, as shares of its sides; nothing where all of it is sent."""
    found = []
    for one in made if len({part.shot for part in made}) == 1 else ():
        width, height = one.layout.upright
        box = one.layout.to_upright(one.part).box((0, 0, one.width, one.height))
        shares = (box[0] / width, box[1] / height, box[2] / width, box[3] / height)
        if max(shares[0], shares[1], 1 - shares[2], 1 - shares[3]) > 0.003:
            found.append(tuple(min(1.0, max(0.0, share)) for share in shares))
    return found  # type: ignore[return-value]
