"""Gathers answers into scored arms; the impact of causes, suspect expected outputs, drift."""
