"""Writing a file so that it is never there in part."""

from __future__ import annotations

import os
from pathlib import Path

from drovik.errors import Problem, ProjectError


def write_whole(path: Path, text: str) -> None:
    """Write a file so that it is there whole, or as it was before.

    :raises DrovikError: where it cannot be written.
    """
    temporary = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary.write_text(text, encoding="utf-8")
        temporary.replace(path)
    except OSError as error:
        raise ProjectError(Problem(f"cannot be written: {error.strerror}", "check its folder", str(path))) from None
