"""Keys: from the environment or the project's `.env`, and signs that one stands where it should not."""

from __future__ import annotations

import importlib.util
import os
import re
import shlex
import subprocess
from collections.abc import Mapping
from pathlib import Path

from drovik.problems import DrovikError, Problem
from drovik.project.dialects import Dialect
from drovik.project.settings import FILE_NAME, Endpoint

_KEY_SHAPED = re.compile(
    r"(?<![A-Za-z0-9/+=])(?=(?:[A-Za-z]*\d){4})(?=(?:\d*[A-Za-z]){4})[A-Za-z0-9]{20,}(?![A-Za-z0-9/+])"
)
"""Twenty letters and digits in a row, some of each: no name that a person gives looks so."""

KEYRING_SERVICE = "drovik"
_NAMES_A_MODEL = re.compile(r"\s*(?:id|revision)\s*=")
_SECRET_HEADER = re.compile(r"authorization|api.?key|token|secret|^key$|-key$", re.IGNORECASE)
_OWN_SLOT = re.compile(r"\{key\??\}")


def read_keys(
    folder: Path, endpoints: Mapping[str, Endpoint], environment: Mapping[str, str] | None = None
) -> dict[str, str]:
    """The value of each key variable that is set, by the variable's name.

    The environment goes first, then `.env`, then the system's keyring where it can be used.
    """
    from dotenv import dotenv_values

    env_file = folder / ".env"
    from_file = dotenv_values(env_file, interpolate=False) if env_file.is_file() else {}
    from_environment = os.environ if environment is None else environment
    wanted = {endpoint.key_env for endpoint in endpoints.values() if endpoint.key_env}
    found = {
        name: from_environment.get(name) or from_file.get(name) or _from_keyring(name) for name in sorted(wanted)
    }
    return {name: value.strip() for name, value in found.items() if value.strip()}


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

    :raises DrovikError: where there is none that can be used.
    """
    if importlib.util.find_spec("keyring") is None:
        remedy = "install it: pip install 'drovik[keyring]'; or put the key into .env"
        raise DrovikError(Problem("the package for the system's keyring is not installed", remedy))
    import keyring

    try:
        if key:
            keyring.set_password(KEYRING_SERVICE, name, key)
        elif keyring.get_password(KEYRING_SERVICE, name):
            keyring.delete_password(KEYRING_SERVICE, name)
    except keyring.errors.KeyringError as error:
        raise DrovikError(Problem(f"the keyring cannot be used: {error}", "put the key into .env")) from None


def key_of(endpoint: Endpoint, keys: Mapping[str, str]) -> str:
    """An endpoint's key: what its command prints, else the value of its variable; empty where it has none.

    :raises DrovikError: where the command fails.
    """
    if endpoint.key_command is None:
        return keys.get(endpoint.key_env or "", "")
    words = shlex.split(endpoint.key_command)
    try:
        done = subprocess.run(
            words, capture_output=True, text=True, timeout=60, check=False, stdin=subprocess.DEVNULL
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise DrovikError(_no_key(endpoint, str(getattr(error, "strerror", None) or "took more than 60 s"))) from None
    key = done.stdout.strip()
    if done.returncode or not key or "\n" in key:
        last = (done.stderr.strip().splitlines() or ["it printed no key, or more than one line"])[-1]
        raise DrovikError(_no_key(endpoint, last[:200]))
    return key


def _no_key(endpoint: Endpoint, why: str) -> Problem:
    return Problem(f"key_command gave no key: {why}", f"try it: {endpoint.key_command}", FILE_NAME)


def shown_key(key: str) -> str:
    """A key as it may be shown: its last two characters."""
    return f"…{key[-2:]}" if len(key) >= 8 else "…"


def check_keys(folder: Path, endpoints: Mapping[str, Endpoint], keys: Mapping[str, str]) -> list[Problem]:
    """Key variables that are not set, keys that stand in a file, and a `.env` that git would take up."""
    problems = []
    for name, endpoint in endpoints.items():
        if endpoint.key_env and not endpoint.key_command and endpoint.key_env not in keys:
            what = f"the key variable {endpoint.key_env} is not set"
            remedy = f"put {endpoint.key_env}=... into .env, or export it"
            problems.append(Problem(what, remedy, FILE_NAME, f"endpoints.{name}.key_env"))
    for path in _written_files(folder):
        problems.extend(_keys_in(path, str(path.relative_to(folder)), keys))
    if (folder / ".env").exists() and _git_would_take(folder):
        problems.append(
            Problem(
                "git does not ignore it, so a commit would publish your keys",
                "add a line '.env' to .gitignore",
                ".env",
            )
        )
    return problems


def is_secret_name(name: str) -> bool:
    """Whether a header or query member of that name carries a key."""
    return _SECRET_HEADER.search(name) is not None


def check_secret_headers(dialects: Mapping[str, Dialect]) -> list[Problem]:
    """Headers and query members that look as if they carry a key, and carry no `{key}` slot."""
    problems = []
    for name, dialect in dialects.items():
        for where, form in dialect.forms():
            for part, members in (("headers", form.headers), ("query", form.query)):
                for header, value in members.items():
                    if is_secret_name(header) and value and not _OWN_SLOT.search(value):
                        what = f"'{header}' seems to carry a key"
                        remedy = "write {key} there, and the key into the variable that key_env names"
                        problems.append(Problem(what, remedy, f"dialects/{name}.toml", f"{where}.{part}"))
    return problems


def _written_files(folder: Path) -> list[Path]:
    patterns = ("*.toml", "dialects/*.toml", "tasks/*/*.toml", "tasks/*/*.json", "tasks/*/prompts/*.toml")
    return sorted(path for pattern in patterns for path in folder.glob(pattern) if path.is_file())


def _keys_in(path: Path, shown: str, keys: Mapping[str, str]) -> list[Problem]:
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return []
    problems = []
    for number, line in enumerate(text.splitlines(), 1):
        known = any(len(key) >= 6 and key in line for key in keys.values())
        shaped = path.suffix == ".toml" and _KEY_SHAPED.search(line) and not _NAMES_A_MODEL.match(line)
        if known or shaped:
            what = "a key stands in this file" if known else "what looks like a key stands in this file"
            remedy = "move it into .env, under the name that key_env gives, and replace it by another one"
            problems.append(Problem(what, remedy, shown, f"line {number}"))
    return problems


def _git_would_take(folder: Path) -> bool:
    """Whether the folder lies in a git checkout that does not ignore `.env`."""
    try:
        done = subprocess.run(
            ["git", "-C", str(folder), "check-ignore", "-q", ".env"],
            capture_output=True,
            timeout=10,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return False
    return done.returncode == 1
