"""Files that commands write: nothing that Drovik did not write is written over, unless somebody says so."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from drovik.errors import Problem, UsageError

OWN_MARK = b"Drovik"
"""What is near the beginning of the pages and the sheets that Drovik writes."""
_LOOKS_AT = 4000


def add_force_argument(parser: argparse.ArgumentParser) -> None:
    """`--force`, of every command that writes a file."""
    parser.add_argument("--force", action="store_true", help="write over a file that Drovik did not write")


def require_own(path: Path, option: str, force: bool) -> None:
    """Require that a file is not there, or is one that Drovik wrote.

    :param option: by which another name is given.
    :raises UsageError: where it is somebody else's.
    """
    if force or not os.path.lexists(path) or path.is_dir():
        return
    try:
        with path.open("rb") as file:
            if OWN_MARK in file.read(_LOOKS_AT):
                return
    except OSError:
        pass
    remedy = f"give another {option}, or --force to write over it"
    raise UsageError(Problem("is there already, and Drovik did not write it", remedy, str(path)))
