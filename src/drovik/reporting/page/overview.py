"""The first screen of the page: a line for each task, and what to do next."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from drovik.comparing.frontier import PER, money_of
from drovik.evaluation.error_impact import CauseImpact
from drovik.reporting.columns import interval_text
from drovik.reporting.figures.svg import interval_bar
from drovik.reporting.page.sections import TaskSection, span_of
from drovik.text import score_text

WORTH_FIXING = 0.01
"""A cause whose going would raise the score by less is not what to do next."""
MOST_NAMED = 3
"""Arms that are named as being as good, perhaps."""


@dataclass(frozen=True)
class TaskLine:
    """A task on the first screen."""

    name: str
    title: str
    best: str
    as_good: tuple[str, ...]
    more: int
    """How many more may be as good."""
    bar: str
    score: str
    interval: str
    price: str
    cause: str
    """The most frequent cause of the best arm's misses."""
    cause_cases: int
    why: str
    """Why there is no best arm, where there is none."""


def task_line(section: TaskSection) -> TaskLine:
    """The line of a task."""
    ranking = section.ranking
    if not ranking.arms:
        reasons = {reason for _, reason in ranking.set_aside}
        told = "; ".join(f"{arm}: {reason}" for arm, reason in ranking.set_aside[:MOST_NAMED])
        why = "nothing is sent yet" if reasons <= {"not sent"} else told
        return TaskLine(section.name, section.title, "", (), 0, "", "", "", "", "", 0, why)
    best, one = ranking.arms[0].arm, ranking.estimates[0]
    money = section.frontier.named(best).money if section.frontier else None
    cause = max(_causes(section, best), key=lambda found: found.cases, default=None)
    others = tuple(arm for arm in ranking.may_be_best if arm != best)
    return TaskLine(
        name=section.name,
        title=section.title,
        best=best,
        as_good=others[:MOST_NAMED],
        more=max(0, len(others) - MOST_NAMED),
        bar=interval_bar(one.value, one.low, one.high, span_of([one])),
        score=score_text(one.value, one.coefficient),
        interval=interval_text(one),
        price=money_of(money, section.frontier.currency if section.frontier else None),
        cause=str(cause.cause) if cause else "",
        cause_cases=cause.cases if cause else 0,
        why="",
    )


def _causes(section: TaskSection, arm: str) -> Sequence[CauseImpact]:
    measure = section.ranking.measure
    return [
        one for name, on, causes in section.causes if name == arm and measure and on == measure.name for one in causes
    ]


def what_to_do_next(sections: Sequence[TaskSection], held_out: bool) -> str:
    """What to do next, in a sentence: what would raise a best arm's score most; else see what holds elsewhere.

    :param held_out: whether the held-out cases have been looked at here.
    """
    if not any(one.ranking.arms for one in sections):
        return "Send first: drovik send"
    found = []
    for section in sections:
        for one in _causes(section, section.ranking.names[0]) if section.ranking.arms else ():
            found.append((one.without - one.score, section, one))
    gain, section, cause = max(found, key=lambda one: one[0], default=(0.0, sections[0], None))
    if cause is not None and gain >= WORTH_FIXING:
        best = section.ranking.names[0]
        return f"{section.name}, {best}: {cause.line} ({score_text(cause.score, cause.coefficient)} would be {score_text(cause.without, cause.coefficient)})."  # noqa: E501
    if not held_out:
        return "See whether it holds on cases that no prompt was tuned on: drovik compare --held-out"
    return f"Decide: the figures below say what a point more costs (money is for {PER} cases)."
