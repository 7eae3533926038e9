"""How far long work is, for whoever wants to follow it. What does the work says it here; what shows it listens."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import NamedTuple, TypeVar

Thing = TypeVar("Thing")


class Step(NamedTuple):
    """What is being done, and how much of it is done, of how much; 0: nobody knows."""

    what: str
    done: int = 0
    total: int = 0


Listener = Callable[[Step | None], None]
"""Called with every step, and with None where there is nothing to follow; often, so it has to be quick."""

_EACH, _EVERY = 100, 16
"""Each of the first things is a step, then every sixteenth: of a hundred thousand small ones that costs nothing."""
_listeners: list[Listener] = []
_steps: list[Step] = []


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Have somebody follow what is done within, and nobody else."""
    _listeners.append(listener)
    try:
        yield
    finally:
        _listeners.pop()


@contextmanager
def following(what: str, total: int = 0) -> Iterator[Callable[[int], None]]:
    """Work that can be followed; what is given is to be called with how much of it is done.

    Work within other work takes its place, for as long as it takes. That of other threads is not followed.
    """
    if not _listeners or threading.current_thread() is not threading.main_thread():
        yield _nobody
        return
    listener, place = _listeners[-1], len(_steps)

    def tell(done: int) -> None:
        del _steps[place:]  # of work within that was given up
        _steps.append(Step(what, done, total))
        listener(_steps[-1])

    try:
        tell(0)
        yield tell
    finally:
        del _steps[place:]
        listener(_steps[-1] if _steps else None)


def _nobody(done: int) -> None:
    """Tell nobody."""


def followed(what: str, things: Iterable[Thing], total: int = 0) -> Iterator[Thing]:
    """Things, one after another, while it can be followed how many of them are done."""
    with following(what, total) as tell:
        for number, one in enumerate(things):
            if number < _EACH or not number % _EVERY:
                tell(number)
            yield one
