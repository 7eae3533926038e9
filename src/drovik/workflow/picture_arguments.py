"""Pictures named on a command line: files, folders, URLs, and `-` for standard input."""

from __future__ import annotations

import asyncio
import os
import re
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, urljoin, urlsplit

from drovik.dialects.request_template import HttpRequest
from drovik.errors import Problem, UsageError
from drovik.heavy import aiohttp
from drovik.project.cases import PICTURE_ENDINGS, Picture
from drovik.transport.http import NoReply, fetch

MOST_BYTES = 50_000_000
"""Of a picture from the web."""
FETCH_SECONDS = 30.0
"""For one picture from the web."""
_MOST_REDIRECTS = 5
"""More of them are a loop."""
_BARE_ADDRESS = re.compile(
    r"(?:[\w-]+\.)+[a-z]{2,}(?::\d+)?/\S+|localhost(?::\d+)?/\S+|127(?:\.\d+){3}(?::\d+)?/\S+", re.I
)
_ENDING = re.compile(
    r"\.(?:jpe?g|jpe|jfif|png|webp|gif|bmp|tiff?|hei[cf]|pdf|mp4|m4v|mov|webm|mkv|avi)$", re.IGNORECASE
)


@dataclass(frozen=True)
class NamedPicture:
    """A picture as it was named: `name` is what answers are filed under, the path as it was given.

    `inside` is its path within the folder that was named, and `label` the subfolder there that it lies in.
    """

    name: str
    picture: Picture
    inside: str = ""
    label: str | None = None


@dataclass(frozen=True)
class CommandWords:
    """What the words of a command line are: pictures by name or URL, folders, and the question.

    `given` are pictures and folders in the order in which they were given.
    """

    pictures: tuple[str, ...]
    folders: tuple[Path, ...]
    question: str
    given: tuple[str, ...] = ()


def sort_words(words: Sequence[str], question: str | None) -> CommandWords:
    """Which words are pictures, which folders, and which is the question: the one that is neither.

    :raises DrovikError: where a picture is not there.
    """
    pictures, folders, said = [], [], []
    for word in words:
        if word == "-" or _address_of(word) or (_exists(word) and Path(word).is_file()):
            pictures.append(word)
        elif _exists(word) and Path(word).is_dir():
            folders.append(Path(word))
        else:
            said.append(word)
    if question is not None:
        missing = said
    else:
        missing = said[:-1] + ([said[-1]] if said and _names_a_picture(said[-1]) else [])
    if missing:
        what = "no such picture"
        remedy = "correct its name; the question is put in quotes, as one word"
        raise UsageError([Problem(what, remedy, one) for one in missing])
    asked = question if question is not None else said[-1] if said else ""
    given = tuple(word for word in words if word in pictures or Path(word) in folders)
    return CommandWords(tuple(pictures), tuple(folders), asked, given)


def _exists(word: str) -> bool:
    try:
        return Path(word).exists()
    except (OSError, ValueError):  # a question may be too long for a name, or hold what no name can
        return False


def _names_a_picture(word: str) -> bool:
    return _ENDING.search(word) is not None and not re.search(r"\s", word.strip())


def _address_of(word: str) -> str | None:
    """The URL that a word is, also where it comes without a scheme; None where it is none."""
    if re.match(r"https?://\S+$", word, re.IGNORECASE):
        return word
    if _BARE_ADDRESS.fullmatch(word) and not _exists(word):
        local = word.startswith(("localhost", "127."))
        return f"{'http' if local else 'https'}://{word}"
    return None


