"""The whole comparison as one HTML page that loads nothing from outside and runs no script.

Whatever comes from models, cases or files is escaped by the template. The content security policy
forbids everything but the page's own style sheet, by its digest, and pictures that are in the page.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from importlib.resources import files
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from drovik.comparing.judge_agreement import agreement_text
from drovik.comparing.ranking import Ranking, flattery_text, headline_verdicts, rank, ranking_text
from drovik.comparing.verdict import (
    Estimate,
    estimate,
    estimate_as_read,
    estimate_figures,
    verdict_text,
    with_interval,
)
from drovik.errors import DrovikError
from drovik.evaluation.constant_scores import constant_scores
from drovik.evaluation.error_impact import CauseImpact
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.suspects import SuspectLabel, impacts_of, suspects_of
from drovik.images.prepare import thumbnail
from drovik.parsing.status import STATUSES
from drovik.project.cases import Case
from drovik.project.reading import Project
from drovik.reporting.columns import PAGE, ArmEntry, cells, titles
from drovik.reporting.documents import interval_figure
from drovik.scoring.measure import Finding
from drovik.scoring.scores import ArmScores, MeasureScore
from drovik.text import difference_text, percent, score_text, visible
from drovik.version import __version__

THUMBNAIL_SIDE = 300
"""Pixels: large enough to see what is on it, small enough that a hundred fit a file to mail."""
MOST_MISSES = 60
"""This many cases with misses are shown for each task; how many more there are is said."""
MOST_DOUBTS = 20
"""Suspect expected outputs on the page; the command has all."""
_MOST_TEXT = 600
"""Characters of an answer on the page."""


@dataclass(frozen=True)
class ArmRow:
    """An arm as the page's table shows it."""

    cells: tuple[tuple[str, str], ...]
    """Each column's name and text (`columns.py`)."""
    bounds: tuple[float, float] | None
    as_read: Estimate | None
    statuses: tuple[tuple[str, int], ...]
    unsent: int
    plain: bool
    """Whether the score is a coefficient."""


@dataclass(frozen=True)
class MissRow:
    """What one arm got wrong about a case."""

    arm: str
    status: str
    how: str
    text: str
    findings: tuple[Finding, ...]
    errors: tuple[str, ...]


@dataclass(frozen=True)
class Miss:
    """A case that some arm got wrong, with what each of those said."""

    case: Case
    expected: str
    thumbnails: tuple[str, ...]
    rows: tuple[MissRow, ...]
    right: int
    answered: int


@dataclass(frozen=True)
class TaskSection:
    """All that the page shows of a task."""

    name: str
    title: str
    measure: str
    what: str
    words: tuple[str, ...]
    set_aside: tuple[tuple[str, str], ...]
    """Arms that are not ranked, with the reason."""
    columns: tuple[tuple[str, bool], ...]
    """Of the table of arms: each title, and whether the column is of numbers."""
    arms: tuple[ArmRow, ...]
    figure: str
    details: tuple[tuple[str, MeasureScore, str], ...]
    misses: tuple[Miss, ...]
    missed: int
    older: tuple[tuple[str, int], ...]
    causes: tuple[tuple[str, str, tuple[CauseImpact, ...]], ...]
    suspected: tuple[SuspectLabel, ...]
    notes: tuple[str, ...]
    """How far judges are checked, and measures that say the same of every answer."""


def _shown(value: Any) -> Any:
    """What is put into the page: text of strangers with what nobody would see spelled out; markup as it is."""
    return visible(value) if type(value) is str else value


def write_page(project: Project, views: Sequence[TaskView], now: datetime) -> str:
    """The page.

    :param now: what the page says it was made at.
    """

    environment = Environment(
        loader=PackageLoader("drovik.reporting", "."), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True, finalize=_shown,
    )  # fmt: skip
    environment.filters |= {
        "percent": percent, "with_interval": with_interval, "score": score_text, "difference": difference_text,
    }  # fmt: skip
    style = files("drovik.reporting").joinpath("page.css").read_text("utf-8")
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
    thumbnails: dict[str, str] = {}
    sections = [_section(project, view, thumbnails) for view in views]
    return environment.get_template("page.html.jinja").render(
        title=project.settings.title or project.folder.resolve().name,
        sections=sections,
        style=style,
        policy=f"default-src 'none'; img-src data:; style-src 'sha256-{digest}'; base-uri 'none'; form-action 'none'",
        made=now.strftime("%Y-%m-%d %H:%M"),
        version=__version__,
        cases=len(project.cases),
        most_misses=MOST_MISSES,
    )


