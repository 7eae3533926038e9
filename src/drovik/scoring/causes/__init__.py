"""Causes: the kinds of misses. Each table of small tests names the first that explains a difference."""
