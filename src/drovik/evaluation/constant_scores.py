"""Measures that say the same of every answer: most often a sign that they look at the wrong place."""

from __future__ import annotations

from drovik.evaluation.gathering import TaskView

FEWEST = 5
"""Fewer answers than this may well be all right, or all wrong."""


def constant_scores(view: TaskView) -> list[str]:
    """In words, the measures that score every answer of every arm 0, or every one 1."""
    found = []
    for measure in view.measures:
        values = [
            one.score.value
            for arm in view.scores
            if (score := arm.measure(measure.name)) is not None
            for one in score.scored
            if one.score is not None
        ]
        if len(values) >= FEWEST and (set(values) <= {0.0} or set(values) <= {1.0}):
            found.append(
                f"{measure.name}: every answer scored {values[0]:.0f} ({len(values)} answers): see whether `at` and "
                "the expected outputs mean the same thing"
            )
    return found
