"""Figures → files: PNG and SVG by Matplotlib, in the style of the page."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik.errors import Problem, UsageError
from drovik.reporting.figures.figure import Axis, Figure, Mark

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, SOFT, RULE, PAPER, BLUE = "#1c2830", "#55646c", "#d4d8d0", "#fffefb", "#0b5c8a"
"""The page's colours in the light."""
_MARKERS = {"circle": "o", "square": "s", "triangle": "^", "diamond": "D", "cross": "x", "ring": "o"}
_DPI = 160


def write_figures(figures: Sequence[Figure], folder: Path) -> list[Path]:
    """Write each figure as PNG and as SVG.

    :raises DrovikError: without Matplotlib, or where the folder cannot be written.
    """
    try:
        import matplotlib as mpl
        from matplotlib.figure import Figure as Sheet
    except ImportError:
        remedy = "install it: pip install 'drovik[figures]'"
        raise UsageError(Problem("--figures needs Matplotlib, which is not installed", remedy)) from None
    written = []
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "drovik", "font.family": "DejaVu Sans"}):
            for figure in figures:
                sheet = Sheet(figsize=(7, _height(figure)), facecolor=PAPER, layout="constrained")
                _draw(figure, sheet.add_subplot(facecolor=PAPER))
                for kind, more in (("png", {}), ("svg", {"Date": None})):
                    path = folder / f"{_file_name(figure.name)}.{kind}"
                    sheet.savefig(path, dpi=_DPI, facecolor=PAPER, metadata=more)
                    written.append(path)
    except OSError as error:
        raise UsageError(Problem(f"{folder}: cannot be written: {error.strerror}", "name another folder")) from None
    return written


def _file_name(name: str) -> str:
    return "".join(one if one.isalnum() or one in "-_." else "_" for one in name)[:120].lstrip(".") or "figure"


def _height(figure: Figure) -> float:
    return 1.3 + 0.34 * len(figure.y.ticks) if _is_named(figure.y) else 3.8


def _is_named(axis: Axis) -> bool:
    return axis.low == -0.5


def _draw(figure: Figure, axes: Axes) -> None:
    axes.set_title(figure.title, loc="left", fontsize=10, fontweight="bold", color=INK, wrap=True)
    for side in axes.spines.values():
        side.set_visible(False)
    axes.grid(color=RULE, linewidth=0.8)
    axes.set_axisbelow(True)
    _put_axis(axes.xaxis, figure.x, axes.set_xscale, axes.set_xlim)
    _put_axis(axes.yaxis, figure.y, axes.set_yscale, axes.set_ylim)
    axes.set_xlabel(figure.x.title, color=SOFT, fontsize=9)
    axes.tick_params(colors=SOFT, labelsize=9, length=0)
    for line in figure.lines:
        xs, ys = zip(*line.points, strict=True)
        axes.plot(xs, ys, color=SOFT if line.guide else BLUE, linestyle="--" if line.guide else "-", linewidth=1.4)
    for mark in figure.marks:
        _put_mark(mark, axes)


def _put_axis(ticks: Any, axis: Axis, scale: Any, limits: Any) -> None:
    if axis.log:
        scale("log")
    limits(axis.low, axis.high)
    ticks.set_ticks([at for at, _ in axis.ticks], labels=[text for _, text in axis.ticks])
    ticks.set_ticks([], minor=True)


def _put_mark(mark: Mark, axes: Axes) -> None:
    color = SOFT if mark.faint else BLUE
    sides: dict[str, Any] = {
        f"{name}err": [[max(at - bounds[0], 0)], [max(bounds[1] - at, 0)]]
        for name, at, bounds in (("x", mark.x, mark.x_interval), ("y", mark.y, mark.y_interval))
        if bounds is not None
    }
    face = "none" if mark.shape == "ring" else color
    axes.errorbar(
        mark.x, mark.y, fmt=_MARKERS[mark.shape], color=color, markerfacecolor=face, markersize=7, capsize=3,
        linewidth=1.4, **sides,
    )  # fmt: skip
    if mark.name:
        axes.annotate(
            mark.name, (mark.x, mark.y), xytext=(7, 4), textcoords="offset points", fontsize=8.5,
            color=SOFT if mark.faint else INK, parse_math=False,
        )  # fmt: skip
