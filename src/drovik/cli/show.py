"""`drovik show`: one case, with its pictures, the prompt as sent, the answers, and what differs."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import (
    add_choice_arguments,
    add_own_argument,
    add_project_argument,
    open_project,
    open_store,
)
from drovik.cli.printing import heading, print_json, say, table
from drovik.cli.review.one_view import one_view
from drovik.errors import DONE, Problem, UsageError, known_words
from drovik.money import money_text
from drovik.text import seconds_text, shortened

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView
    from drovik.parsing.answer_text import Answer
    from drovik.project.arms import Arm
    from drovik.project.cases import Case
    from drovik.project.reading import Project
    from drovik.scoring.measure import CaseScore, Finding, Trace
    from drovik.store.records import Attempt

EXAMPLE = "drovik show lp-014 --task sort --arm gull"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("case", metavar="CASE", help="the case's id")
    add_project_argument(parser)
    add_choice_arguments(parser)
    add_own_argument(parser)
    parser.add_argument("--full", action="store_true", help="prompts and answers whole, not shortened")
    parser.add_argument("--page", action="store_true", help="on a page, where its answers can be judged too")
    parser.add_argument("--by", metavar="NAME", help="with --page: who judges")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Show a case; nothing is sent."""

    project = open_project(arguments.project)
    case = next((one for one in project.cases if one.id == arguments.case), None)
    if case is None:
        known = known_words(arguments.case, [one.id for one in project.cases[:10_000]])
        raise UsageError(Problem(f"there is no case '{arguments.case}'", known))
    alone = replace(project, cases=(case,))
    with open_store(project.store_place, create=False) as store:
        views = workflow.gather(alone, store, arguments.task, arguments.arm, "all", arguments.trust)
        if arguments.page:
            return show_page(alone, views, arguments.by)
        sent = {
            identity: SentRequest(
                store.what_was_asked(identity), store.attempts(identity), workflow.pictures_sent(store, identity)
            )
            for view in views
            for by_case in view.identities.values()
            for identity in by_case.values()
        }
    if arguments.json:
        print_json(_document(case, views, sent))
        return DONE
    _show_case(project, case)
    for view in views:
        _show_task(view, case, sent, arguments.full)
    return DONE


def show_page(project: Project, views: Sequence[TaskView], by: str | None) -> int:
    """The case on the page of `drovik review`, the arms named."""
    from drovik.cli.review.served_page import serve_page

    view = one_view(views)
    session = workflow.ReviewSession(project, view, workflow.reviewer_name(by), "judge", blind=False)
    if not session.items:
        raise UsageError(Problem(f"'{view.task.name}' has no answer to it", "send first: drovik send"))
    serve_page(session)
    return DONE


@dataclass(frozen=True)
class SentRequest:
    """What was asked, as the store has it, the attempts at it, and where each picture that was sent comes from."""

    asked: dict[str, Any] | None
    attempts: list[Attempt]
    pictures: list[dict[str, Any]]


def _show_case(project: Project, case: Case) -> None:

    heading(f"case {case.id}  ({project.settings.cases}, {case.place})")
    for picture in case.pictures:
        facts = workflow.inspect_source(
            project.pictures.read(picture.path), picture.path, project.settings.max_pixels
        )
        tag = f", tag '{picture.tag}'" if picture.tag else ""
        say(f"picture {picture.path}: {facts.format}, {facts.width} x {facts.height}{tag}")
    for name, value in case.given.items():
        say(f"given {name}: {value}")


def _show_task(view: TaskView, case: Case, sent: Mapping[str, SentRequest], full: bool) -> None:

    heading(view.task.heading)
    if view.task.name in case.expected:
        say(f"expected: {json.dumps(case.expected[view.task.name], ensure_ascii=False)}")
    else:
        say("no expected output: shown, and left out of the scores")
    most = 10**6 if full else 220
    prompts: dict[str, list[str]] = {}
    for arm in view.arms:
        prompts.setdefault(_prompt_text(view, arm, case, sent), []).append(arm.name)
    for text, arms in prompts.items():
        say(f"asked by {', '.join(arms)}: {text if full else shortened(text, most)}", style="dim")
    rows = [_row(view, arm.name, case, most) for arm in view.arms]
    table(("arm", "status", "answer", "what differs", "cost", "time"), rows, numbers=(4, 5))
    if full:
        _show_traces(view, case)
        for arm in view.arms:
            for attempt in (
                sent[view.identities[arm.name][case.id]].attempts if case.id in view.identities[arm.name] else ()
            ):
                took = f" after {attempt.seconds:.2f} s" if attempt.seconds is not None else ""
                words = f": {shortened(attempt.words, most)}" if attempt.words else ""
                say(
                    f"{arm.name} {attempt.started} {attempt.outcome or 'no reply, may have been billed'}{took}{words}"
                )


def _show_traces(view: TaskView, case: Case) -> None:
    """For each arm, what came of everything that was expected, with the words that decide it."""
    for arm in view.arms:
        for measure, traces in _traces(view, arm.name, case):
            say(f"{arm.name}, {measure}:", style="dim")
            rows = [[one.outcome, one.what, one.words or "–"] for one in traces]
            table(("result", "statement", "evidence"), rows, numbers=())


