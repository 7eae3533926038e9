"""Cases of another project, a bundle, or an exported table → into the cases of a project, with their pictures."""

from __future__ import annotations

import tempfile
import tomllib
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Literal

from drovik.errors import DrovikError, Problem, ProjectError, UsageError
from drovik.following import followed
from drovik.planning.sources import is_remote
from drovik.project.case_reading import case_of, check_expected, read_cases
from drovik.project.case_rows import is_exported, row_of, row_of_cells
from drovik.project.case_sources import SourceRow
from drovik.project.case_writing import add_cases
from drovik.project.cases import Case, Picture
from drovik.project.object_pictures import is_object
from drovik.project.picture_files import PictureFolder
from drovik.project.reading import Project
from drovik.project.settings import FILE_NAME
from drovik.reporting.table_reading import table_rows
from drovik.text import counted
from drovik.workflow.new_project import placed_picture

Known = Literal["refuse", "keep", "replace"]
"""What becomes of a case whose id is there already with something else in it."""
_MOST_BYTES = 20_000_000_000
"""Of a bundle once it is unpacked."""
_MOST_PROBLEMS, _NAMED = 20, 3
"""That are said, and of the same kind."""


@dataclass(frozen=True)
class Imported:
    """The ids of the cases that were added and replaced, that are there just so, and that were kept as they are."""

    added: tuple[str, ...]
    replaced: tuple[str, ...]
    same: tuple[str, ...]
    kept: tuple[str, ...]


def import_cases(project: Project, source: Path, known: Known, tasks: Sequence[str] = ()) -> Imported:
    """Take in cases; all of them, or none where something is wrong.

    :param tasks: whose expected outputs are taken in, and no others; empty: those of all.
    :raises DrovikError: where there are none in it, one does not fit the project or differs from the one that is
        there, or a picture is missing.
    """
    with _opened(source) as (folder, file):
        problems: list[Problem] = []
        cases = _cases(project, folder, file, source.name, problems)
        cases = [_of_tasks(one, tasks) for one in cases] if tasks else cases
        _require_tasks(project, cases, source)
        problems += check_expected(cases, project.tasks, [task.name for task in project.tasks], source.name)
        home = _home_of(cases, folder, source)
        problems += _unfit_pictures(home, cases, source.name)
        if problems:
            raise ProjectError(problems[:_MOST_PROBLEMS])
        mine = {one.id: one for one in project.cases}
        new = [one for one in cases if one.id not in mine]
        same = {one.id for one in cases if one.id in mine and _is_same(project, mine[one.id], home, one)}
        others = [one for one in cases if one.id in mine and one.id not in same]
        if others and known == "refuse":
            what = f"differs from your {counted(len(others), 'case')} {', '.join(one.id for one in others[:_NAMED])}"
            more = " and others" if len(others) > _NAMED else ""
            raise ProjectError(Problem(what + more, "take theirs: --replace, or leave yours: --keep", source.name))
        replaced = others if known == "replace" else []
        taken = (*new, *replaced)
        placed = [_placed(project.folder, home, one) for one in followed("taking cases in", taken, len(taken))]
        if placed:
            settings, ids = project.settings, {one.id for one in replaced}
            add_cases(project.folder, settings.cases, placed, ids, project.tasks, settings.null_word)
    kept = others if known == "keep" else []
    unchanged = [one for one in cases if one.id in same]
    return Imported(*(tuple(one.id for one in some) for some in (new, replaced, unchanged, kept)))


def _home_of(cases: Sequence[Case], folder: Path, source: Path) -> Path:
    """Where the pictures of cases are named from: the folder of their file, or the project that it was written in.

    `drovik export out` writes its tables into a folder of the project's.
    """
    files = [one.path for case in cases for one in case.pictures if not _has_no_file(one)]
    if source.is_file() and source.suffix.lower() != ".zip" and files and not (folder / files[0]).is_file():
        above = (one for one in folder.resolve().parents if (one / FILE_NAME).is_file())
        return next(above, folder)
    return folder


def _of_tasks(case: Case, tasks: Sequence[str]) -> Case:
    expected = {name: value for name, value in case.expected.items() if name in tasks}
    return case._replace(expected=expected, refusal=case.refusal & frozenset(tasks))


def _require_tasks(project: Project, cases: Sequence[Case], source: Path) -> None:
    """See that the project has the tasks that expected outputs are for.

    :raises UsageError: where it has not; in one line, for it is so of every case.
    """
    own = [task.name for task in project.tasks]
    if unknown := sorted({name for one in cases for name in (*one.expected, *one.refusal)} - set(own)):
        what = f"has expected outputs for tasks that this project does not have: {', '.join(unknown)}"
        remedy = f"add those tasks, or take in those of {', '.join(own)} alone: --task {own[0]}"
        raise UsageError(Problem(what, remedy, str(source)))


@contextmanager
def _opened(source: Path) -> Iterator[tuple[Path, Path]]:
    """The folder that pictures are named from, and the file of the cases; a bundle is unpacked for that long."""
    if source.is_dir():
        yield source, _cases_file(source, source)
    elif source.suffix.lower() == ".zip":
        with tempfile.TemporaryDirectory(prefix="drovik-") as name:
            _unpack(source, Path(name))
            yield Path(name), _cases_file(Path(name), source)
    else:
        yield source.parent, source


