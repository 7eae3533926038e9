"""Whether this machine is fit for the work: what is installed, where things are, what is missing."""

from __future__ import annotations

import importlib.util
import os
import platform
import resource
import shutil
import sqlite3
import sys
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_state_path

from drovik.errors import DrovikError
from drovik.project.reading import Project
from drovik.version import __version__
from drovik.workflow.services import all_services, users_folder

EXTRAS: Mapping[str, tuple[str, str]] = {
    "arrow": ("pyarrow", "exports as Parquet and Arrow"), "cluster": ("distributed", "sending on a cluster"),
    "completion": ("shtab", "completion in the shell"),
    "figures": ("matplotlib", "figures as files"), "formula": ("sympy", "formulas that are equal"),
    "frame": ("pandas", "scores as data frames"), "heic": ("pillow_heif", "HEIC pictures"),
    "jpeg": ("simplejpeg", "large JPEGs quicker"),
    "keyring": ("keyring", "keys in the system's keyring"), "objects": ("fsspec", "pictures at addresses"),
    "postgres": ("psycopg", "a store for a team"), "pdf": ("pypdfium2", "pages of PDFs"),
    "video": ("av", "frames of clips"), "xlsx": ("openpyxl", "Excel tables"),
}  # fmt: skip
"""Of each extra the module that it brings, and what for."""
LEAST_FREE = 1_000_000_000
"""Bytes of disk: less is full by the replies and pictures of a larger project."""
LEAST_FILES = 1024
"""Files that a program may have open: fewer connections than an endpoint may be given."""
_EARLIEST = 1_750_000_000
"""Seconds since 1970: a clock before the middle of 2025 is wrong, and so are limits by the day."""


@dataclass(frozen=True)
class Fitness:
    """One thing that was looked at: whether it is as it should be, what it is, and what to do if it is not."""

    name: str
    fit: bool
    what: str
    remedy: str = ""


def fitness_of(folder: Path, project: Project | None) -> list[Fitness]:
    """What this machine has, in ten lines.

    :param folder: where the work is.
    :param project: the project there, if there is one that can be read.
    """
    return [
        Fitness("drovik", True, f"{__version__} at {Path(__file__).parents[1]}"),
        Fitness("python", sys.version_info >= (3, 11), f"{platform.python_version()} at {sys.executable}"),
        Fitness("sqlite", sqlite3.sqlite_version_info >= (3, 35), sqlite3.sqlite_version, "take a newer Python"),
        _extras(),
        _services(),
        _keys(project),
        _project(folder, project),
        _disk(folder),
        _clock(project),
        _files(),
    ]


def _extras() -> Fitness:
    missing = [name for name, (module, _) in EXTRAS.items() if importlib.util.find_spec(module) is None]
    told = ", ".join(f"{name} ({EXTRAS[name][1]})" for name in missing)
    return Fitness("extras", True, f"not installed: {told}" if missing else "all are installed")


def _services() -> Fitness:
    try:
        services = all_services(None)
    except DrovikError as error:
        return Fitness("services", False, str(error.problems[0].line()), "correct it there")
    names = ", ".join(services.settings.endpoints) or "none of your own; drovik endpoint learn NAME page.html --user"
    return Fitness(
        "services", True, f"{names} (in {users_folder()}; limits are shared in {user_state_path('drovik')})"
    )


def _keys(project: Project | None) -> Fitness:
    """Which keys are there; their values are nobody's business."""
    if project is None:
        return Fitness("keys", True, "no project here asks for any")
    wanted = sorted({one.key_env for one in project.settings.endpoints.values() if one.key_env})
    missing = [name for name in wanted if not project.keys.get(name)]
    told = ", ".join(f"{name} is {'missing' if name in missing else 'set'}" for name in wanted) or "none is needed"
    return Fitness("keys", not missing, told, "set it in the environment or in .env" if missing else "")


def _project(folder: Path, project: Project | None) -> Fitness:
    if project is None:
        return Fitness("project", True, f"none that can be read at {folder.resolve()}")
    store = project.store_path
    size = f"{store.stat().st_size / 1e6:.1f} MB" if store.exists() else "not there yet"
    if project.settings.store:
        size = f"in {project.settings.store}"
    told = f"{project.folder.resolve()}: {len(project.cases)} cases, {len(project.tasks)} tasks; its store is {size}"
    fit = not store.exists() or os.access(store, os.W_OK)
    return Fitness("project", fit, told, "" if fit else "the store cannot be written: see its permissions")


def _disk(folder: Path) -> Fitness:
    free = shutil.disk_usage(folder).free
    fit = free >= LEAST_FREE
    return Fitness(
        "disk", fit, f"{free / 1e9:.1f} GB free", "" if fit else "make room: what is paid for has to be kept"
    )


def _clock(project: Project | None) -> Fitness:
    """A clock that went back would mix up periods, days' limits and the order of judgements."""
    now = time.time()
    newest = 0.0
    if project is not None and project.store_path.exists():
        newest = project.store_path.stat().st_mtime
    fit = now > _EARLIEST and newest <= now + 60
    told = time.strftime("%Y-%m-%d %H:%M:%S %Z", time.localtime(now))
    return Fitness("clock", fit, told, "" if fit else "set the clock: it is behind the store's, or years off")


def _files() -> Fitness:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    fit = hard == resource.RLIM_INFINITY or hard >= LEAST_FILES
    return Fitness(
        "limits", fit, f"{soft} files may be open, {hard} at most", "" if fit else "raise it: ulimit -n 4096"
    )
