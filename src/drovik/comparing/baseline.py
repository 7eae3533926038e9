"""Scores of an arm that are kept in a file, case by case, to be compared with later ones: no answers, no keys.

The file is JSON with sorted members, so that it can be committed, and a change of it read.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from typing import Any

from drovik.comparing.contrast import Sample, case_score, sample_of
from drovik.comparing.verdict import estimate
from drovik.errors import Problem, UsageError
from drovik.project.cases import Case
from drovik.scoring.measure import CaseScore, Measure, mean_of
from drovik.scoring.scores import ArmScores, MeasureScore, ScoredCase

MARK, FORM = "Drovik baseline", 1
"""Of the file; a later one is said to be unknown."""


def baseline_document(arms: Sequence[tuple[ArmScores, MeasureScore]]) -> dict[str, Any]:
    """What is kept of arms of several tasks, one of each.

    :raises UsageError: for a measure that no numbers of single cases add up to.
    """
    return {MARK: FORM, "tasks": {arm.task: _kept(arm, score) for arm, score in arms}}


def baseline_text(arms: Sequence[tuple[ArmScores, MeasureScore]]) -> str:
    """The same as the text of a file, a line a case."""
    return _text(baseline_document(arms)) + "\n"


def _text(value: Any, depth: int = 0) -> str:
    if not isinstance(value, dict):
        return json.dumps(value, ensure_ascii=False)
    inner = ",\n".join(
        f"{' ' * (depth + 1)}{json.dumps(name, ensure_ascii=False)}: {_text(value[name], depth + 1)}"
        for name in sorted(value)
    )
    return f"{{\n{inner}\n{' ' * depth}}}"


def _kept(arm: ArmScores, score: MeasureScore) -> dict[str, Any]:
    if score.measure.is_weighed:
        what = f"'{score.measure.what}' of '{score.measure.name}' is no sum of cases, so it cannot be kept"
        raise UsageError(Problem(what, "take another measure: --measure NAME"))
    cases = {
        one.case.id: [[_short(part.value), *map(_short, part.statistics)] for part in mine.parts or (mine,)]
        for one in score.scored
        if (mine := case_score(one))
    }
    found = estimate(score)
    told = {"score": _short(found.value), "low": _short(found.low), "high": _short(found.high)}
    return {"arm": arm.arm, "measure": score.measure.name, "what": score.measure.what, **told, "cases": cases}


def _short(number: float) -> float:
    """A number with what its digits are worth: the same on every machine."""
    return float(f"{number:.12g}")


def baseline_sample(document: Any, path: str, task: str, measure: Measure, cases: Sequence[Case]) -> Sample:
    """What a file keeps of a task, as a sample of the cases that there still are.

    :raises UsageError: where the file is no baseline, or has not that task and measure.
    """
    if not isinstance(document, Mapping) or document.get(MARK) != FORM:
        raise UsageError(Problem("is no baseline", "write one: drovik compare ARM --save-baseline FILE", path))
    tasks = document.get("tasks")
    kept = tasks.get(task) if isinstance(tasks, Mapping) else None
    if not isinstance(kept, Mapping) or not isinstance(kept.get("cases"), Mapping):
        raise UsageError(Problem(f"has nothing of the task '{task}'", "save it again: --save-baseline", path))
    if kept.get("measure") != measure.name or kept.get("what") != measure.what:
        theirs, mine = f"'{kept.get('measure')}' ({kept.get('what')})", f"'{measure.name}' ({measure.what})"
        what = f"is of the measure {theirs}, not of {mine}"
        raise UsageError(Problem(what, "save it again, or take that one: --measure NAME", path))
    known = {case.id: case for case in cases}
    scored = [
        ScoredCase(known[name], None, _score(one, path, name)) for name, one in kept["cases"].items() if name in known
    ]
    if not scored:
        raise UsageError(Problem("has no case of this project", "save it again: --save-baseline", path))
    return sample_of(task, measure, scored)


def _score(one: Any, path: str, name: str) -> CaseScore:
    """A case's score as it was kept: of each answer its value, and its statistics."""
    try:
        parts = [CaseScore(tuple(map(float, rest)), float(value)) for value, *rest in one]
    except (TypeError, ValueError):
        parts = []
    if not parts or not all(math.isfinite(number) for part in parts for number in (part.value, *part.statistics)):
        raise UsageError(Problem("is no score", "save it again: --save-baseline", path, f"cases.{name}"))
    return parts[0] if len(parts) == 1 else mean_of(parts)
