"""What the page says of one task: the ranking, figures, causes, prompt versions, suspects, controls."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from drovik.comparing.controls import control_text
from drovik.comparing.effects import effects_of, interaction_text, missing_text
from drovik.comparing.frontier import Frontier, choice_text, frontier_of
from drovik.comparing.held_out import split_scores
from drovik.comparing.judge_agreement import agreement_text
from drovik.comparing.people import agreement_of_measures, agreement_of_people
from drovik.comparing.preferences import pair_preferences
from drovik.comparing.prompt_verdicts import prompt_verdicts
from drovik.comparing.ranking import Ranking, flattery_text, headline_verdicts, rank, ranking_text
from drovik.comparing.verdict import (
    Estimate,
    estimate,
    estimate_as_read,
    estimate_figures,
    verdict_text,
    with_interval,
)
from drovik.evaluation.choices import choices_of
from drovik.evaluation.constant_scores import constant_scores
from drovik.evaluation.drift import drift_of
from drovik.evaluation.error_impact import CauseImpact
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.judgements import todays_judgements
from drovik.evaluation.prompt_versions import ChangedLine, PromptVersion, difference_of_prompts, prompt_versions
from drovik.evaluation.suspects import SuspectLabel, impacts_of, suspects_of
from drovik.parsing.status import STATUSES
from drovik.planning.requests import Request
from drovik.project.reading import Project
from drovik.reporting.columns import PAGE, ArmEntry, cells, difference_cell, titles
from drovik.reporting.figures.figure import Figure
from drovik.reporting.figures.of_results import (
    calibration_figure,
    effects_figure,
    frontier_figure,
    held_out_figure,
    recall_figure,
    scores_figure,
    seconds_figure,
)
from drovik.reporting.figures.svg import interval_bar
from drovik.scoring.measures.detection import Detection
from drovik.scoring.measures.label import Label
from drovik.scoring.scores import ArmScores, MeasureScore
from drovik.store.answer_store import Store

MOST_SUSPECTS = 20
"""Suspect expected outputs on the page; the command has all."""


@dataclass(frozen=True)
class ArmRow:
    """An arm as the page's table shows it."""

    arm: str
    cells: tuple[tuple[str, str], ...]
    """Each column's name and text (`columns.py`)."""
    bar: str
    bounds: tuple[float, float] | None
    as_read: Estimate | None
    statuses: tuple[tuple[str, int], ...]
    unsent: int
    plain: bool
    """Whether the score is a coefficient."""
    agreement: float | None
    """Of its repeats."""


