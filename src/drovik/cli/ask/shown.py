"""What `drovik ask` prints: answers, what they took, how far they agree.

Asking by hand: questions sent as any task's are, with a store that is thrown away, and answers as they come.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.ask.waiting import Waiting
from drovik.cli.printing import heading, say, say_aside, strip_controls, table
from drovik.errors import Problem
from drovik.money import money_text
from drovik.text import counted, seconds_text, shortened

if TYPE_CHECKING:
    from drovik.cli.ask.answer_files import Files
    from drovik.parsing.answer_text import Answer
    from drovik.planning.requests import Request
    from drovik.planning.sources import AdhocQuestion
    from drovik.project.cases import Picture
    from drovik.project.settings import ProjectFile
    from drovik.scoring.agreement import AnswersAgreement
    from drovik.transport.outcomes import AttemptEnd, Outcome
    from drovik.workflow.asking import AdhocAnswer, AskResult
    from drovik.workflow.picture_arguments import NamedPicture


def show(asked: AskResult, hears: AnswerPrinter, kept: Files, question: AdhocQuestion, several: bool) -> None:
    """Print the outcome: the answers, or how many went into files; and how many do not fit."""
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
    _show_unfit(asked)
    _show_agreement(asked)


def _show_unfit(asked: AskResult) -> None:
    """How many of several answers do not fit, with the first of them and how to look closer."""
    bad = [one for one in asked.answers if one.answer.status is not workflow.Status.OK]
    if bad and len(asked.answers) > 1:
        first = bad[0]
        why = first.answer.errors[0].what if first.answer.errors else first.answer.status.words
        do = "does" if len(bad) == 1 else "do"
        what = f"{len(bad)} of {len(asked.answers)} {do} not fit: {first.request.case.id}: {why}"
        say(f"{what}; drovik ask {first.request.case.id} … --show-reply", style="yellow")


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


_MOST_ANSWERS = 8
"""Different answers in a table; the rest are counted."""


def _show_agreement(asked: AskResult) -> None:
    for (case, model), found in agreements(asked).items():
        by = "word overlap" if found.by == "words" else f"by {found.by.replace('fields', 'field')}"
        say(f"{case}, {model}: the answers agree to {100 * found.share:.0f} % ({by}).", style="bold")
        if found.by != "words" and len(found.counts) > 1:
            rows = [(str(count), shortened(text, 90)) for text, count in found.counts[:_MOST_ANSWERS]]
            table(("times", "answer"), rows)
            if len(found.counts) > _MOST_ANSWERS:
                say(f"… and {len(found.counts) - _MOST_ANSWERS} more", style="dim")


def agreements(asked: AskResult) -> dict[tuple[str, str], AnswersAgreement]:
    """How much the answers to the same question agree, by case and model; only if there are several."""
    answers: dict[tuple[str, str], list[Answer]] = {}
    for one in asked.answers:
        answers.setdefault((one.request.case.id, one.model), []).append(one.answer)
    return {place: workflow.agreement_of_answers(found) for place, found in answers.items() if len(found) > 1}


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
        {
            "picture": case,
            "model": model,
            "agreement": one.share,
            "by": one.by,
            "answers": [{"answer": text, "times": count} for text, count in one.counts],
        }
        for (case, model), one in agreements(asked).items()
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
    :param waiting: shows what is waited for.
    """

    def __init__(
        self,
        stream: bool,
        whole: Callable[[Request, AttemptEnd], None] | None = None,
        waiting: Waiting | None = None,
    ) -> None:
        self._stream, self._whole = stream, whole
        self._waiting = waiting or Waiting()
        self._last: dict[str, Outcome] = {}
        self.shown = False

    def has_heard(self, request: Request) -> bool:
        """Whether an attempt at a request came to an end."""
        return request.identity in self._last

    def trouble_of(self, request: Request) -> Problem:
        """What came of the last attempt at a request that has no answer."""

        outcome = self._last[request.identity]
        what = f"{request.arm.model_name}: {outcome.kind.replace('_', ' ')}: {outcome.words}"
        return Problem(what, workflow.remedy_of(outcome.kind, outcome.words).partition("; then:")[0])

    def begins(self, request: Request, try_: int) -> None:
        """A request is about to leave; what an earlier try had shown was not the answer."""
        self._waiting.begins(request)
        if try_ > 1 and self.shown:
            print("\n(again, from the beginning)", flush=True)
            self.shown = False

    def text(self, request: Request, text: str) -> None:
        """More of an answer's text came."""
        if self._stream and text:
            self._waiting.clear(quiet=True)
            sys.stdout.write(strip_controls(text))
            sys.stdout.flush()
            self.shown = True

    def ended(self, request: Request, ending: AttemptEnd) -> None:
        """An attempt came to an end."""
        self._last[request.identity] = ending.outcome
        self._waiting.ended(request)
        if ending.outcome.kind == "answered" and self._whole is not None:
            self._whole(request, ending)
        elif ending.outcome.again:
            wait = ending.outcome.wait
            asked = f"; it asks to wait {wait:.0f} s" if wait else ""
            said = f"{ending.outcome.kind.replace('_', ' ')}: {strip_controls(ending.outcome.words)}{asked}"
            self._waiting.clear()
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