def _traces(view: TaskView, arm: str, case: Case) -> list[tuple[str, tuple[Trace, ...]]]:

    answer = view.answers[arm].get(case.id)
    found = []
    for measure in view.measures if answer is not None and answer.value is not None else ():
        expected = workflow.expected_at(measure, view.task, case)
        traces = measure.traces(answer.value, expected) if answer and expected is not workflow.ABSENT else ()
        if traces:
            found.append((measure.name, traces))
    return found


def _prompt_text(view: TaskView, arm: Arm, case: Case, sent: Mapping[str, SentRequest]) -> str:
    """The prompt as it was sent, or as it would be where nothing was."""

    found = sent.get(view.identities[arm.name].get(case.id, ""))
    if found and found.asked:
        turns = found.asked["turns"]
        return " ".join(_turn_text(turn) for turn in turns)
    if arm.outside is not None:
        return "(brought in: nothing was asked)"
    if "@" in arm.name:
        return "(not about this case)"
    if view.task.after is not None:
        return f"(waits for {view.task.after.task})"
    conversation = workflow.conversation_of(view.task, arm, case)
    texts = [getattr(part, "text", "[picture]") for turn in conversation.turns for part in turn.parts]
    return " ".join([conversation.system] * bool(conversation.system) + texts)


def _turn_text(turn: Mapping[str, Any]) -> str:
    """A turn as it was sent; the model's own, in a conversation, are marked."""
    text = " ".join(part.get("text", "[picture]") for part in turn.get("parts", [turn]))
    return f"[answered: {text}]" if turn.get("by") == "assistant" else text


def _row(view: TaskView, arm: str, case: Case, most: int) -> list[str]:
    answer = view.answers[arm].get(case.id)
    if answer is None:
        return [arm, "not sent", "", "", "", ""]
    status = f"{answer.status}" + (f" ({answer.how})" if answer.how and answer.how != "bare" else "")
    text = answer.text if most > 10**5 else shortened(answer.text, most)
    differs = _differences(view, arm, case) + [f"{one.at or 'answer'}: {one.what}" for one in answer.errors]
    if answer.note:
        differs.append(answer.note)
    spent = money_text({answer.spent.currency: answer.spent.amount}, 6) if answer.spent else "–"
    return [arm, status, text, "\n".join(differs), spent, seconds_text(answer.seconds)]


def _differences(view: TaskView, arm: str, case: Case) -> list[str]:
    lines = []
    for score in view.score_of(arm).measures:
        for one in score.cases:
            if one.case.id != case.id or one.score is None:
                continue
            if not one.score.findings:
                lines.append(f"{score.measure.name}: correct")
            lines += [_difference(score.measure.name, found) for found in one.score.findings]
    return lines


def _difference(measure: str, found: Finding) -> str:
    where = f"{measure} {found.where}".strip()
    expected, got = shortened(found.expected, 80), shortened(found.got, 80)
    note = f"; {found.note}" if found.note else ""
    return f"{where}: expected {expected}, got {got} ({found.cause}{note})"


def _document(case: Case, views: list[TaskView], sent: Mapping[str, SentRequest]) -> dict[str, Any]:
    pictures = [{"path": one.path, "tag": one.tag} for one in case.pictures]
    tasks = {}
    for view in views:
        arms = {arm.name: _answer_document(view, arm.name, case, sent) for arm in view.arms}
        tasks[view.task.name] = {"expected": case.expected.get(view.task.name), "arms": arms}
    return {"case": case.id, "pictures": pictures, "given": dict(case.given), "tasks": tasks}


def _answer_document(view: TaskView, arm: str, case: Case, sent: Mapping[str, SentRequest]) -> dict[str, Any] | None:
    answer: Answer | None = view.answers[arm].get(case.id)
    if answer is None:
        return None
    measures: dict[str, Any] = {}
    for score in view.score_of(arm).measures:
        one = next((one.score for one in score.cases if one.case.id == case.id), None)
        measures[score.measure.name] = _score_document(one) if one else None
    for name, traces in _traces(view, arm, case):
        if measures.get(name) is not None:
            measures[name]["traces"] = [one._asdict() for one in traces]
    found = sent.get(view.identities[arm].get(case.id, ""))
    return {
        "asked": found.asked if found else None,
        "pictures_sent": found.pictures if found else [],
        "attempts": [
            {"started": one.started, "outcome": one.outcome, "seconds": one.seconds}
            for one in (found.attempts if found else ())
        ],
        "status": answer.status,
        "found": answer.how,
        "text": answer.text,
        "value": answer.value,
        "errors": [{"at": one.at, "what": one.what} for one in answer.errors],
        "note": answer.note,
        "model": answer.model,
        "input_tokens": answer.input_tokens,
        "output_tokens": answer.output_tokens,
        "money": {answer.spent.currency: answer.spent.amount} if answer.spent else {},
        "seconds": answer.seconds,
        "measures": measures,
    }


def _score_document(score: CaseScore) -> dict[str, Any]:
    findings = [
        {"where": one.where, "expected": one.expected, "got": one.got, "cause": one.cause, "note": one.note}
        for one in score.findings
    ]
    return {"value": score.value, "findings": findings}
