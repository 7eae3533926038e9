"""What a person agreed to, once and for good, as the user's own configuration folder keeps it."""

from __future__ import annotations

import json
import os
from pathlib import Path

from platformdirs import user_config_path

from drovik.errors import ConsentError, Problem
from drovik.files import read_json, write_whole


def trust_file() -> Path:
    """Where it is kept."""
    return user_config_path("drovik") / "key-hosts.json"


def is_agreed(source: str, to: str) -> bool:
    """Whether somebody agreed that something goes somewhere.

    :param source: what of, such as the key in a variable.
    :param to: where to, such as a host.
    :raises ConsentError: where the file cannot be read.
    """
    return to in _read(trust_file()).get(source, [])


def keep_agreement(source: str, to: str) -> None:
    """Keep that somebody agreed.

    :raises DrovikError: where the file cannot be read, or not be written.
    """
    path = trust_file()
    kept = _read(path)
    kept.setdefault(source, []).append(to)
    write_whole(path, json.dumps(kept, indent=1, sort_keys=True) + "\n")


def pictures_of(project: Path) -> str:
    """What an agreement to send a project's pictures is kept by: another project with the same text asks again."""
    return f"pictures of {project.resolve()}"


def _read(path: Path) -> dict[str, list[str]]:
    if not os.path.lexists(path):
        return {}
    kept = read_json(path, str(path))
    try:
        return {str(name): [str(host) for host in hosts] for name, hosts in kept.items()}
    except (AttributeError, TypeError):
        raise ConsentError(Problem("cannot be read", "repair it or take it away", str(path))) from None
