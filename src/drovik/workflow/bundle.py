"""A project with its store as one file that another person can open, without keys."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

import tomlkit

from drovik.errors import Problem, UsageError
from drovik.following import followed, following
from drovik.project.reading import Project, StorePlace
from drovik.project.settings import FILE_NAME
from drovik.store.copying import copy_store

_KEPT_OUT = frozenset((".env", ".git", ".venv", "__pycache__", "node_modules"))
"""Keys, and what belongs to a machine."""
_WORKED_OUT = ("judged", "outputs")
"""Tables that whoever opens the bundle fills for themselves, and need not believe."""


def write_bundle(project: Project, target: Path) -> tuple[int, int]:
    """Write the project's files, its pictures and its store; the number of files, and the bytes of the bundle.

    Pictures outside of the project are not in it. The store is copied as it is at one moment, whoever is sending.

    :raises UsageError: where a key is found in a file of the project, or the bundle cannot be written.
    """
    secrets = [value for value in project.keys.values() if len(value) > 3]
    beside = target.with_name(target.name + ".part")
    count = 0
    try:
        with zipfile.ZipFile(beside, "w", zipfile.ZIP_DEFLATED) as bundle:
            every = list(_files(project, target))
            for path in followed("packing files", every, len(every)):
                name = path.relative_to(project.folder).as_posix()
                data = path.read_bytes()
                if any(secret.encode() in data for secret in secrets):
                    what = f"{name} holds a key, and would be in the bundle"
                    raise UsageError(Problem(what, "take it out of there: keys belong into the environment"))
                bundle.writestr(name, _without_store(data) if name == FILE_NAME else data)
                count += 1
            if project.settings.store or project.store_path.exists():
                name = project.store_path.relative_to(project.folder).as_posix()
                with following("packing the store"), tempfile.TemporaryDirectory() as folder:
                    bundle.write(_copied(project.store_place, Path(folder) / "copy.sqlite"), name)
                count += 1
        os.replace(beside, target)
    except OSError as error:
        raise UsageError(Problem(f"cannot be written: {error.strerror}", "name another file", str(target))) from None
    finally:
        beside.unlink(missing_ok=True)
    return count, target.stat().st_size


def _without_store(settings: bytes) -> bytes:
    """The settings without the database of the store, for that goes along as a file."""
    if b"store" not in settings:
        return settings
    tree = tomlkit.parse(settings.decode())
    tree.pop("store", None)
    return tomlkit.dumps(tree).encode()


def _files(project: Project, target: Path) -> Iterator[Path]:
    """The files of the project, without its keys, its store, and other bundles and pages that were made of it."""
    named = {(project.folder / one.path).resolve() for case in project.cases for one in case.pictures}
    own = {"drovik.toml", "reviews.jsonl", ".gitignore", Path(project.settings.cases).as_posix(), *_modules(project)}
    for path in sorted(project.folder.rglob("*")):
        inside = path.relative_to(project.folder)
        if not path.is_file() or _KEPT_OUT & set(inside.parts) or path.resolve() == target.resolve():
            continue
        if inside.parts[0] in ("dialects", "tasks") or inside.as_posix() in own or path.resolve() in named:
            yield path


def _modules(project: Project) -> set[str]:
    """The files of the project's own measures."""
    calls = (str(measure.table.get("call", "")) for task in project.tasks for measure in task.measures)
    return {call.partition(":")[0].replace(".", "/") + ".py" for call in calls if call}


def _copied(place: StorePlace, copy: Path) -> Path:
    """The store as a file, as it is at one moment; it may be larger than memory."""
    if place.url is not None:
        copy_store(place, StorePlace(copy), of_one_moment=True)
        return copy
    source, target = sqlite3.connect(f"{place.path.resolve().as_uri()}?mode=ro", uri=True), sqlite3.connect(copy)
    try:
        source.backup(target)
        with contextlib.suppress(sqlite3.OperationalError):  # an older store, that could only be read
            for cache in _WORKED_OUT:
                target.execute(f"DELETE FROM {cache}")
            target.commit()
            target.execute("VACUUM")
    finally:
        source.close()
        target.close()
    return copy
