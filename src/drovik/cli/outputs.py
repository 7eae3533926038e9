"""Files that commands write: nothing that Drovik did not write is written over, unless somebody says so."""

from __future__ import annotations

import argparse
from pathlib import Path

from drovik.errors import Problem, UsageError

OWN_MARK = "Drovik"
"""What is near the beginning of the pages and the sheets that Drovik writes."""
_LOOKS_AT = 4000


def add_force_argument(parser: argparse.ArgumentParser) -> None:
    """`--force`, of every command that writes a file."""
    parser.add_argument("--force", action="store_true", help="write over a file that Drovik did not write")


def require_own(path: Path, option: str, force: bool, mark: str = OWN_MARK) -> None:
    """Require that a file is not there, is empty, or is one that Drovik wrote.

    :param option: by which another name is given.
    :param mark: what is near the beginning of such files.
    :raises UsageError: where it is somebody else's.
    """
    if force or not path.is_file():  # nor is anything lost in a pipe
        return
    try:
        with path.open("rb") as file:
            head = file.read(_LOOKS_AT)
        if not head or mark.encode() in head:
            return
    except OSError:
        pass
    remedy = f"give another {option}, or --force to write over it"
    raise UsageError(Problem("is there already, and Drovik did not write it", remedy, str(path)))
