"""Asking by hand: questions sent as any task's are, with a store that is thrown away, and answers as they come."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from drovik.cli.printing import harmless, money, seconds
from drovik.errors import Problem

if TYPE_CHECKING:
    from drovik.cli.pictures_given import Given
    from drovik.parsing.answer import Answer
    from drovik.planning.plan import Ask
    from drovik.project.cases import Picture
    from drovik.project.settings import ProjectFile
    from drovik.transport.listener import Ending
    from drovik.transport.outcomes import Outcome


def endpoints_of(settings: ProjectFile) -> list[str]:
    """The endpoints of the models that are asked."""
    return list(dict.fromkeys(one.endpoint for one in settings.models.values()))


def pictures_of(cases: Sequence[tuple[str, Sequence[Given]]]) -> list[tuple[str, list[Picture]]]:
    """The cases with their pictures as a project has them."""
    return [(name, [one.picture for one in given]) for name, given in cases]


class Hears:
    """Hears answers as they come: writes their text to the terminal, and hands each whole one on.

    :param stream: whether the text is shown as it comes; only where one answer is awaited at a time.
    :param whole: gets each ask whose answer came whole.
    """

    def __init__(self, stream: bool, whole: Callable[[Ask, Ending], None] | None = None) -> None:
        self._stream, self._whole = stream, whole
        self._last: dict[str, Outcome] = {}
        self.shown = False

    def has_heard(self, ask: Ask) -> bool:
        """Whether an attempt at an ask came to an end."""
        return ask.identity in self._last

    def trouble_of(self, ask: Ask) -> Problem:
        """What came of the last attempt at an ask that has no answer."""
        from drovik.transport.outcomes import REMEDIES

        outcome = self._last[ask.identity]
        what = f"{ask.arm.model_name}: {outcome.kind.replace('_', ' ')}: {outcome.words}"
        return Problem(what, REMEDIES.get(outcome.kind, "").partition("; then:")[0])

    def begins(self, ask: Ask, try_: int) -> None:
        """A request is about to leave; what an earlier try had shown was not the answer."""
        if try_ > 1 and self.shown:
            print("\n(again, from the beginning)", flush=True)
            self.shown = False

    def text(self, ask: Ask, text: str) -> None:
        """More of an answer's text came."""
        if self._stream and text:
            sys.stdout.write(harmless(text))
            sys.stdout.flush()
            self.shown = True

    def ended(self, ask: Ask, ending: Ending) -> None:
        """An attempt came to an end."""
        self._last[ask.identity] = ending.outcome
        if ending.outcome.kind == "answered" and self._whole is not None:
            self._whole(ask, ending)
        elif ending.outcome.again:
            wait = ending.outcome.wait
            asked = f"; it asks to wait {wait:.0f} s" if wait else ""
            said = f"{ending.outcome.kind.replace('_', ' ')}: {harmless(ending.outcome.words)}{asked}"
            print(f"({said})", file=sys.stderr, flush=True)


def took(answer: Answer) -> str:
    """What an answer took: tokens, money, seconds."""
    parts = []
    if answer.input_tokens is not None or answer.output_tokens is not None:
        parts.append(f"{_count(answer.input_tokens)} tokens in, {_count(answer.output_tokens)} out")
    if answer.spent:
        parts.append(money({answer.spent.currency: answer.spent.amount}, 6))
    return "   ".join([*parts, seconds(answer.seconds)])


def _count(count: int | None) -> str:
    return "?" if count is None else str(count)
