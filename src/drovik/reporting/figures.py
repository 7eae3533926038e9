"""Figures of the page, as SVG: scores with their intervals. Colour carries no meaning alone."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from drovik.comparing.verdict import Estimate, percent

_LEFT, _RIGHT, _ROW, _TOP = 190, 70, 30, 26
_WIDTH = 760


def interval_figure(rows: Sequence[tuple[str, Estimate]], what: str) -> str:
    """Each arm's score as a dot, its 95 % interval as a line, on a scale from 0 to 100 %.

    :param rows: arms with their scores, from top to bottom.
    :param what: what the score is, for the title.
    """
    height = _TOP + _ROW * len(rows) + 30
    span = _WIDTH - _LEFT - _RIGHT
    label = f"{escape(what)} by arm, with 95 % intervals"
    parts = [f'<svg class="intervals" viewBox="0 0 {_WIDTH} {height}" role="img" aria-label="{label}">']
    for share in (0.0, 0.25, 0.5, 0.75, 1.0):
        x = _LEFT + span * share
        parts.append(f'<line class="grid" x1="{x:.1f}" x2="{x:.1f}" y1="{_TOP - 8}" y2="{height - 24}"/>')
        parts.append(
            f'<text class="tick" x="{x:.1f}" y="{height - 8}" text-anchor="middle">{share * 100:.0f} %</text>'
        )
    for number, (name, one) in enumerate(rows):
        y = _TOP + _ROW * number + _ROW / 2 - 6
        low, high, at = (_LEFT + span * value for value in (one.low, one.high, one.value))
        parts.append(f'<text class="name" x="{_LEFT - 14}" y="{y + 5:.1f}" text-anchor="end">{escape(name)}</text>')
        parts.append(f'<line class="whisker" x1="{low:.1f}" x2="{high:.1f}" y1="{y:.1f}" y2="{y:.1f}"/>')
        for end in (low, high):
            parts.append(f'<line class="whisker" x1="{end:.1f}" x2="{end:.1f}" y1="{y - 5:.1f}" y2="{y + 5:.1f}"/>')
        parts.append(f'<circle class="dot" cx="{at:.1f}" cy="{y:.1f}" r="5.5"/>')
        parts.append(f'<text class="value" x="{_WIDTH - _RIGHT + 12}" y="{y + 5:.1f}">{percent(one.value)}</text>')
    return "".join([*parts, "</svg>"])
