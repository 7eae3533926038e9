"""What a command printed, kept for the next time that it is run on the same project, files and answers.

Reading a hundred thousand cases and their answers takes many seconds; what comes out of it is a table of ten lines.
"""

from __future__ import annotations

import contextlib
import os
import platform
import stat
import sys
import sysconfig
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import drovik
from drovik.errors import DrovikError
from drovik.project.arms import digest
from drovik.project.file_states import FilesState, TooMany, files_state
from drovik.project.picture_files import KnownStates
from drovik.project.reading import STORE_FOLDER, store_place
from drovik.project.settings import ProjectFile, read_settings
from drovik.scoring.extensions import is_anything_added
from drovik.store.answer_store import Store
from drovik.store.database import BROKEN
from drovik.store.kept_scores import KeptOutput

_OTHERS, _BYTES_OF_A_PICTURE = 20_000, 20
"""Files beside the pictures; what it takes at least to name a picture in the cases."""
_SETTLED_SECONDS = 2.0
"""A file that was changed so shortly before it was read may be changed again without looking otherwise, where a file
system tells the time in seconds."""


class OutputKeeper:
    """Knows what a command printed before, or keeps what it prints.

    :param folder: of the project.
    :param command: all that its output depends on but the project's files and its store: words, width, colours.
    """

    def __init__(self, folder: Path, command: Mapping[str, Any]) -> None:
        self._folder = folder
        self._settings = read_settings(folder, [])
        self._command = ""
        self._revision: int | None = None
        self._state = FilesState("", 0.0)
        self._began = time.time()
        self.states: KnownStates = {}
        """What files looked like that were not printed about before."""
        if self._settings is not None and _is_all_in_files(self._settings) and not is_anything_added():
            self._command = digest([os.path.realpath(folder), platform.node(), command, _program()])

    def known(self) -> str | None:
        """What it printed, where nothing has changed since that it read."""
        if not self._command or any((self._folder / STORE_FOLDER).glob("rescued-*")):  # those are to be taken in
            self._command = ""
            return None
        try:
            with self._store() as store:
                self._revision = store.kept_scores.revision()
                before = store.kept_scores.output(self._command)
        except (DrovikError, *BROKEN):  # for the command itself to say; or there is none as yet
            self._revision = before = None
        try:
            self._state = self._files()
        except TooMany:
            self._command = ""
            return None
        return before.text if before is not None and before.files == self._state.digest else None

    def look_again(self) -> None:
        """What is kept next is made of the store as it is now; the files are those that `known` looked at."""
        self._revision = None
        if self._command:
            with contextlib.suppress(DrovikError, *BROKEN), self._store() as store:
                self._revision = store.kept_scores.revision()

    def keep(self, text: str) -> None:
        """Keep what it printed, after `known` knew nothing."""
        is_settled = self._state.changed < self._began - _SETTLED_SECONDS
        if self._command and is_settled and self._revision is not None:
            with contextlib.suppress(DrovikError, *BROKEN), self._store() as store:
                if not store.claims.others():  # who sends now may end without a word, and what is under way counts
                    made = KeptOutput(self._state.digest, text)
                    store.kept_scores.keep_output(self._command, self._revision, made)

    def _store(self) -> Store:
        return Store(store_place(self._folder, self._settings), create=False)

    def _files(self) -> FilesState:
        assert self._settings is not None
        folders = [self._folder, self._folder / self._settings.cases, *self._settings.pictures.folders(self._folder)]
        most = self._most_files(self._settings.cases)
        return files_state(map(str, folders), most, self.states, str(self._folder))

    def _most_files(self, cases: str) -> int | None:
        """The number of files that are worth a look: those that the cases can be about, and some more.

        A project may lie in a folder with a million files that are none of its own.
        """
        try:
            looks = (self._folder / cases).stat()
        except OSError:
            return _OTHERS
        return None if stat.S_ISDIR(looks.st_mode) else _OTHERS + looks.st_size // _BYTES_OF_A_PICTURE


def _is_all_in_files(settings: ProjectFile) -> bool:
    """Whether nothing of a project lies at addresses, of which nobody knows whether they changed."""
    return not settings.pictures.addresses()


def _program() -> list[Any]:
    """What tells this program, as it is installed, from another version of it."""
    packages = sysconfig.get_path("purelib")
    installed = os.stat(packages).st_mtime_ns if os.path.isdir(packages) else 0
    return [files_state(drovik.__path__).digest, sys.version, packages, installed]
