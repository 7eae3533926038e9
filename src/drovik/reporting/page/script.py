"""The page's script: its modules joined into one, in the order in which they need each other."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files

_IMPORT = re.compile(r'^import \{[^}]*\} from "\./([\w.]+)";\n', re.MULTILINE)
_EXPORT = re.compile(r"^export (?=(?:async )?(?:function|const|let|class) )", re.MULTILINE)


@cache
def joined_script(first: str) -> str:
    """The module of that name with all that it needs, as one script that a browser runs from a file.

    A page that lies in a file cannot load modules; so they are put behind each other in one scope, in which no name
    stands twice.

    :param first: the file of the module that starts the page.
    """
    found: dict[str, str] = {}
    _gather(first, found)
    return '"use strict";\n(() => {\n' + "\n".join(found.values()) + "})();\n"


def _gather(name: str, found: dict[str, str], within: tuple[str, ...] = ()) -> None:
    assert name not in within, f"{name} needs itself"
    text = files("drovik.reporting.page").joinpath("scripts", name).read_text("utf-8")
    for needed in _IMPORT.findall(text):
        if needed not in found:
            _gather(needed, found, (*within, name))
    found[name] = _EXPORT.sub("", _IMPORT.sub("", text))
