"""Which hosts a key may be sent to: bound the first time it is used, kept in the user's own folder.

A project that somebody else wrote names an address and a key variable. Without this, running it
would send the key to that address.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlsplit

from drovik.problems import DrovikError, Problem
from drovik.project.settings import FILE_NAME, Endpoint, is_loopback

Ask = Callable[[str], bool]


def trust_file() -> Path:
    """Where the bindings are kept."""
    from platformdirs import user_config_path

    return user_config_path("drovik") / "key-hosts.json"


def check_trust(name: str, endpoint: Endpoint, trusted: bool, ask: Ask | None) -> None:
    """Let a key go to an endpoint's host, or refuse.

    :param trusted: the command line said --trust.
    :param ask: puts a question to the person at the terminal; None where there is none.
    :raises DrovikError: where the key was never bound to this host and nobody agreed to it.
    """
    host = urlsplit(endpoint.url).hostname or ""
    if endpoint.key_env is None or is_loopback(host):
        return
    path = trust_file()
    bound = _read(path)
    if host in bound.get(endpoint.key_env, []):
        return
    question = f"Send the key in {endpoint.key_env} to {host}?"
    if not trusted and not (ask is not None and ask(question)):
        what = f"the key in {endpoint.key_env} was never sent to {host} before"
        raise DrovikError(
            Problem(what, "if that is where it belongs, say --trust once", FILE_NAME, f"endpoints.{name}")
        )
    bound.setdefault(endpoint.key_env, []).append(host)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = path.with_suffix(f".{os.getpid()}")
        temporary.write_text(json.dumps(bound, indent=1, sort_keys=True) + "\n", encoding="utf-8")
        temporary.replace(path)
    except OSError as error:
        raise DrovikError(Problem(f"cannot be written: {error.strerror}", "check its folder", str(path))) from None


def _read(path: Path) -> dict[str, list[str]]:
    try:
        kept = json.loads(path.read_text(encoding="utf-8"))
        return {str(name): [str(host) for host in hosts] for name, hosts in kept.items()}
    except FileNotFoundError:
        return {}
    except (OSError, ValueError, AttributeError, TypeError):
        raise DrovikError(Problem("cannot be read", "mend it or take it away", str(path))) from None