def pictures_in(folder: Path) -> list[Path]:
    """The pictures in a folder and in its subfolders, by name; what is hidden is passed over.

    :raises DrovikError: if there is none, or one is a link that leads out of the folder.
    """
    found: list[Path] = []
    for here, folders, files in os.walk(folder):
        folders[:] = sorted(one for one in folders if not one.startswith("."))
        paths = [Path(here) / one for one in sorted(files) if not one.startswith(".")]
        found += [one for one in paths if one.suffix.lower() in PICTURE_ENDINGS and one.is_file()]
    if not found:
        raise UsageError(Problem("this folder has no picture", "give another one", str(folder)))
    home = folder.resolve()
    outside = [one for one in found if not one.resolve().is_relative_to(home)]
    if outside:
        what = "is a link that leads out of the folder, so it is not sent"
        raise UsageError([Problem(what, "name what it leads to, or take it away", str(one)) for one in outside])
    return found


def _of_folder(folder: Path) -> list[NamedPicture]:
    """The pictures of a folder; where all of them lie in subfolders, each has its subfolder's name as its label."""
    found = pictures_in(folder)
    inside = [one.relative_to(folder) for one in found]
    labelled = all(len(one.parts) > 1 for one in inside) and len({one.parts[0] for one in inside}) > 1
    return [
        NamedPicture(str(path), Picture(str(path.resolve())), str(one), one.parts[0] if labelled else None)
        for path, one in zip(found, inside, strict=True)
    ]


def named_pictures(words: CommandWords, keep_in: Path, bytes_wanted: bool) -> list[NamedPicture]:
    """The pictures of a command line, those of folders included.

    :param keep_in: where what was fetched, or came by standard input, is put.
    :param bytes_wanted: whether a picture at a URL is fetched, or its URL is enough.
    :raises DrovikError: where a picture cannot be had.
    """

    found = []
    for number, word in enumerate(words.given):
        address = _address_of(word)
        if Path(word) in words.folders:
            found += _of_folder(Path(word))
        elif word == "-":
            found.append(NamedPicture("stdin", Picture(str(_kept(keep_in, number, _from_stdin())))))
        elif address is None:
            found.append(NamedPicture(str(Path(word)), Picture(str(Path(word).resolve())), Path(word).name))
        elif bytes_wanted:
            data = asyncio.run(fetched(address))
            found.append(NamedPicture(_name_of(address), Picture(str(_kept(keep_in, number, data)), None, address)))
        else:
            found.append(NamedPicture(_name_of(address), Picture(address, None, address)))
    return found


def _kept(folder: Path, number: int, data: bytes) -> Path:
    path = folder / f"given-{number}"
    path.write_bytes(data)
    return path


def _from_stdin() -> bytes:
    data = sys.stdin.buffer.read(MOST_BYTES + 1)
    if not data:
        raise UsageError(Problem("nothing came by standard input", "pipe a picture in, or name one"))
    if len(data) > MOST_BYTES:
        raise UsageError(
            Problem(f"more than {MOST_BYTES // 1_000_000} MB came by standard input", "pipe one picture in")
        )
    return data


def _name_of(address: str) -> str:
    return unquote(urlsplit(address).path).rstrip("/").rpartition("/")[2] or urlsplit(address).hostname or "picture"


async def fetched(address: str) -> bytes:
    """What is at a URL. Redirects are followed, for no key goes along.

    :raises DrovikError: where nothing comes, or too much, or too slowly.
    """

    here = address
    async with aiohttp.ClientSession() as session:
        for _ in range(_MOST_REDIRECTS + 1):
            try:
                got = await fetch(session, HttpRequest("GET", here, {}, b""), FETCH_SECONDS, most=MOST_BYTES)
            except NoReply as failure:
                said = failure.outcome.words.replace("the reply", "the picture")
                raise UsageError(Problem(f"cannot be fetched: {said}", "check the URL", address)) from None
            location = got.headers.get("Location")
            if 300 <= got.status < 400 and location:
                here = urljoin(here, location)
                if urlsplit(here).scheme not in ("http", "https"):
                    break
            elif got.status == 200:
                return got.body
            else:
                raise UsageError(Problem(f"cannot be fetched: status {got.status}", "check the URL", address))
    raise UsageError(
        Problem("cannot be fetched: it redirects again and again", "give the picture's own URL", address)
    )
