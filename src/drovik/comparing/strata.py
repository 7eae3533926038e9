"""Two arms by the levels of a column, or by measure → where one is better and where it is worse.

There are as many comparisons as levels. All their intervals hold together at 95 %: each of m is at the m-th root of
that, and p is raised alike (Z. Sidak, JASA 62, 1967), which holds whether or not the levels have cases in common.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from drovik.comparing.contrast import Contrast, Sample, contrast_of, sample_of
from drovik.comparing.intervals import LEVEL
from drovik.comparing.ranking import Ranking
from drovik.comparing.verdict import Estimate, Judgement, Verdict, common_cases, estimate_of, verdict_of
from drovik.errors import Problem, UsageError
from drovik.scoring.scores import ArmScores, ScoredCase
from drovik.text import counted, difference_text


@dataclass(frozen=True)
class Stratum:
    """A level, and the verdict between two arms on its cases, as it is among those of all levels."""

    level: str
    verdict: Verdict


@dataclass(frozen=True)
class LevelScores:
    """A level of a column: the scores of the ranked arms on its cases, and where an arm is unlike the best."""

    level: str
    estimates: Mapping[str, Estimate]
    verdicts: tuple[Verdict, ...]


def compare_by(
    first: ArmScores, second: ArmScores, measure_name: str, level_of: Mapping[str, str], levels: Sequence[str]
) -> tuple[Stratum, ...]:
    """The verdicts between two arms on the cases of each level; levels without a common case are left out.

    :param level_of: the level of each case, by its id.
    :raises UsageError: where they have no case in common.
    """
    one, other = first.measure(measure_name), second.measure(measure_name)
    pairs = common_cases(one, other) if one and other else []
    if one is None or other is None or not pairs:
        what = f"{first.arm} and {second.arm} have no scored case in common in '{first.task}'"
        raise UsageError(Problem(what, "send them first: drovik send"))
    by_level: dict[str, list[tuple[ScoredCase, ScoredCase]]] = {}
    for pair in pairs:
        by_level.setdefault(level_of[pair[0].case.id], []).append(pair)
    found = []
    for level in levels:
        if level in by_level:
            samples = [sample_of(first.task, one.measure, cases) for cases in zip(*by_level[level], strict=True)]
            found.append((level, (first, samples[0]), (second, samples[1])))
    return tuple(
        Stratum(level, verdict_of(before, after, _judged(contrast_of(before[1], after[1]), len(found))))
        for level, before, after in found
    )


def compare_by_measure(first: ArmScores, second: ArmScores) -> tuple[Stratum, ...]:
    """The verdicts between two arms on each measure that both have, as they are among those of all measures."""
    found = []
    for one in first.measures:
        other = second.measure(one.measure.name)
        if other is not None and (pairs := common_cases(one, other)):
            samples = [sample_of(first.task, one.measure, cases) for cases in zip(*pairs, strict=True)]
            found.append((one.measure.name, (first, samples[0]), (second, samples[1])))
    return tuple(
        Stratum(name, verdict_of(before, after, _judged(contrast_of(before[1], after[1]), len(found))))
        for name, before, after in found
    )


def _judged(contrast: Contrast, many: int) -> Judgement:
    """A contrast as it is among many."""
    return Judgement(contrast, 1 - (1 - contrast.p) ** many, LEVEL ** (1 / many), many)


def scores_by(ranking: Ranking, level_of: Mapping[str, str], levels: Sequence[str]) -> tuple[LevelScores, ...]:
    """The ranked arms on the cases of each level, the best of all beside each other arm there.

    :param level_of: the level of each case, by its id.
    """
    if ranking.measure is None:
        return ()
    samples: dict[str, list[tuple[ArmScores, Sample]]] = {}
    for arm in ranking.arms:
        by_level: dict[str, list[ScoredCase]] = {}
        for case in ranking.cases_of(arm):
            by_level.setdefault(level_of[case.case.id], []).append(case)
        for level, cases in by_level.items():
            samples.setdefault(level, []).append((arm, sample_of(arm.task, ranking.measure, cases)))
    return _levels_scored([(one, samples[one]) for one in levels if one in samples], ranking)


def scores_by_measure(ranking: Ranking) -> tuple[LevelScores, ...]:
    """The ranked arms on each of their measures, on the cases that all of them share there."""
    found: list[tuple[str, list[tuple[ArmScores, Sample]]]] = []
    for score in ranking.arms[0].measures if ranking.arms else ():
        name = score.measure.name
        every = [(arm, theirs) for arm in ranking.arms if (theirs := arm.measure(name)) is not None]
        shared = set.intersection(*({one.case.id for one in theirs.scored} for _, theirs in every))
        if shared:
            kept = [(arm, [one for one in theirs.scored if one.case.id in shared]) for arm, theirs in every]
            found.append((name, [(arm, sample_of(arm.task, score.measure, cases)) for arm, cases in kept]))
    return _levels_scored(found, ranking)


def _levels_scored(
    found: Sequence[tuple[str, list[tuple[ArmScores, Sample]]]], ranking: Ranking
) -> tuple[LevelScores, ...]:
    many = max(1, len(found) * (len(ranking.arms) - 1))
    scored = []
    for level, (best, *others) in found:
        verdicts = [verdict_of(best, one, _judged(contrast_of(best[1], one[1]), many)) for one in others]
        estimates = {arm.arm: estimate_of(sample) for arm, sample in (best, *others)}
        scored.append(LevelScores(level, estimates, tuple(verdicts)))
    return tuple(scored)


def levels_text(found: Sequence[LevelScores], names: Sequence[str]) -> list[str]:
    """Where arms are unlike the best of all, a line for each such arm; or that there is nothing to tell."""
    lines = []
    for name in names[1:]:
        there = [(one.level, verdict) for one in found for verdict in one.verdicts if verdict.second == name]
        if told := _where(there):
            lines.append(f"{name} beside {names[0]}: {told}.")
    many = sum(len(one.verdicts) for one in found)
    if not many:
        return []
    lines = lines or [f"No arm is unlike {names[0]} at any level, as far as these cases tell."]
    return [*lines, f"Adjusted for {counted(many, 'comparison')}."]


def strata_text(strata: Sequence[Stratum]) -> str:
    """Where the second arm is better and where it is worse, in one sentence."""
    if not strata:
        return ""
    told = _where([(one.level, one.verdict) for one in strata])
    alike = sum(one.verdict.outcome not in ("better", "worse") for one in strata)
    undecided = f"not decided at {counted(alike, 'level')}" if alike else ""
    both = "; ".join(one for one in (told, undecided) if one)
    first, second = strata[0].verdict.first, strata[0].verdict.second
    return f"{second} beside {first}: {both}. Adjusted for {counted(len(strata), 'comparison')}."


def _where(there: Sequence[tuple[str, Verdict]]) -> str:
    """At which levels the second arm is better, and at which worse; empty where at none."""
    told = []
    for outcome in ("better", "worse"):
        levels = [
            f"{level} ({difference_text(one.difference, one.after.coefficient)})"
            for level, one in there
            if one.outcome == outcome
        ]
        if levels:
            told.append(f"{outcome} at {', '.join(levels)}")
    return "; ".join(told)
