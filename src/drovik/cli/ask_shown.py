"""What `drovik ask` prints: answers, what they took, how far they agree."""

from __future__ import annotations

import json
import sys
from typing import TYPE_CHECKING, Any

from drovik.cli.asking import Hears, took
from drovik.cli.printing import aside, harmless, heading, say

if TYPE_CHECKING:
    from drovik.cli.ask_files import Files
    from drovik.planning.adhoc import Question
    from drovik.workflow.asking import Asked, HandAnswer


def show(asked: Asked, hears: Hears, kept: Files, question: Question, several: bool) -> None:
    """Print what came of it: the answers, or how many went into files."""
    if kept.files:
        left = f", {asked.missing} without an answer" if asked.missing else ""
        there = f"{kept.there} were there already; " if kept.there else ""
        say(f"{there}{kept.written} answers written{left}.")
    else:
        cases = len({one.ask.case.id for one in asked.answers})
        most = max((one.ask.repeat for one in asked.answers), default=1)
        for one in asked.answers:
            if cases > 1 or several or one.ask.repeat > 1 or len(asked.answers) > 1:
                time = f"time {one.ask.repeat}" if most > 1 else ""
                words = [one.ask.case.id if cases > 1 else "", one.model if several or cases == 1 else "", time]
                heading(", ".join(filter(None, words)))
            _show_one(one, hears.shown, question)
    for problem in asked.troubles:
        print(harmless(problem.line()), file=sys.stderr)
    _show_agreement(asked)


_SAID_OF = {
    "not_json": "there is no JSON in it",
    "cut_off": "it was cut off at the output limit",
    "refused": "it was declined",
    "empty": "it is empty",
}


def _show_one(one: HandAnswer, streamed: bool, question: Question) -> None:
    answer = one.answer
    if streamed:
        print(flush=True)
    elif question.schema is not None and answer.value is not None:
        say(json.dumps(answer.value, ensure_ascii=False, indent=1))
    else:
        say(answer.text.strip() or "(the answer is empty)")
    notes = [f"{error.at or 'the answer'}: {error.what}" for error in answer.errors]
    if answer.status not in ("ok", "off_schema"):
        notes.append(_SAID_OF.get(answer.status, answer.status))
    for note in [*notes, *([answer.note] if answer.note else [])]:
        print(harmless(f"  ! {note}"), file=sys.stderr)
    aside(f"  {one.model}   {took(answer)}")


def _show_agreement(asked: Asked) -> None:
    for (case, model), share in agreements(asked).items():
        say(f"{case}, {model}: the answers agree to {100 * share:.0f} % (word overlap).", style="bold")


def agreements(asked: Asked) -> dict[tuple[str, str], float]:
    """How much the answers to the same question agree, by case and model; only where there are several."""
    from drovik.scoring.agreement import agreement

    texts: dict[tuple[str, str], list[str]] = {}
    for one in asked.answers:
        texts.setdefault((one.ask.case.id, one.model), []).append(one.answer.text)
    return {place: agreement(found) for place, found in texts.items() if len(found) > 1}


def document(asked: Asked, question: Question) -> dict[str, Any]:
    """The same as plain values."""
    rows = []
    for one in asked.answers:
        answer = one.answer
        rows.append(
            {
                "picture": one.ask.case.id,
                "model": one.model,
                "time": one.ask.repeat,
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
