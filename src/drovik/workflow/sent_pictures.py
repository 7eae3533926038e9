"""Pictures as they were sent: made again by the same prep, once for each."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from drovik.errors import Problem, UsageError
from drovik.evaluation.gathering import TaskView
from drovik.following import followed
from drovik.images.prepare import prepare
from drovik.project.arms import Arm, canonical
from drovik.project.cases import Case, prep_for
from drovik.project.reading import Project

_ENDINGS = {"image/jpeg": "jpg", "image/png": "png", "image/webp": "webp"}
_UNFIT = re.compile(r"[^\w.+-]+")


def write_sent_pictures(project: Project, views: Sequence[TaskView], folder: Path) -> int:
    """Write the pictures of all answers there are, as their models got them; how many files.

    A file is named by the case, the prep, and its number where a case has several or a picture has parts.

    :raises DrovikError: where a picture cannot be read, or the folder cannot be written.
    """
    seen: set[tuple[str, str]] = set()
    count = 0
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for arm, case in followed("preparing pictures, by answers", _asked(views)):
            for number, picture in enumerate(case.pictures):
                prep = prep_for(arm.prep, case, number)
                key = picture.path, canonical(prep.canonical())
                if key not in seen:
                    seen.add(key)
                    source = project.pictures.read(picture.path)
                    made = prepare(source, prep, picture.path, project.settings.max_pixels)
                    for part, one in enumerate(made, 1):
                        numbers = [number + 1] * (len(case.pictures) > 1) + [part] * (len(made) > 1)
                        name = "-".join([case.id, arm.prep_name, *map(str, numbers)])
                        (folder / _file_name(name, one.media_type)).write_bytes(one.data)
                    count += len(made)
    except OSError as error:
        raise UsageError(Problem(f"{folder}: cannot be written: {error.strerror}", "name another folder")) from None
    return count


def _asked(views: Sequence[TaskView]) -> Iterator[tuple[Arm, Case]]:
    """The arms that see, each with every case that it has answered."""
    for view in views:
        for arm in view.arms:
            if arm.outside is None and arm.model.takes_pictures:
                yield from ((arm, case) for case in view.cases if case.id in view.answers[arm.name])


def _file_name(name: str, media_type: str) -> str:
    plain = _UNFIT.sub("_", name).lstrip(".")[:180]
    return f"{plain}.{_ENDINGS.get(media_type, 'bin')}"