@dataclass(frozen=True)
class Grid:
    """A table of a measure: its rows, each with a name and cells. Of a `matrix` each cell leads to its cases."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, tuple[tuple[str, int], ...]], ...]
    """Each cell as text, and how dark it is, from 0 to 9."""
    is_matrix: bool = False


@dataclass(frozen=True)
class ArmDetails:
    """What a measure shows of an arm."""

    arm: str
    measure: str
    cases: int
    grids: tuple[Grid, ...]


@dataclass(frozen=True)
class MeasureFigures:
    """The figures of a measure, arm by arm."""

    measure: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, tuple[str, ...]], ...]


@dataclass(frozen=True)
class PromptStep:
    """What changed from one prompt version to the next, and what that did to the cases, by model."""

    first: str
    second: str
    lines: tuple[ChangedLine, ...]
    effects: tuple[tuple[str, str, str, int, int], ...]
    """First arm, second arm, difference, cases that are fixed and that are broken."""


@dataclass(frozen=True, eq=False)
class TaskSection:
    """All that the page shows of a task, the cases apart."""

    name: str
    title: str
    what: str
    ranking: Ranking
    frontier: Frontier | None
    words: tuple[str, ...]
    columns: tuple[tuple[str, bool], ...]
    """Of the table of arms: each title, and whether the column is of numbers."""
    arms: tuple[ArmRow, ...]
    overview: tuple[Figure, ...]
    figures: tuple[Figure, ...]
    measures: tuple[MeasureFigures, ...]
    details: tuple[ArmDetails, ...]
    older: tuple[tuple[str, int], ...]
    causes: tuple[tuple[str, str, tuple[CauseImpact, ...]], ...]
    suspected: tuple[SuspectLabel, ...]
    suspects: int
    versions: tuple[PromptVersion, ...]
    steps: tuple[PromptStep, ...]
    controls: tuple[str, ...]
    choice: tuple[str, ...]
    """Which arms to choose from, what effects interact, which cells are missing."""
    notes: tuple[str, ...]
    """How far judges are checked, and measures that say the same of every answer."""


def task_section(project: Project, store: Store, view: TaskView, held_out: TaskView | None) -> TaskSection:
    """A task's section.

    :param held_out: the same task on the held-out cases, where these are looked at.
    """
    name = str(view.task.decide_on or "")
    ranking = rank(view.scores, name)
    measure = next((one for one in view.measures if one.name == name), None)
    what = measure.what if measure else ""
    effects = effects_of(ranking, choices_of(view)) if ranking.arms else None
    frontier = frontier_of(ranking) if ranking.arms else None
    splits = split_scores(view.scores, held_out.scores, name) if held_out else ()
    drawn = [
        frontier and frontier_figure(frontier, ranking, view.task.name),
        effects_figure(effects, view.task.name),
        held_out_figure(splits, view.task.name),
    ]
    of_task = [
        scores_figure(ranking, view.task.name),
        frontier and seconds_figure(frontier, ranking, view.task.name),
        *_curves(view),
    ]
    suspected = suspects_of(view)
    verdicts = (ranking_text(ranking), *map(verdict_text, headline_verdicts(ranking)), flattery_text(ranking))
    choice = [*(choice_text(frontier, ranking) if frontier else ())]
    if effects is not None:
        choice += [interaction_text(one, effects.coefficient) for one in effects.interactions if one.is_known]
        choice += [told] if (told := missing_text(effects)) else []
    return TaskSection(
        name=view.task.name,
        title=view.task.title,
        what=what,
        ranking=ranking,
        frontier=frontier,
        words=tuple(one for one in verdicts if one),
        columns=tuple(
            (title, name not in ("arm", "answers", "interval"))
            for name, title in zip(PAGE, titles(PAGE, what or "score"), strict=True)
        ),
        arms=_arm_rows(view, ranking, name),
        overview=tuple(one for one in drawn if one),
        figures=tuple(one for one in of_task if one),
        measures=_measure_figures(view),
        details=tuple(_details(arm, score) for arm in view.scores for score in arm.measures if score.tables),
        older=view.older,
        causes=tuple((arm, name, tuple(causes)) for arm, name, causes in impacts_of(view) if causes),
        suspected=tuple(suspected[:MOST_SUSPECTS]),
        suspects=len(suspected),
        versions=prompt_versions(project, view) if len(view.task.prompts) > 1 else (),
        steps=_prompt_steps(view),
        controls=tuple(
            told for one in view.controls if (told := control_text(one, view.score_of(one.arm), name))
        ),
        choice=tuple(choice),
        notes=(
            *(checked for one in view.measures if (checked := agreement_text(one))),
            *constant_scores(view),
            *_said_by_people(project, view),
            *_drift(project, store, view),
        ),
    )  # fmt: skip


def _drift(project: Project, store: Store, view: TaskView) -> list[str]:
    """Whether arms that were asked again still answer as they did."""
    again = store.rechecked()
    cases = {case.id: case for case in view.cases}
    requests = [
        Request(view.task, arm, cases[case], 1, identity)
        for arm in view.arms
        for case, identity in view.identities[arm.name].items()
        if identity in again and case in cases
    ]
    lines = []
    for one in drift_of(project, store, requests, ()) if requests else ():
        one.expected_same = view.score_of(one.arm).agreement
        lines.append(f"{one.arm}: asked again, {one.same} of {one.asked} answers are the same: {one.verdict}")
    return lines


def _said_by_people(project: Project, view: TaskView) -> list[str]:
    """How far the measures and people agree, and people with each other."""
    today = todays_judgements(project, view.task, view.answers)
    found = [*agreement_of_measures(view, today), *agreement_of_people(today)]
    return [one.text() for one in found] + [one.text() for one in pair_preferences(today.preferences)]


def _arm_rows(view: TaskView, ranking: Ranking, measure: str) -> tuple[ArmRow, ...]:
    """The ranked arms with their scores on the shared cases, then those that are set aside, with their own."""
    ranked = zip(ranking.arms, ranking.estimates, strict=True)
    found = [(arm, one, place) for place, (arm, one) in enumerate(ranked, 1)]
    span = span_of([one for _, one, _ in found])
    rows = [_arm_row(arm, measure, one, place, span) for arm, one, place in found]
    for arm in view.scores:
        if arm not in ranking.arms:
            score = arm.measure(measure)
            rows.append(_arm_row(arm, measure, estimate(score) if score and score.scored else None, None, span))
    return tuple(rows)


def span_of(estimates: Sequence[Estimate]) -> tuple[float, float]:
    """What a bar of these scores spans: 0 to 1, or lower where a coefficient goes there."""
    return min(0.0, *(one.low for one in estimates), 0.0), max(1.0, *(one.high for one in estimates), 1.0)


def _arm_row(
    arm: ArmScores, measure: str, one: Estimate | None, place: int | None, span: tuple[float, float]
) -> ArmRow:
    score = arm.measure(measure)
    entry = ArmEntry(arm.arm, one, arm.costs, arm.statuses, arm.unsent, place=place)
    counts = tuple((status, arm.statuses[status]) for status in STATUSES if arm.statuses.get(status))
    return ArmRow(
        arm=arm.arm,
        cells=tuple(zip(PAGE, cells(entry, PAGE), strict=True)),
        bar=interval_bar(one.value, one.low, one.high, span) if one else "",
        bounds=score.bounds if score else None,
        as_read=estimate_as_read(score) if score else None,
        statuses=counts,
        unsent=arm.unsent,
        plain=score is not None and score.measure.is_coefficient,
        agreement=arm.agreement,
    )


def _curves(view: TaskView) -> list[Figure | None]:
    """How far confidence can be relied on, and precision against recall, as far as measures know of them."""
    found: list[Figure | None] = []
    for measure in view.measures:
        scores = [(arm.arm, score) for arm in view.scores if (score := arm.measure(measure.name)) is not None]
        if isinstance(measure, Detection):
            curves = [
                (arm, measure.precision_recall([one.score for one in score.scored if one.score]))
                for arm, score in scores
            ]
            title = f"{view.task.name}: precision against recall of {measure.name}, from the surest find on"
            found.append(recall_figure(curves, f"{view.task.name}-{measure.name}-recall", title))
        for arm, score in scores if isinstance(measure, Label) else ():
            for table in score.tables:
                if table.columns == ("answers", "stated", "right"):
                    name = f"{view.task.name}-{measure.name}-{arm.replace('/', '-')}-calibration"
                    found.append(calibration_figure(table, name, f"{arm}: {table.title}"))
    return found


def _measure_figures(view: TaskView) -> tuple[MeasureFigures, ...]:
    found = []
    for measure in view.measures:
        rows: list[tuple[str, tuple[str, ...]]] = []
        columns: tuple[str, ...] = ()
        for arm in view.scores:
            score = arm.measure(measure.name)
            if score is not None:
                figures = {measure.what: estimate(score)} | estimate_figures(score)
                columns = tuple(figures)
                rows.append((arm.arm, tuple(with_interval(one) for one in figures.values())))
        if rows:
            found.append(MeasureFigures(measure.name, columns, tuple(rows)))
    return tuple(found)


def _details(arm: ArmScores, score: MeasureScore) -> ArmDetails:
    matrix = isinstance(score.measure, Label)
    grids = [
        Grid(
            table.title,
            table.columns,
            tuple((name, _shaded(row, table.shares, matrix and number == 0)) for name, row in table.rows),
            is_matrix=matrix and number == 0,
        )
        for number, table in enumerate(score.tables)
    ]
    return ArmDetails(arm.arm, score.measure.name, len(score.scored), tuple(grids))


def _shaded(row: Sequence[float], shares: bool, by_row: bool) -> tuple[tuple[str, int], ...]:
    """A row's cells: of a matrix as dark as their part of the row, of shares as the share."""
    whole = sum(row) if by_row else 1.0
    found = []
    for one in row:
        text = f"{one * 100:.1f} %" if shares else f"{one:g}" if one == int(one) else f"{one:.2f}"
        part = one / whole if whole and (by_row or shares) else 0.0
        found.append((text, 0 if part <= 0 else 1 + min(8, int(part * 9))))
    return tuple(found)


def _prompt_steps(view: TaskView) -> tuple[PromptStep, ...]:
    found = []
    for first, second in itertools.pairwise(view.task.prompts):
        lines = tuple(difference_of_prompts(first, second))
        verdicts = prompt_verdicts(view, first.name, second.name)
        effects = [(one.first, one.second, difference_cell(one), len(one.fixed), len(one.broken)) for one in verdicts]
        if lines:
            found.append(PromptStep(first.name, second.name, lines, tuple(effects)))
    return tuple(found)
