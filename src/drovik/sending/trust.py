"""Which hosts a key may be sent to: bound the first time it is used, kept in the user's own folder.

A project that somebody else wrote names an address and a key variable. Without this, running it
would send the key to that address.
"""

from __future__ import annotations

import hashlib
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
    source = endpoint.key_env if endpoint.key_command is None else _mark(endpoint.key_command)
    if source is None or is_loopback(host):
        return
    where = endpoint.key_env if endpoint.key_command is None else f"'{endpoint.key_command}'"
    _agree(
        name,
        source,
        host,
        trusted or (ask is not None and not _is_agreed(source, host) and ask(f"Send the key in {where} to {host}?")),
        f"the key in {where} was never sent to {host} before; if that is where it belongs",
    )


def check_commands(name: str, endpoint: Endpoint, trusted: bool, ask: Ask | None) -> None:
    """Let the commands of an endpoint be run, or refuse: a project that somebody else wrote may name any.

    :raises DrovikError: where a command was never agreed to, and nobody does.
    """
    for kind, command in (("key_command", endpoint.key_command), ("start", endpoint.start)):
        if command is not None:
            agreed = trusted or (ask is not None and not _is_agreed(_mark(command), kind)
                                 and ask(f"Run '{command}' ({kind} of {name})?"))  # fmt: skip
            _agree(name, _mark(command), kind, agreed, f"{kind} would run '{command}'; if you want that")


def _mark(command: str) -> str:
    return "command " + hashlib.sha256(command.encode()).hexdigest()[:32]


def _is_agreed(source: str, to: str) -> bool:
    return to in _read(trust_file()).get(source, [])


def _agree(name: str, source: str, to: str, agreed: bool, refusal: str) -> None:
    """Keep that something was agreed to, or find that it was before.

    :raises DrovikError: where it was not.
    """
    path = trust_file()
    bound = _read(path)
    if to in bound.get(source, []):
        return
    if not agreed:
        what, _, when = refusal.partition("; ")
        raise DrovikError(Problem(what, f"{when}, say --trust once", FILE_NAME, f"endpoints.{name}"))
    bound.setdefault(source, []).append(to)
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
