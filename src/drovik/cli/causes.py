"""Why answers are wrong, as tables: what to fix first, and suspect expected outputs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.printing import cut_list, heading, say, table
from drovik.text import difference_text, score_text, shortened

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.suspects import SuspectLabel
    from drovik.project.reading import Project

MOST_DOUBTS = 40
"""More rows than this nobody reads in a terminal; `--json` has all."""


def show_causes(view: TaskView, everything: bool = False) -> None:
    """What to fix first, arm by arm; the first few arms and causes, or all of them."""

    heading(f"{view.task.name}: what to fix first")
    rows = []
    lines = []
    for arm, measure, causes in cut_list(list(workflow.impacts_of(view)), everything, "arms"):
        for number, one in enumerate(cut_list(causes, everything, f"causes of {arm}")):
            gain = difference_text(one.without - one.score, one.coefficient).removesuffix(" points")
            cells = [
                one.cause,
                str(one.cases),
                score_text(one.without, one.coefficient),
                gain,
                one.owner,
                " ".join(one.examples[:3]),
            ]
            rows.append([f"{arm} {measure}" if number == 0 else "", *cells])
        if causes:
            lines.append(f"{arm}, {measure} {score_text(causes[0].score, causes[0].coefficient)}: {causes[0].line}")
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
    suspected = [one for view in views for one in workflow.suspects_of(view)]
    if suspected:
        say("Models agree with each other against what is expected, the surest first.", style="dim")
        rows = [_doubt_row(one) for one in suspected[:MOST_DOUBTS]]
        table(("task", "case", "where", "expected", "models say", "arms", "against"), rows, numbers=())
        if len(suspected) > MOST_DOUBTS:
            say(f"and {len(suspected) - MOST_DOUBTS} more: drovik score --suspects --json")
    else:
        say("No two models agree against an expected output.")
    found = workflow.near_duplicates(project, views)
    if found:
        heading("nearly the same picture, another expected output")
        rows = [[one.first, one.second, ", ".join(one.tasks)] for one in found]
        table(("case", "and case", "in the tasks"), rows[:MOST_DOUBTS], numbers=())
    against = workflow.contradictions([view for view in views if view.task.judges is None])
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
