"""What can go wrong: problems, and the tree of exceptions that carry them.

    DrovikError               something that somebody has to repair; never shown as a traceback
      UsageError              an option or an argument asks for what is not there
      ProjectError            a file that you wrote cannot be read, or is wrong
        PictureError          a picture cannot be read or prepared
        SampleError           a service's sample request or reply cannot be learned from
      RequestError            a request cannot be written: the dialect has no place for something, or gives no URL
      ConsentError            it would run a command or send something somewhere, and nobody agreed to that
      StoreError              the store cannot be used
        StoreLocked           another program holds it
        StoreFull             the disk is full
        StoreDamaged          it is damaged
        StoreReadOnly         it cannot be written
        StoreGone             it was there and is not any more, or is empty
      ServiceError            a service could not be used (the program ends with exit code 3)

Callers decide by the class, by `Problem.code`, and by nothing else: messages are for people and may change.
Problems are made where the facts are known and printed in one place, `cli/main.py`.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import ClassVar, Literal, NamedTuple

DONE, DOES_NOT_HOLD, WRONG_INPUT, NO_SERVICE, INTERRUPTED = 0, 1, 2, 3, 130

Code = Literal["", "table_missing"]
"""`table_missing`: a file lacks a whole table, like a drovik.toml without models, which some uses do without."""


class Problem(NamedTuple):
    """One thing that is wrong: in which file, at which place in it, what, and what to do about it.

    `code` says what kind of thing it is to callers that have to decide by it; most problems have none.
    A named tuple and no dataclass, for every start of the program reads this module.
    """

    what: str
    remedy: str = ""
    file: str = ""
    place: str = ""
    code: Code = ""

    def line(self) -> str:
        """The problem as one line of text."""
        text = ": ".join(part for part in (self.file, self.place, self.what) if part)
        text = f"{text}; {self.remedy}" if self.remedy else text
        return " ".join(text.split())


class DrovikError(Exception):
    """Something that somebody has to repair.

    :param problems: every problem found, in the order in which to show them.
    """

    exit_code: ClassVar[int] = WRONG_INPUT
    """What the program exits with."""

    def __init__(self, problems: Problem | Iterable[Problem]) -> None:
        self.problems = (problems,) if isinstance(problems, Problem) else tuple(problems)
        super().__init__("\n".join(problem.line() for problem in self.problems))


class UsageError(DrovikError):
    """An option or an argument asks for what is not there, or for what does not go together."""


class ProjectError(DrovikError):
    """A file that you wrote cannot be read, or is wrong; with all that is wrong with it."""


class PictureError(ProjectError):
    """A picture cannot be read, or a prep cannot be applied to it."""


class SampleError(ProjectError):
    """A service's sample request or reply cannot be learned from."""


class RequestError(DrovikError):
    """A request cannot be written as the dialect has it."""


class ConsentError(DrovikError):
    """It would run a command, or send a key or a picture somewhere, and nobody agreed to that."""


class StoreError(DrovikError):
    """The store cannot be used."""


class StoreLocked(StoreError):
    """Another program holds the store."""


class StoreFull(StoreError):
    """The disk is full."""


class StoreDamaged(StoreError):
    """The store is damaged, or is not one."""


class StoreReadOnly(StoreError):
    """The store cannot be written."""


class StoreGone(StoreError):
    """The store was there, and is gone or empty: to go on would buy everything again."""


class ServiceError(DrovikError):
    """A service could not be used: it does not start, has no such list, gives nothing that can be read."""

    exit_code = NO_SERVICE


class TooMuch(Exception):
    """The rendering of a template went beyond its bounds."""


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word that is spelt most like `word`, or None where none is close."""
    import difflib  # only an error needs it

    found = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def known_words(word: str, known: Iterable[str]) -> str:
    """The remedy for an unknown word: the nearest known one, else the whole list of them."""
    choices = sorted(known)
    close = nearest(word, choices)
    if close:
        return f"did you mean '{close}'?"
    return f"known here: {', '.join(choices)}" if choices else "there are none yet"
