"""The files that a sample would send (`-d @FILE`): those that stand on its own page, and those that lie beside it.

A page of documentation is a stranger's text. `-d @~/.ssh/id_ed25519` in it would put a private file into the
dialect, and with the first request to try it into the stranger's hands. So files are read only beneath the page's
own folder, and only where agreed to.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping
from pathlib import Path

from drovik.errors import Problem, SampleError
from drovik.files import read_text

_HOLDS_KEYS = re.compile(
    r"^\.env|^\.netrc|^_netrc|^\.npmrc|^\.pypirc|^\.git-credentials|^id_[a-z0-9]+$|\.(?:pem|key|p12|pfx|jks|kdbx|asc|gpg)$"
    r"|secret|credential|passw|token|api.?key|private",
    re.IGNORECASE,
)
_IS_A_KEY = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY|^[A-Z][A-Z0-9_]*(?:KEY|TOKEN|SECRET)\s*=\s*\S", re.MULTILINE)


class SampleFiles:
    """Reads what a sample names.

    :param folder: of the page; nothing outside of it is read.
    :param ask: puts a question to the person at the terminal; None if there is none.
    :param agreed: the command line has agreed to all of them.
    """

    def __init__(self, folder: Path, ask: Callable[[str], bool] | None = None, agreed: bool = False) -> None:
        self._folder, self._ask, self._agreed = folder, ask, agreed
        self._texts: dict[str, str] = {}
        self._on_page: dict[str, str] = {}

    def put(self, texts: Mapping[str, str]) -> None:
        """The texts of files that stand on the page itself, by their names: nobody has to agree to those."""
        self._on_page |= texts

    def text(self, name: str) -> str:
        """The text of a file.

        :raises DrovikError: where it is not there, lies elsewhere, holds keys, or nobody agrees.
        """
        if name in self._on_page:
            return self._on_page[name]
        if name not in self._texts:
            self._texts[name] = self._read(name)
        return self._texts[name]

    def _read(self, name: str) -> str:
        what = f"the sample sends the file {name}"
        paste = "paste what is to be sent in its place"
        if "\0" in name:
            raise SampleError(Problem("the sample sends a file whose name cannot be", paste))
        path = self._folder / name
        real = Path(os.path.realpath(path))
        if not real.is_relative_to(os.path.realpath(self._folder)):
            raise SampleError(Problem(f"{what}, which lies outside of the page's folder", paste))
        if not real.is_file():
            raise SampleError(Problem(f"{what}, which is not here", "put it there, or paste what is in it"))
        if any(_HOLDS_KEYS.search(part) for one in (path, real) for part in one.relative_to(one.anchor).parts[-2:]):
            raise SampleError(Problem(f"{what}, which by its name holds keys", paste))
        question = f"{what} ({real.stat().st_size} bytes). Read it, and send what is in it when the service is tried?"
        if not (self._agreed or (self._ask is not None and self._ask(question))):
            raise SampleError(Problem(f"{what}, and nobody agreed to that", f"say --with-files, or {paste}"))
        text = read_text(real, name)
        if _IS_A_KEY.search(text):
            raise SampleError(Problem(f"{what}, which has a key in it", paste))
        return text
