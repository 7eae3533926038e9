"""The report: one HTML file that needs nothing else, and asks nobody."""
