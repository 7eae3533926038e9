"""Why answers are wrong, as tables: what to fix first, and suspect expected outputs."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik.cli.printing import heading, say, table
from drovik.comparing.verdict import percent
from drovik.errors import DrovikError
from drovik.evaluation.suspects import contradictions, impacts_of, near_duplicates_of, suspects_of
from drovik.images.perceptual_hash import print_of
from drovik.text import shortened

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.suspects import Contradiction, NearDuplicates, SuspectLabel
    from drovik.project.reading import Project

MOST_DOUBTS = 40


def show_causes(view: TaskView) -> None:
    """What to fix first, arm by arm."""

    heading(f"{view.task.name}: what to fix first")
    rows = []
    lines = []
    for arm, measure, causes in impacts_of(view):
        for number, one in enumerate(causes):
            gain = f"{(one.without - one.score) * 100:+.1f}"
            cells = [
                one.cause,
                str(one.cases),
                percent(one.without),
                gain,
                one.owner,
                " ".join(one.examples[:3]),
            ]
            rows.append([f"{arm} {measure}" if number == 0 else "", *cells])
        if causes:
            lines.append(f"{arm}, {measure} {percent(causes[0].score)}: {causes[0].line}")
    if not rows:
        scored = any(arm.measures for arm in view.scores)
        say("No answer has a miss." if scored else "Nothing is scored yet: drovik send")
        return
    columns = ("arm", "cause", "cases", "score if fixed", "points", "fix in", "for example")
    table(columns, rows, numbers=(2, 3, 4))
    for line in lines:
        say(line)


def show_doubts(project: Project, views: Sequence[TaskView]) -> None:
    """Suspect expected outputs, near-twins, and answers that contradict each other."""

    heading("suspect expected outputs")
    suspected = [one for view in views for one in suspects_of(view)]
    if suspected:
        say("Models agree with each other against what is expected, the surest first.", style="dim")
        rows = [_doubt_row(one) for one in suspected[:MOST_DOUBTS]]
        table(("task", "case", "where", "expected", "models say", "arms", "against"), rows, numbers=())
        if len(suspected) > MOST_DOUBTS:
            say(f"and {len(suspected) - MOST_DOUBTS} more: drovik score --suspects --json")
    else:
        say("No two models agree against an expected output.")
    found = near_duplicates(project, views)
    if found:
        heading("nearly the same picture, another expected output")
        rows = [[one.first, one.second, ", ".join(one.tasks)] for one in found]
        table(("case", "and case", "in the tasks"), rows[:MOST_DOUBTS], numbers=())
    against = contradictions([view for view in views if view.task.judges is None])
    if against:
        heading("answers that contradict each other across tasks")
        rows = [
            [one.case, one.arm, f"{one.first}: {one.words[0]}", f"{one.second}: {one.words[1]}"] for one in against
        ]
        table(("case", "arm", "says", "and says"), rows[:MOST_DOUBTS], numbers=())
        if len(against) > MOST_DOUBTS:
            say(f"and {len(against) - MOST_DOUBTS} more: drovik score --suspects --json")


def _doubt_row(one: SuspectLabel) -> list[str]:
    agreeing = ", ".join(one.agreeing)
    return [
        one.task, one.case, one.where or one.measure, shortened(one.expected, 50), shortened(one.said, 50),
        f"{len(one.agreeing)}: {agreeing}", f"{len(one.others)}",
    ]  # fmt: skip


def near_duplicates(project: Project, views: Sequence[TaskView]) -> list[NearDuplicates]:
    """Cases with nearly the same picture and different expected outputs; what cannot be read is left out."""

    views = [view for view in views if view.task.judges is None]  # a judge's cases share their pictures
    cases: dict[str, list[str]] = {}
    for case in {case.id: case for view in views for case in view.cases}.values():
        if len(case.pictures) == 1:
            cases.setdefault(case.pictures[0].path, []).append(case.id)
    prints = {}
    for path in cases:
        try:
            prints[path] = print_of(project.pictures.read(path), path, project.settings.max_pixels)
        except DrovikError:
            continue
    expected = {
        view.task.name: {
            case.id: json.dumps(case.expected[view.task.name], ensure_ascii=False, sort_keys=True)
            for case in view.cases
            if view.task.name in case.expected
        }
        for view in views
    }
    return near_duplicates_of(prints, cases, expected)


def causes_document(view: TaskView) -> list[dict[str, Any]]:
    """What to fix first, as plain values."""

    return [
        {
            "arm": arm,
            "measure": measure,
            "causes": [
                {
                    "cause": one.cause,
                    "cases": one.cases,
                    "findings": one.findings,
                    "right_without_it": one.alone,
                    "suspects": one.suspects,
                    "score": one.score,
                    "score_if_fixed": one.without,
                    "owner": one.owner,
                    "remedy": one.remedy,
                    "line": one.line,
                    "examples": list(one.examples),
                }
                for one in causes
            ],
        }
        for arm, measure, causes in impacts_of(view)
    ]


def suspects_document(project: Project, views: Sequence[TaskView]) -> dict[str, Any]:
    """Suspect expected outputs, as plain values."""

    def plain(found: Sequence[SuspectLabel | NearDuplicates | Contradiction]) -> list[dict[str, Any]]:
        return [asdict(one) for one in found]

    return {
        "against_the_models": plain([one for view in views for one in suspects_of(view)]),
        "nearly_the_same_picture": plain(near_duplicates(project, views)),
        "across_tasks": plain(contradictions([view for view in views if view.task.judges is None])),
    }
