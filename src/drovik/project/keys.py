"""Keys: from the environment or the project's `.env`, and signs that one stands where it should not."""

from __future__ import annotations

import contextlib
import importlib.util
import io
import os
import subprocess
from collections.abc import Mapping
from pathlib import Path

from drovik.errors import DrovikError, Problem, ProjectError
from drovik.files import read_text
from drovik.project.commands import environment_for, words_of
from drovik.project.key_signs import would_be_committed
from drovik.project.settings import FILE_NAME, Endpoint

KEYRING_SERVICE = "drovik"


def read_keys(
    folder: Path, endpoints: Mapping[str, Endpoint], environment: Mapping[str, str] | None = None
) -> dict[str, str]:
    """The value of each key variable that is set, by the variable's name.

    The environment goes first, then `.env` beside drovik.toml, then that of the current folder, then the system's
    keyring where it can be used.

    :raises DrovikError: where `.env` cannot be read.
    """
    from_file = {**_from_here(folder), **_from_env_file(folder / ".env")}
    from_environment = os.environ if environment is None else environment
    wanted = {endpoint.key_env for endpoint in endpoints.values() if endpoint.key_env}
    found = {
        name: from_environment.get(name) or from_file.get(name) or _from_keyring(name) for name in sorted(wanted)
    }
    return {name: value.strip() for name, value in found.items() if value.strip()}


def _from_here(folder: Path) -> dict[str, str | None]:
    """What the `.env` of the current folder sets; nothing where it cannot be read: it may be of another program."""
    here = Path.cwd() / ".env"
    if here.parent == folder.resolve():
        return {}
    with contextlib.suppress(DrovikError):
        return _from_env_file(here)
    return {}


def _from_env_file(path: Path) -> dict[str, str | None]:
    """What a `.env` sets; nothing if there is none.

    :raises DrovikError: where it cannot be read: some editors save such files in UTF-16 or Latin-1.
    """
    if not os.path.lexists(path):
        return {}
    from dotenv import dotenv_values

    return dict(dotenv_values(stream=io.StringIO(read_text(path, ".env")), interpolate=False))


def _from_keyring(name: str) -> str:
    """A key from the system's keyring; empty where the optional package is missing, or no keyring runs."""
    if importlib.util.find_spec("keyring") is None:
        return ""
    import keyring

    try:
        return keyring.get_password(KEYRING_SERVICE, name) or ""
    except keyring.errors.KeyringError:
        return ""


def keep_in_keyring(name: str, key: str) -> None:
    """Put a key into the system's keyring, or, where it is empty, take it out.

    :raises DrovikError: if there is none that can be used.
    """
    if importlib.util.find_spec("keyring") is None:
        remedy = "install it: pip install 'drovik[keyring]'; or put the key into .env"
        raise ProjectError(Problem("the package for the system's keyring is not installed", remedy))
    import keyring

    try:
        if key:
            keyring.set_password(KEYRING_SERVICE, name, key)
        elif keyring.get_password(KEYRING_SERVICE, name):
            keyring.delete_password(KEYRING_SERVICE, name)
    except keyring.errors.KeyringError as error:
        raise ProjectError(Problem(f"the keyring cannot be used: {error}", "put the key into .env")) from None


def key_of(endpoint: Endpoint, keys: Mapping[str, str]) -> str:
    """An endpoint's key: what its command prints, else the value of its variable; empty where it has none.

    :raises DrovikError: where the command fails.
    """
    if endpoint.key_command is None:
        return keys.get(endpoint.key_env or "", "")
    words = words_of(endpoint.key_command, "key_command")
    try:
        done = subprocess.run(
            words, capture_output=True, text=True, errors="replace", timeout=60, check=False,
            stdin=subprocess.DEVNULL, cwd=endpoint.home, env=environment_for(endpoint.pass_env),
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        raise ProjectError(_no_key(endpoint, "took more than 60 s")) from None
    except (OSError, ValueError) as error:
        raise ProjectError(_no_key(endpoint, str(getattr(error, "strerror", None) or error))) from None
    key = done.stdout.strip()
    if done.returncode or not key or "\n" in key:
        last = (done.stderr.strip().splitlines() or ["it printed no key, or more than one line"])[-1]
        raise ProjectError(_no_key(endpoint, last[:200]))
    return key


def _no_key(endpoint: Endpoint, why: str) -> Problem:
    return Problem(f"key_command gave no key: {why}", f"try it: {endpoint.key_command}", FILE_NAME)


def shown_key(key: str) -> str:
    """A key as it may be shown: its last two characters."""
    return f"…{key[-2:]}" if len(key) >= 8 else "…"


def check_keys(folder: Path, endpoints: Mapping[str, Endpoint], keys: Mapping[str, str]) -> list[Problem]:
    """Key variables that are not set, and a `.env` that git would take up."""
    problems = []
    for name, endpoint in endpoints.items():
        if endpoint.key_env and not endpoint.key_command and endpoint.key_env not in keys:
            what = f"the key variable {endpoint.key_env} is not set"
            here = Path.cwd() / ".env"
            looked = "" if here.parent == folder.resolve() else f" or {here}"
            remedy = f"export it, or put {endpoint.key_env}=... into {(folder / '.env').absolute()}{looked}"
            problems.append(Problem(what, remedy, FILE_NAME, f"endpoints.{name}.key_env"))
    if (folder / ".env").exists() and would_be_committed(folder / ".env"):
        problems.append(
            Problem(
                "git does not ignore it, so a commit would publish your keys",
                "add a line '.env' to .gitignore",
                ".env",
            )
        )
    return problems
