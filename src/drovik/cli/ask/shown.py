"""What `drovik ask` prints: answers, what they took, how far they agree.

Asking by hand: questions sent as any task's are, with a store that is thrown away, and answers as they come.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.printing import heading, say, say_aside, strip_controls
from drovik.errors import Problem
from drovik.money import money_text
from drovik.text import counted, seconds_text

if TYPE_CHECKING:
    from drovik.cli.ask.answer_files import Files
    from drovik.parsing.answer_text import Answer
    from drovik.planning.plan import Request
    from drovik.planning.sources import AdhocQuestion
    from drovik.project.cases import Picture
    from drovik.project.settings import ProjectFile
    from drovik.transport.outcomes import AttemptEnd, Outcome
    from drovik.workflow.asking import AdhocAnswer, AskResult
    from drovik.workflow.picture_arguments import NamedPicture


def show(asked: AskResult, hears: AnswerPrinter, kept: Files, question: AdhocQuestion, several: bool) -> None:
    """Print the outcome: the answers, or how many went into files."""
    if kept.files:
        left = f", {asked.missing} without an answer" if asked.missing else ""
        there = f"{kept.there} were there already; " if kept.there else ""
        say(f"{there}{counted(kept.written, 'answer')} written{left}.")
    else:
        cases = len({one.request.case.id for one in asked.answers})
        most = max((one.request.repeat for one in asked.answers), default=1)
        for one in asked.answers:
            if cases > 1 or several or one.request.repeat > 1 or len(asked.answers) > 1:
                time = f"time {one.request.repeat}" if most > 1 else ""
                words = [one.request.case.id if cases > 1 else "", one.model if several or cases == 1 else "", time]
                heading(", ".join(filter(None, words)))
            _show_one(one, hears.shown, question)
    for problem in asked.troubles:
        print(strip_controls(problem.line()), file=sys.stderr)
    _show_agreement(asked)


def _show_one(one: AdhocAnswer, streamed: bool, question: AdhocQuestion) -> None:
    answer = one.answer
    if streamed:
        print(flush=True)
    elif question.schema is not None and answer.value is not None:
        say(json.dumps(answer.value, ensure_ascii=False, indent=1))
    else:
        say(answer.text.strip() or "(the answer is empty)")
    notes = [f"{error.at or 'the answer'}: {error.what}" for error in answer.errors]
    if answer.status.words and not answer.errors:
        notes.append(answer.status.words)
    for note in [*notes, *([answer.note] if answer.note else [])]:
        print(strip_controls(f"  ! {note}"), file=sys.stderr)
    say_aside(f"  {one.model}   {usage_line(answer)}")


def _show_agreement(asked: AskResult) -> None:
    for (case, model), share in agreements(asked).items():
        say(f"{case}, {model}: the answers agree to {100 * share:.0f} % (word overlap).", style="bold")


def agreements(asked: AskResult) -> dict[tuple[str, str], float]:
    """How much the answers to the same question agree, by case and model; only if there are several."""

    texts: dict[tuple[str, str], list[str]] = {}
    for one in asked.answers:
        texts.setdefault((one.request.case.id, one.model), []).append(one.answer.text)
    return {place: workflow.agreement(found) for place, found in texts.items() if len(found) > 1}


def document(asked: AskResult, question: AdhocQuestion) -> dict[str, Any]:
    """The same as plain values."""
    rows = []
    for one in asked.answers:
        answer = one.answer
        rows.append(
            {
                "picture": one.request.case.id,
                "model": one.model,
                "time": one.request.repeat,
                "status": answer.status,
                "text": answer.text,
                "value": answer.value if question.schema is not None else None,
                "errors": [{"at": error.at, "what": error.what} for error in answer.errors],
                "note": answer.note,
                "input_tokens": answer.input_tokens,
                "output_tokens": answer.output_tokens,
                "money": {answer.spent.currency: answer.spent.amount} if answer.spent else {},
                "seconds": answer.seconds,
            }
        )
    agree = [
        {"picture": case, "model": model, "agreement": share} for (case, model), share in agreements(asked).items()
    ]
    return {"answers": rows, "agreement": agree, "problems": [one.line() for one in asked.troubles]}


def endpoints_of(settings: ProjectFile) -> list[str]:
    """The endpoints of the models that are asked."""
    return list(dict.fromkeys(one.endpoint for one in settings.models.values()))


def pictures_of(cases: Sequence[tuple[str, Sequence[NamedPicture]]]) -> list[tuple[str, list[Picture]]]:
    """The cases with their pictures as a project has them."""
    return [(name, [one.picture for one in given]) for name, given in cases]


class AnswerPrinter:
    """Hears answers as they come: writes their text to the terminal, and hands each whole one on.

    :param stream: whether the text is shown as it comes; only where one answer is awaited at a time.
    :param whole: gets each request whose answer came whole.
    """

    def __init__(self, stream: bool, whole: Callable[[Request, AttemptEnd], None] | None = None) -> None:
        self._stream, self._whole = stream, whole
        self._last: dict[str, Outcome] = {}
        self.shown = False

    def has_heard(self, request: Request) -> bool:
        """Whether an attempt at a request came to an end."""
        return request.identity in self._last

    def trouble_of(self, request: Request) -> Problem:
        """What came of the last attempt at a request that has no answer."""

        outcome = self._last[request.identity]
        what = f"{request.arm.model_name}: {outcome.kind.replace('_', ' ')}: {outcome.words}"
        return Problem(what, workflow.REMEDIES.get(outcome.kind, "").partition("; then:")[0])

    def begins(self, request: Request, try_: int) -> None:
        """A request is about to leave; what an earlier try had shown was not the answer."""
        if try_ > 1 and self.shown:
            print("\n(again, from the beginning)", flush=True)
            self.shown = False

    def text(self, request: Request, text: str) -> None:
        """More of an answer's text came."""
        if self._stream and text:
            sys.stdout.write(strip_controls(text))
            sys.stdout.flush()
            self.shown = True

    def ended(self, request: Request, ending: AttemptEnd) -> None:
        """An attempt came to an end."""
        self._last[request.identity] = ending.outcome
        if ending.outcome.kind == "answered" and self._whole is not None:
            self._whole(request, ending)
        elif ending.outcome.again:
            wait = ending.outcome.wait
            asked = f"; it asks to wait {wait:.0f} s" if wait else ""
            said = f"{ending.outcome.kind.replace('_', ' ')}: {strip_controls(ending.outcome.words)}{asked}"
            print(f"({said})", file=sys.stderr, flush=True)


def usage_line(answer: Answer) -> str:
    """What an answer took: tokens, money, seconds."""
    parts = []
    if answer.input_tokens is not None or answer.output_tokens is not None:
        parts.append(f"{_count(answer.input_tokens)} tokens in, {_count(answer.output_tokens)} out")
    if answer.spent:
        parts.append(money_text({answer.spent.currency: answer.spent.amount}, 6))
    return "   ".join([*parts, seconds_text(answer.seconds)])


def _count(count: int | None) -> str:
    return "?" if count is None else str(count)
