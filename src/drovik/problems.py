"""The one exception of Drovik, and what it carries: problems with file, place, what and remedy.

Problems are made where the facts are known and printed in one place, `cli/main.py`.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

DONE, DOES_NOT_HOLD, WRONG_INPUT, NO_SERVICE, INTERRUPTED = 0, 1, 2, 3, 130


class Problem(NamedTuple):
    """One thing that is wrong: in which file, at which place in it, what, and what to do about it.

    A named tuple and no dataclass, for every start of the program reads this module.
    """

    what: str
    remedy: str = ""
    file: str = ""
    place: str = ""

    def line(self) -> str:
        """The problem as one line of text."""
        text = ": ".join(part for part in (self.file, self.place, self.what) if part)
        text = f"{text}; {self.remedy}" if self.remedy else text
        return " ".join(text.split())


class DrovikError(Exception):
    """Something that a person has to mend; never shown as a traceback.

    :param problems: every problem found, in the order in which to show them.
    :param exit_code: what the program exits with: 2 for a wrong command or file, 3 for a service.
    """

    def __init__(self, problems: Problem | Iterable[Problem], exit_code: int = WRONG_INPUT) -> None:
        self.problems = (problems,) if isinstance(problems, Problem) else tuple(problems)
        self.exit_code = exit_code
        super().__init__("\n".join(problem.line() for problem in self.problems))


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word that is spelt most like `word`, or None where none is close."""
    import difflib

    found = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def known_words(word: str, known: Iterable[str]) -> str:
    """The remedy for an unknown word: the nearest known one, else the whole list of them."""
    choices = sorted(known)
    close = nearest(word, choices)
    if close:
        return f"did you mean '{close}'?"
    return f"known here: {', '.join(choices)}" if choices else "there are none yet"
