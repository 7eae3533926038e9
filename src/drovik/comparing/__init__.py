"""Scores of arms → intervals, paired differences, verdicts, rankings."""
