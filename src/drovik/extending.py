"""What packages build on that add measures, field rules and causes (docs/extending.md). It is stable."""

from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import Cause
from drovik.scoring.json_pointer import ABSENT, value_at_pointer
from drovik.scoring.measure import AnswerContext, CannotScore, CaseScore, Finding, Measure, Table, Trace
from drovik.scoring.rules.rule import Rule

__all__ = [
    "ABSENT", "AnswerContext", "CannotScore", "CaseScore", "Cause", "Finding", "Frozen", "Measure", "Rule", "Table",
    "Trace", "value_at_pointer",
]  # fmt: skip