def _section(project: Project, view: TaskView, thumbnails: dict[str, str]) -> TaskSection:
    name = str(view.task.decide_on or "")
    ranking = rank(view.scores, name)
    measure = next((one for one in view.measures if one.name == name), None)
    what = measure.what if measure else ""
    heads = titles(PAGE, what or "score")
    scored = list(zip(ranking.names, ranking.estimates, strict=True))
    every = _misses(view)
    misses = tuple(
        _miss(project, view, case, found, thumbnails) for case, found in sorted(every, key=_worst_first)[:MOST_MISSES]
    )
    details = tuple((arm.arm, score, _figures(score)) for arm in view.scores for score in arm.measures)
    return TaskSection(
        name=view.task.name,
        title=view.task.title,
        measure=name,
        what=what,
        words=tuple(
            one
            for one in (ranking_text(ranking), *map(verdict_text, headline_verdicts(ranking)), flattery_text(ranking))
            if one
        ),
        set_aside=ranking.set_aside,
        columns=tuple((title, name not in ("arm", "answers")) for name, title in zip(PAGE, heads, strict=True)),
        arms=_arm_rows(view, ranking, name),
        figure=interval_figure(scored, what),
        details=details,
        misses=misses,
        missed=len(every),
        older=view.older,
        causes=tuple((arm, name, tuple(causes)) for arm, name, causes in impacts_of(view) if causes),
        suspected=tuple(suspects_of(view)[:MOST_DOUBTS]),
        notes=(
            *(checked for one in view.measures if (checked := agreement_text(one))),
            *constant_scores(view),
        ),
    )


def _figures(score: MeasureScore) -> str:
    return " · ".join(f"{name} {with_interval(one)}" for name, one in estimate_figures(score).items())


def _arm_rows(view: TaskView, ranking: Ranking, measure: str) -> tuple[ArmRow, ...]:
    """The ranked arms with their scores on the shared cases, then those that are set aside, with their own."""
    ranked = zip(ranking.arms, ranking.estimates, strict=True)
    rows = [_arm_row(arm, measure, one, place) for place, (arm, one) in enumerate(ranked, 1)]
    for arm in view.scores:
        if arm not in ranking.arms:
            score = arm.measure(measure)
            rows.append(_arm_row(arm, measure, estimate(score) if score else None, None))
    return tuple(rows)


def _arm_row(arm: ArmScores, measure: str, one: Estimate | None, place: int | None) -> ArmRow:
    score = arm.measure(measure)
    entry = ArmEntry(arm.arm, one, arm.costs, arm.statuses, arm.unsent, place=place)
    counts = tuple((status, arm.statuses[status]) for status in STATUSES if arm.statuses.get(status))
    return ArmRow(
        cells=tuple(zip(PAGE, cells(entry, PAGE), strict=True)),
        bounds=score.bounds if score else None,
        as_read=estimate_as_read(score) if score else None,
        statuses=counts,
        unsent=arm.unsent,
        plain=score is not None and score.measure.is_coefficient,
    )


def _misses(view: TaskView) -> list[tuple[Case, dict[str, list[Finding]]]]:
    """Each case with the findings of every arm that got it wrong, by arm; models that do not see are left out."""
    seeing = {arm.name for arm in view.arms if arm.model.takes_pictures}
    found: dict[str, tuple[Case, dict[str, list[Finding]]]] = {}
    for arm in view.scores:
        for score in arm.measures if arm.arm in seeing else ():
            for one in score.scored:
                if one.score is not None and one.score.findings:
                    found.setdefault(one.case.id, (one.case, {}))[1].setdefault(arm.arm, []).extend(
                        one.score.findings
                    )
    return list(found.values())


def _worst_first(row: tuple[Case, dict[str, list[Finding]]]) -> tuple[int, str]:
    return -len(row[1]), row[0].id


def _miss(
    project: Project, view: TaskView, case: Case, found: dict[str, list[Finding]], thumbnails: dict[str, str]
) -> Miss:

    rows = []
    for arm, findings in found.items():
        answer = view.answers[arm][case.id]
        text = answer.text if len(answer.text) <= _MOST_TEXT else answer.text[:_MOST_TEXT] + " …"
        errors = tuple(f"{one.at or 'answer'}: {one.what}" for one in answer.errors)
        rows.append(
            MissRow(arm=arm, status=answer.status, how=answer.how, text=text, findings=tuple(findings), errors=errors)
        )
    expected = json.dumps(case.expected.get(view.task.name), ensure_ascii=False, indent=1)
    pictures = tuple(_thumbnail(project, picture.path, thumbnails) for picture in case.pictures)
    seeing = [arm.name for arm in view.arms if arm.model.takes_pictures]
    answered = sum(case.id in view.answers[arm] for arm in seeing)
    return Miss(
        case=case,
        expected=expected,
        thumbnails=pictures,
        rows=tuple(rows),
        right=answered - len(rows),
        answered=answered,
    )


def _thumbnail(project: Project, path: str, made: dict[str, str]) -> str:
    """A picture as a data URL, made once however many tasks show it; empty where it cannot be read."""
    if path not in made:
        try:
            source = project.pictures.read(path)
            small = thumbnail(source, path, project.settings.max_pixels, THUMBNAIL_SIDE)
            made[path] = f"data:{small.media_type};base64,{base64.b64encode(small.data).decode()}"
        except DrovikError:
            made[path] = ""
    return made[path]
