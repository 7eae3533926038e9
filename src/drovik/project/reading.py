"""A project folder → one record of all that a person wrote in it, or every problem at once.

People's own verdicts on answers, in `reviews.jsonl`, shaped as the judge's answers.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import NamedTuple

from drovik.errors import Problem, UsageError, known_words
from drovik.kept_files import KeptFiles
from drovik.project import key_signs
from drovik.project.agreements import is_agreed, pictures_of
from drovik.project.case_reading import check_expected, read_cases
from drovik.project.cases import Case
from drovik.project.dialects import Dialect, read_dialects
from drovik.project.keys import check_keys, read_keys
from drovik.project.object_pictures import ObjectPictures
from drovik.project.outside import OutsideArm, read_outside
from drovik.project.picture_files import PictureFolder
from drovik.project.prompts import OUR_VARIABLES
from drovik.project.reviews import Judgement, Reviews, read_reviews
from drovik.project.settings import FILE_NAME, ProjectFile, read_settings
from drovik.project.task_checks import check_chains, check_judges, check_variables
from drovik.project.tasks import Task, read_tasks, task_names
from drovik.project.toml_files import collected

STORE_FOLDER = ".drovik"
"""In a project: the store, and what is made again at will."""


class StorePlace(NamedTuple):
    """Where a project's store is: its file, or in a database; what lies beside the file does so in any case."""

    path: Path
    url: str | None = None


@dataclass(frozen=True)
class Project:
    """All that a person wrote. `keys` holds the values of the key variables; it is never shown or kept."""

    folder: Path
    settings: ProjectFile
    dialects: dict[str, Dialect]
    tasks: tuple[Task, ...]
    cases: tuple[Case, ...]
    keys: dict[str, str]
    pictures: PictureFolder
    reviews: Reviews = field(default_factory=dict)
    judgements: tuple[Judgement, ...] = ()
    """What people say of answers today."""
    outside: Mapping[str, tuple[OutsideArm, ...]] = field(default_factory=dict)
    """The arms that were brought in, by task."""

    def __repr__(self) -> str:
        return f"Project({str(self.folder)!r})"

    @property
    def store_path(self) -> Path:
        """Where the file of this project's store is, and what lies beside it."""
        return self.folder / STORE_FOLDER / "answers.sqlite"

    @property
    def store_place(self) -> StorePlace:
        """The same, or in which database it is."""
        return StorePlace(self.store_path, self.settings.store)

    def task(self, name: str) -> Task:
        """The task of that name.

        :raises DrovikError: if there is none.
        """
        for task in self.tasks:
            if task.name == name:
                return task
        raise UsageError(Problem(f"unknown task '{name}'", known_words(name, [one.name for one in self.tasks])))


def store_place(folder: Path, settings: ProjectFile | None = None) -> StorePlace:
    """Where the store of a project is, also where other things are wrong with it.

    :param settings: where they are read already.
    """
    settings = settings or read_settings(folder, [])
    return StorePlace(folder / STORE_FOLDER / "answers.sqlite", settings.store if settings is not None else None)


def read_project(folder: Path) -> tuple[Project | None, list[Problem]]:
    """A project and all that is wrong with its files. Pictures are not opened here.

    :return: no project where drovik.toml itself cannot be read.
    """
    problems: list[Problem] = []
    settings = read_settings(folder, problems)
    if settings is None:
        return None, problems
    dialects = read_dialects(folder, {one.dialect for one in settings.endpoints.values()}, problems)
    tasks = read_tasks(folder, problems)
    pictures = PictureFolder(folder, settings.pictures.folders(folder), _objects(folder, settings))
    cases = []
    if not _lies_outside(pictures, settings, problems):
        cases = read_cases(folder, settings.cases, tasks, problems, settings.null_word)
    keys = collected(problems, read_keys, folder, settings.endpoints) or {}
    given = {name for case in cases for name in case.given}
    for name in given & set(OUR_VARIABLES):
        what = f"'{name}' is Drovik's own variable and cannot be given"
        problems.append(Problem(what, "rename it", settings.cases, "given"))
    problems += check_chains(tasks, list(settings.models))
    problems += check_judges(tasks)
    reviews, judgements = read_reviews(folder, tasks, problems)
    for task in tasks if cases else ():
        problems += check_variables(task, [*sorted(given), *(task.judges.given() if task.judges else ())])
    problems += _check_given(cases, given, tasks, settings.cases)
    problems += check_expected(cases, tasks, task_names(folder), settings.cases)
    outside = {task.name: read_outside(folder, task, problems) for task in tasks}
    problems += _check_outside(outside, settings)
    problems += _check_variants(settings, tasks, task_names(folder))
    return Project(
        folder=folder,
        settings=settings,
        dialects=dialects,
        tasks=tasks,
        cases=tuple(cases),
        keys=keys,
        pictures=pictures,
        reviews=reviews,
        judgements=judgements,
        outside=outside,
    ), problems


