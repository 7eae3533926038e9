"""The demo project: copied out of the package into a folder."""

from __future__ import annotations

from importlib.resources import as_file, files
from importlib.resources.abc import Traversable
from pathlib import Path

from drovik.errors import Problem, UsageError

DEFAULT_FOLDER = "drovik-demo"
_RENAMED = {"dot-env": ".env", "dot-gitignore": ".gitignore"}
"""Files that would act on Drovik's own repository under their true names."""


def copy_demo(folder: Path) -> bool:
    """Copy the demo project; True where it was copied, False where the folder holds one already.

    :raises DrovikError: where the folder holds something else, or cannot be written.
    """
    if (folder / "drovik.toml").is_file() and (folder / "images").is_dir():
        return False
    try:
        if folder.exists() and any(folder.iterdir()):
            raise UsageError(Problem("is not empty", "give an empty folder, or a new name", str(folder)))
        _copy(files("drovik.demo").joinpath("project"), folder)
    except OSError as error:
        raise UsageError(
            Problem(f"cannot be written: {error.strerror}", "give another folder", str(folder))
        ) from None
    return True


def _copy(source: Traversable, target: Path) -> None:
    target.mkdir(parents=True, exist_ok=True)
    for one in source.iterdir():
        name = _RENAMED.get(one.name, one.name)
        if one.is_dir():
            if one.name != "__pycache__":
                _copy(one, target / name)
        else:
            with as_file(one) as file:
                (target / name).write_bytes(file.read_bytes())
