"""The first files of a project, where there may be others already: none of them is written over."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit

from drovik.errors import Problem, UsageError
from drovik.files import read_text, write_whole

CASES = "cases.jsonl"
_IGNORED = (".env", ".drovik/")


def require_free(folder: Path, *more: str) -> None:
    """See that a project can be started in a folder without writing over a file.

    :param more: paths in it of what is written beside the cases.
    :raises UsageError: where something is there already.
    """
    for name in (CASES, *more):
        if os.path.lexists(folder / name):
            remedy = "name another folder, or move it away"
            raise UsageError(Problem("is there already, and belongs to no project", remedy, str(folder / name)))


def start_project(folder: Path, addresses: Sequence[str] = ()) -> None:
    """Write the settings of a project without cases; what git ignores already it goes on ignoring.

    :param addresses: what those of pictures begin with.
    """
    pictures = {"pictures": {"from": list(addresses)}} if addresses else {}
    write_toml(folder / "drovik.toml", {"title": folder.resolve().name, "cases": CASES, **pictures})
    path = folder / ".gitignore"
    text = read_text(path, ".gitignore") if path.exists() else ""
    lacking = [one for one in _IGNORED if one not in text.splitlines()]
    if lacking:
        write_whole(path, text + ("\n" if text and not text.endswith("\n") else "") + "\n".join([*lacking, ""]))


def write_toml(path: Path, table: Mapping[str, Any]) -> None:
    """Write a table as TOML; texts of several lines stay readable as such."""
    document = tomlkit.document()
    for key, value in table.items():
        lines = isinstance(value, str) and "\n" in value
        document[key] = tomlkit.string(value, multiline=True) if lines else value
    write_whole(path, tomlkit.dumps(document))
