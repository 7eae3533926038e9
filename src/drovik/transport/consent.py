"""What a person agreed to, once and for good: where keys and pictures go, what is run, which folders are read.

A project that somebody else wrote names a URL, a key variable, commands, folders. Without this, using it would
send the key and the pictures to that URL, run those commands, and read those folders. What was agreed to is kept
in the user's own configuration folder; another project with the same text asks again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from urllib.parse import urlsplit

from drovik.errors import ConsentError, Problem
from drovik.project.agreements import is_agreed, keep_agreement, pictures_of
from drovik.project.commands import command_mark
from drovik.project.settings import FILE_NAME, Endpoint, is_loopback

Confirm = Callable[[str], bool]
WITHOUT_KEY = "no key"


def shown_exactly(text: str) -> str:
    """Text for a question, so that nothing in it can pass for something else.

    All that is not plain ASCII is written as its code point: control characters, marks that turn the direction of
    writing, and letters of other alphabets that look like Latin ones.
    """
    return "".join(char if " " <= char <= "~" else f"\\u{{{ord(char):x}}}" for char in text)


def ascii_host(url: str) -> str:
    """A URL's host as it is looked up: names in other alphabets in their ASCII form (RFC 5891)."""
    host = urlsplit(url).hostname or ""
    if host.isascii():
        return host
    import idna

    try:
        return idna.encode(host, uts46=True).decode("ascii")
    except idna.IDNAError:
        return shown_exactly(host)


def check_trust(name: str, endpoint: Endpoint, trusted: bool, confirm: Confirm | None) -> None:
    """Let a key, and pictures, go to an endpoint's host, or refuse.

    :param trusted: the command line said --trust.
    :param confirm: puts a question to the person at the terminal; None if there is none.
    :raises DrovikError: where the key was never bound to this host and nobody agreed to it.
    """
    if is_loopback(urlsplit(endpoint.url).hostname):
        return
    host = ascii_host(endpoint.url)
    place = f"endpoints.{name}"
    if endpoint.key_command is not None:
        source = command_mark(endpoint.key_command, endpoint.home, "key_command", endpoint.pass_env)
        where = f"the key that '{shown_exactly(endpoint.key_command)}' prints"
    elif endpoint.key_env is not None:
        source, where = endpoint.key_env, f"the key in {endpoint.key_env}"
    else:
        source, where = WITHOUT_KEY, "pictures and prompts, without a key,"
    question = f"Send {where} to {host}?"
    refusal = f"{where.removesuffix(',')} {'were' if source == WITHOUT_KEY else 'was'} never sent to {host} before"
    _agree(source, host, question, refusal, "if that is where it belongs", trusted, confirm, place)


def check_commands(name: str, endpoint: Endpoint, trusted: bool, confirm: Confirm | None) -> None:
    """Let the commands of an endpoint be run, or refuse: a project that somebody else wrote may name any.

    :raises DrovikError: where a command, as it is now, was never agreed to, and nobody does.
    """
    for kind, command in (("key_command", endpoint.key_command), ("start", endpoint.start)):
        if command is None:
            continue
        shown = shown_exactly(command)
        sees = f", with {', '.join(endpoint.pass_env)}" if endpoint.pass_env else ""
        question = f"Run '{shown}' in {shown_exactly(str(endpoint.home.resolve()))} ({kind} of {name}{sees})?"
        refusal = f"{kind} would run '{shown}', which was not agreed to as it is now"
        mark = command_mark(command, endpoint.home, kind, endpoint.pass_env)
        _agree(mark, kind, question, refusal, "if you want that", trusted, confirm, f"endpoints.{name}")


def check_folders(folders: Sequence[Path | str], project: Path, trusted: bool, confirm: Confirm | None) -> None:
    """Let pictures of folders outside of the project be read and sent, or refuse.

    :param folders: absolute, or addresses, as `[pictures] from` names them.
    :raises DrovikError: where one was never agreed to for this project, and nobody does.
    """
    for folder in folders:
        shown = shown_exactly(str(folder))
        source = pictures_of(project)
        question = f"Send pictures from {shown}, outside of the project?"
        refusal = f"pictures from {shown}, outside of the project, were never agreed to"
        _agree(source, str(folder), question, refusal, "if they may be sent", trusted, confirm, "pictures.from")


def _agree(
    source: str, to: str, question: str, refusal: str, when: str, trusted: bool, confirm: Confirm | None, place: str
) -> None:
    """Keep that something was agreed to, or find that it was before.

    :raises DrovikError: where it was not.
    """
    if is_agreed(source, to):
        return
    if not (trusted or (confirm is not None and confirm(question))):
        raise ConsentError(Problem(refusal, f"{when}, say --trust once", FILE_NAME, place))
    keep_agreement(source, to)
