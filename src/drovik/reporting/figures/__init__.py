"""Figures: what is drawn, as SVG for the page, and as files by Matplotlib."""
