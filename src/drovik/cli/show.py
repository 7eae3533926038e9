"""`drovik show`: one case, with its pictures, the prompt as sent, the answers, and what differs."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from drovik.cli.opening import add_choice_arguments, add_project_argument, open_project
from drovik.cli.printing import heading, money, print_json, say, seconds, shortened, table
from drovik.problems import DONE, DrovikError, Problem, known_words

if TYPE_CHECKING:
    from drovik.project.cases import Case
    from drovik.project.opening import Project
    from drovik.scoring.gathering import TaskView
    from drovik.scoring.measure import CaseScore, Finding
    from drovik.store.records import Answer

EXAMPLE = "drovik show lp-014 --task sort --arm gull"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("case", metavar="CASE", help="the case's id")
    add_project_argument(parser)
    add_choice_arguments(parser)
    parser.add_argument("--full", action="store_true", help="prompts and answers whole, not shortened")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Show a case; nothing is sent."""
    from dataclasses import replace

    from drovik.scoring.gathering import gather
    from drovik.store.keeping import Store

    project = open_project(arguments.project)
    case = next((one for one in project.cases if one.id == arguments.case), None)
    if case is None:
        known = known_words(arguments.case, [one.id for one in project.cases[:10_000]])
        raise DrovikError(Problem(f"there is no case '{arguments.case}'", known))
    alone = replace(project, cases=(case,))
    with Store(project.store_path, create=False) as store:
        views = gather(alone, store, arguments.task, arguments.arm, "all")
    if arguments.json:
        print_json(_document(case, views))
        return DONE
    _show_case(project, case)
    for view in views:
        _show_task(view, case, arguments.full)
    return DONE


def _show_case(project: Project, case: Case) -> None:
    from drovik.images.prepare import look_at
    from drovik.images.source import read_source

    heading(f"case {case.id}  ({project.settings.cases}, {case.place})")
    for picture in case.pictures:
        facts = look_at(read_source(project.folder, picture.path), picture.path, project.settings.max_pixels)
        tag = f", tag '{picture.tag}'" if picture.tag else ""
        say(f"picture {picture.path}: {facts.format}, {facts.width} x {facts.height}{tag}")
    for name, value in case.given.items():
        say(f"given {name}: {value}")


def _show_task(view: TaskView, case: Case, full: bool) -> None:
    import json

    from drovik.sending.turns import asking_of

    heading(f"{view.task.name}: {view.task.title}")
    if view.task.name in case.expected:
        say(f"expected: {json.dumps(case.expected[view.task.name], ensure_ascii=False)}")
    else:
        say("no expected output: shown, and left out of the scores")
    most = 10**6 if full else 220
    for arm in view.arms:
        if arm.prompt_name in {other.prompt_name for other in view.arms[: view.arms.index(arm)]} or "@" in arm.name:
            continue
        asking = asking_of(view.task, arm, case)
        text = " ".join([asking.system, *(getattr(part, "text", "[picture]") for part in asking.turns[0].parts)])
        say(f"prompt {arm.prompt_name}: {text if full else shortened(text, most)}", style="dim")
    rows = [_row(view, arm.name, case, most) for arm in view.arms]
    table(("arm", "status", "answer", "what differs", "cost", "time"), rows, numbers=(4, 5))


def _row(view: TaskView, arm: str, case: Case, most: int) -> list[str]:
    answer = view.answers[arm].get(case.id)
    if answer is None:
        return [arm, "not sent", "", "", "", ""]
    status = f"{answer.status}" + (f" ({answer.how})" if answer.how and answer.how != "bare" else "")
    text = answer.text if most > 10**5 else shortened(answer.text, most)
    differs = _differences(view, arm, case) + [f"{one.at or 'answer'}: {one.what}" for one in answer.errors]
    if answer.note:
        differs.append(answer.note)
    spent = money({answer.spent.currency: answer.spent.amount}, 6) if answer.spent else "–"
    return [arm, status, text, "\n".join(differs), spent, seconds(answer.seconds)]


def _differences(view: TaskView, arm: str, case: Case) -> list[str]:
    lines = []
    for score in view.score_of(arm).measures:
        for one in score.cases:
            if one.case.id != case.id or one.score is None:
                continue
            if not one.score.findings:
                lines.append(f"{score.measure.name}: right")
            lines += [_difference(score.measure.name, found) for found in one.score.findings]
    return lines


def _difference(measure: str, found: Finding) -> str:
    where = f"{measure} {found.where}".strip()
    expected, got = shortened(found.expected, 80), shortened(found.got, 80)
    return f"{where}: expected {expected}, got {got} ({found.cause})"


def _document(case: Case, views: list[TaskView]) -> dict[str, Any]:
    pictures = [{"path": one.path, "tag": one.tag} for one in case.pictures]
    tasks = {}
    for view in views:
        arms = {arm.name: _answer_document(view, arm.name, case) for arm in view.arms}
        tasks[view.task.name] = {"expected": case.expected.get(view.task.name), "arms": arms}
    return {"case": case.id, "pictures": pictures, "given": dict(case.given), "tasks": tasks}


def _answer_document(view: TaskView, arm: str, case: Case) -> dict[str, Any] | None:
    answer: Answer | None = view.answers[arm].get(case.id)
    if answer is None:
        return None
    measures = {}
    for score in view.score_of(arm).measures:
        one = next((one.score for one in score.cases if one.case.id == case.id), None)
        measures[score.measure.name] = _score_document(one) if one else None
    return {
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
        {"where": one.where, "expected": one.expected, "got": one.got, "cause": one.cause} for one in score.findings
    ]
    return {"value": score.value, "findings": findings}