def _objects(folder: Path, settings: ProjectFile) -> ObjectPictures:
    """The objects that a project takes pictures from; what was read of them is kept beside its store."""
    kept = KeptFiles(folder / STORE_FOLDER / "objects", settings.pictures.kept_bytes, ".object")
    return ObjectPictures(settings.pictures.addresses(), partial(is_agreed, pictures_of(folder)), kept)


def _check_outside(outside: Mapping[str, Sequence[OutsideArm]], settings: ProjectFile) -> list[Problem]:
    """Arms that were brought in under the name of a model."""
    return [
        Problem(
            f"'{one.name}' is a model of this project too",
            "rename the file",
            f"tasks/{task}/outside/{one.name}.jsonl",
        )
        for task, brought in outside.items()
        for one in brought
        if one.name in settings.models
    ]


def _check_variants(settings: ProjectFile, tasks: Iterable[Task], names: Iterable[str]) -> list[Problem]:
    """Variants of tasks that are not there, or without the task that comes before one of theirs."""
    known, problems = sorted(names), []
    before = {task.name: task.after.task for task in tasks if task.after is not None}
    for name, variant in settings.variants.items():
        place = f"variants.{name}.tasks"
        for word in variant.tasks or ():
            if word not in known:
                problems.append(Problem(f"unknown task '{word}'", known_words(word, known), FILE_NAME, place))
            elif (earlier := before.get(word)) is not None and earlier not in (variant.tasks or ()):
                what = f"'{word}' comes after '{earlier}', which is not among them"
                problems.append(Problem(what, f"add '{earlier}'", FILE_NAME, place))
    return problems


def _lies_outside(pictures: PictureFolder, settings: ProjectFile, problems: list[Problem]) -> bool:
    """Whether the cases lie outside of the project: what they give to prompts would leave with these."""
    if pictures.holds(settings.cases):
        return False
    what = "lies outside of the project, so it is not read"
    remedy = 'copy it in, or name its folder in drovik.toml: [pictures] from = ["FOLDER"]'
    problems.append(Problem(what, remedy, settings.cases))
    return True


def check_secrets(project: Project) -> list[Problem]:
    """Keys that are not set, or stand where they would be seen."""
    endpoints, keys = project.settings.endpoints, project.keys.values()
    return [
        *key_signs.check_dialects(project.dialects),
        *key_signs.check_urls(endpoints),
        *check_keys(project.folder, endpoints, project.keys),
        *key_signs.check_files(project.folder, keys),
        *key_signs.check_cases(project.cases, project.settings.cases, keys),
    ]


def _check_given(cases: list[Case], given: Set[str], tasks: tuple[Task, ...], source: str) -> list[Problem]:
    """Cases that lack a fact which other cases give and a prompt uses."""
    users: dict[str, str] = {}
    for task in tasks:
        for prompt in task.prompts:
            for name in prompt.variables & given:
                users.setdefault(name, prompt.file)
    return [
        Problem(f"'{name}' is not given, and {users[name]} uses it", "give it", source, f"{case.place}: given")
        for case in (cases if users else ())
        for name in sorted(users.keys() - case.given.keys())
    ]