def _cases_file(folder: Path, source: Path) -> Path:
    """The cases of a project that may not be whole, and came from `source`."""
    try:
        with (folder / "drovik.toml").open("rb") as file:
            return folder / str(tomllib.load(file).get("cases", "cases.jsonl"))
    except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError):
        remedy = "give a project, a bundle, or a table of cases"
        raise UsageError(Problem("holds no project that can be read", remedy, str(source))) from None


def _unpack(bundle: Path, target: Path) -> None:
    """Unpack a bundle.

    :raises UsageError: where it is none, is too large, or holds a file that would lie elsewhere.
    """
    remedy = "ask for another: drovik export --bundle FILE.zip"
    try:
        with zipfile.ZipFile(bundle) as archive:
            wanted = [one for one in archive.infolist() if not one.filename.startswith(".drovik/")]  # no answers
            if sum(one.file_size for one in wanted) > _MOST_BYTES:
                raise UsageError(Problem(f"is larger than {_MOST_BYTES // 10**9} GB", remedy, str(bundle)))
            for one in followed("unpacking", wanted, len(wanted)):
                parts = PurePosixPath(one.filename.replace("\\", "/")).parts
                if one.filename.startswith(("/", "\\")) or ".." in parts or any(":" in part for part in parts):
                    what = f"holds a file that would lie elsewhere: {one.filename[:80]}"
                    raise UsageError(Problem(what, "do not use it", str(bundle)))
            archive.extractall(target, wanted)
    except (OSError, zipfile.BadZipFile, RuntimeError, EOFError) as error:
        raise UsageError(Problem(f"cannot be unpacked: {str(error)[:200]}", remedy, str(bundle))) from None


def _cases(project: Project, folder: Path, file: Path, source: str, problems: list[Problem]) -> list[Case]:
    """The cases of a file, written by a person or by `drovik export`."""
    if file.is_dir() or not _is_exported(file):
        inside = file.relative_to(folder).as_posix()
        return read_cases(folder, inside, project.tasks, problems, project.settings.null_word)
    cases = []
    for place, cells in table_rows(file, "cases"):
        try:
            row = row_of_cells(cells)
        except ValueError as error:
            problems.append(Problem(f"a cell is not JSON: {error}", "export the cases again", source, place))
            continue
        if (made := case_of(SourceRow(row, place), source, problems)) is not None:
            cases.append(made)
    if not cases and not problems:
        problems.append(Problem("there is no case in it", "export the table named cases", source))
    return cases


def _is_exported(file: Path) -> bool:
    if file.suffix.lower() not in (".csv", ".jsonl", ".ndjson"):
        return True
    try:
        first = next(table_rows(file, "cases"), None)
    except DrovikError:
        return False  # reading it as a person's says what is wrong, and where
    return first is not None and is_exported(first[1]) and isinstance(first[1]["images"], str)


def _is_same(project: Project, mine: Case, elsewhere: Path, theirs: Case) -> bool:
    """Whether two cases ask the same about the same pictures, wherever those lie."""
    one, other = row_of(mine), row_of(theirs)
    if len(mine.pictures) != len(theirs.pictures) or {**one, "images": 0} != {**other, "images": 0}:
        return False
    theirs_from = PictureFolder(elsewhere)
    return all(
        first._replace(path="") == second._replace(path="")
        and (
            first.path == second.path
            if _has_no_file(first)
            else _are_same_file(project.pictures, first.path, theirs_from, second.path)
        )
        for first, second in zip(mine.pictures, theirs.pictures, strict=True)
    )


def _has_no_file(picture: Picture) -> bool:
    """Whether a picture lies at an address, and in no folder."""
    return is_remote(picture) or is_object(picture.path)


def _are_same_file(mine: PictureFolder, path: str, theirs: PictureFolder, other: str) -> bool:
    try:
        return mine.read(path) == theirs.read(other)
    except DrovikError:
        return False


def _unfit_pictures(folder: Path, cases: Sequence[Case], source: str) -> list[Problem]:
    """Pictures that are not there, or lie elsewhere than beneath the folder.

    A stranger's cases could name any file of this machine, which would then lie in the project and leave with it.
    """
    beneath = PictureFolder(folder)
    found: list[Problem] = []
    for case in cases:
        for picture in (one for one in case.pictures if not _has_no_file(one)):
            if len(found) >= _NAMED:
                return found
            if not beneath.holds(picture.path):
                what = f"the picture {picture.path} lies outside of the folder of the cases, so it is not taken in"
                found.append(Problem(what, "copy it there yourself", source, case.place))
            elif not (folder / picture.path).is_file():
                found.append(
                    Problem(f"the picture {picture.path} is not there", "put it beside the cases", source, case.place)
                )
    return found


def _placed(folder: Path, elsewhere: Path, case: Case) -> Case:
    """A case whose pictures are named from the project: where they lie in it, else as copies."""
    pictures = [
        one if _has_no_file(one) else one._replace(path=placed_picture(folder, elsewhere / one.path))
        for one in case.pictures
    ]
    return case._replace(pictures=tuple(pictures))
