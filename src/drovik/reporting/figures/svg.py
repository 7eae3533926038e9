"""Figures → SVG for the page: styled by its style sheet, so that they are right in the dark and in print."""

from __future__ import annotations

from html import escape

from drovik.reporting.figures.figure import Axis, Figure, Mark

WIDTH, TOP, BOTTOM, RIGHT, CHAR = 460, 14, 46, 26, 7.0
"""Of a figure, in the units of its view; how wide a letter of a tick is, about."""
_DOT = 5.5


class _Canvas:
    """Where things of a figure go."""

    def __init__(self, figure: Figure, height: int) -> None:
        self.x_axis, self.y_axis = figure.x, figure.y
        self.left = min(210.0, 18 + CHAR * max((len(text) for _, text in figure.y.ticks), default=4))
        names = max((len(mark.name) for mark in figure.marks), default=0)
        self.right, self.bottom = (
            WIDTH - RIGHT - min(90.0, CHAR * names),
            float(height - BOTTOM + (0 if figure.x.title else 18)),
        )

    def x(self, value: float) -> float:
        return self.left + self.x_axis.share(value) * (self.right - self.left)

    def y(self, value: float) -> float:
        return self.bottom - self.y_axis.share(value) * (self.bottom - TOP)


def drawn(figure: Figure, height: int = 280) -> str:
    """The figure as an SVG element, with its title for those who do not see it.

    :param height: in the units of its view, which is 460 wide.
    """
    canvas = _Canvas(figure, height)
    parts = [
        f'<svg class="figure" viewBox="0 0 {WIDTH} {height}" width="{WIDTH}" height="{height}" role="img" '
        f'aria-label="{escape(figure.title)}">'
    ]
    parts += _axes(figure, canvas, height)
    for line in figure.lines:
        points = " ".join(f"{canvas.x(x):.1f},{canvas.y(y):.1f}" for x, y in line.points)
        parts.append(f'<polyline class="{"guide" if line.guide else "line"}" points="{points}"/>')
    for mark in figure.marks:
        parts += _whiskers(mark, canvas)
    for mark in figure.marks:
        parts.append(_dot(mark, canvas.x(mark.x), canvas.y(mark.y)))
    parts += _names(figure, canvas)
    return "".join([*parts, "</svg>"])


def _axes(figure: Figure, canvas: _Canvas, height: int) -> list[str]:
    parts = []
    for value, text in figure.y.ticks:
        y = canvas.y(value)
        parts.append(f'<line class="grid" x1="{canvas.left:.1f}" x2="{canvas.right:.1f}" y1="{y:.1f}" y2="{y:.1f}"/>')
        parts.append(_text("tick", canvas.left - 9, y + 4, text, "end"))
    for value, text in _spaced(figure.x, canvas):
        x = canvas.x(value)
        parts.append(f'<line class="grid" x1="{x:.1f}" x2="{x:.1f}" y1="{TOP}" y2="{canvas.bottom:.1f}"/>')
        parts.append(_text("tick", x, canvas.bottom + 17, text, "middle"))
    if figure.x.title:
        parts.append(_text("axis", (canvas.left + canvas.right) / 2, height - 8, figure.x.title, "middle"))
    return parts


def _spaced(axis: Axis, canvas: _Canvas) -> list[tuple[float, str]]:
    """The ticks whose texts do not run into the one before."""
    found: list[tuple[float, str]] = []
    end = 0.0
    for value, text in axis.ticks:
        half = CHAR * len(text) / 2
        if not found or canvas.x(value) - half > end + 4:
            found.append((value, text))
            end = canvas.x(value) + half
    return found


def _text(kind: str, x: float, y: float, text: str, anchor: str) -> str:
    return f'<text class="{kind}" x="{x:.1f}" y="{y:.1f}" text-anchor="{anchor}">{escape(text)}</text>'


def _whiskers(mark: Mark, canvas: _Canvas) -> list[str]:
    kind = "whisker faint" if mark.faint else "whisker"
    parts = []
    if mark.x_interval:
        (a, b), y = map(canvas.x, mark.x_interval), canvas.y(mark.y)
        parts.append(
            f'<path class="{kind}" d="M{a:.1f} {y:.1f}H{b:.1f}M{a:.1f} {y - 4:.1f}v8M{b:.1f} {y - 4:.1f}v8"/>'
        )
    if mark.y_interval:
        (a, b), x = map(canvas.y, mark.y_interval), canvas.x(mark.x)
        parts.append(
            f'<path class="{kind}" d="M{x:.1f} {a:.1f}V{b:.1f}M{x - 4:.1f} {a:.1f}h8M{x - 4:.1f} {b:.1f}h8"/>'
        )
    return parts


def _dot(mark: Mark, x: float, y: float) -> str:
    kind, size = ("dot faint" if mark.faint else "dot"), _DOT
    paths = {
        "square": f"M{x - size:.1f} {y - size:.1f}h{2 * size}v{2 * size}h-{2 * size}z",
        "triangle": f"M{x:.1f} {y - size - 1:.1f}L{x + size + 1:.1f} {y + size:.1f}H{x - size - 1:.1f}z",
        "diamond": f"M{x:.1f} {y - size - 1.5:.1f}l{size + 1.5} {size + 1.5}l-{size + 1.5} {size + 1.5}l-{size + 1.5} -{size + 1.5}z",  # noqa: E501
        "cross": f"M{x - size:.1f} {y - size:.1f}l{2 * size} {2 * size}M{x + size:.1f} {y - size:.1f}l-{2 * size} {2 * size}",  # noqa: E501
    }
    if mark.shape in paths:
        return f'<path class="{kind}{" open" if mark.shape == "cross" else ""}" d="{paths[mark.shape]}"/>'
    return f'<circle class="{kind}{" open" if mark.shape == "ring" else ""}" cx="{x:.1f}" cy="{y:.1f}" r="{size}"/>'


def _names(figure: Figure, canvas: _Canvas) -> list[str]:
    """The names of marks, each beside its own where no other mark or name is, if there is such a place."""
    marks = [(mark, canvas.x(mark.x), canvas.y(mark.y)) for mark in figure.marks]
    taken = [(x - _DOT, y - _DOT, x + _DOT, y + _DOT) for _, x, y in marks]
    parts = []
    for mark, x, y in marks:
        if not mark.name:
            continue
        wide = CHAR * len(mark.name)
        ends = [canvas.x(one) for one in mark.x_interval or (mark.x, mark.x)]
        places = [
            (ends[1] + 8, y + 4, "start"), (ends[0] - 8, y + 4, "end"), (x, y - 11, "middle"), (x, y + 19, "middle"),
            (ends[1] + 8, y + 18, "start"), (ends[1] + 8, y - 11, "start"), (ends[1] + 8, y + 32, "start"),
        ]  # fmt: skip
        boxes = [_box(*place, wide) for place in places]
        free = [
            n
            for n, box in enumerate(boxes)
            if _is_free(box, taken) and box[0] >= canvas.left and box[3] < canvas.bottom
        ]
        best = free[0] if free else 0
        taken.append(boxes[best])
        parts.append(_text("name faint" if mark.faint else "name", *places[best][:2], mark.name, places[best][2]))
    return parts


_Box = tuple[float, float, float, float]


def _box(x: float, y: float, anchor: str, wide: float) -> _Box:
    left = x - {"start": 0.0, "middle": wide / 2, "end": wide}[anchor]
    return left, y - 10, left + wide, y + 3


def _is_free(box: _Box, taken: list[_Box]) -> bool:
    inside = box[2] < WIDTH and box[1] > 0
    return inside and not any(box[0] < r and left < box[2] and box[1] < b and t < box[3] for left, t, r, b in taken)


def interval_bar(value: float, low: float, high: float, span: tuple[float, float] = (0.0, 1.0)) -> str:
    """A score with its interval as a bar for a cell of a table; the text beside it says the same.

    :param span: what lies at the two ends.
    """
    width, height = 150, 16
    least, most = span

    def x(at: float) -> float:
        return 2 + (width - 4) * (min(max(at, least), most) - least) / (most - least)

    return (
        f'<svg class="bar" viewBox="0 0 {width} {height}" width="{width}" height="{height}" aria-hidden="true">'
        f'<line class="rail" x1="2" x2="{width - 2}" y1="8" y2="8"/>'
        f'<rect class="span" x="{x(low):.1f}" y="4" width="{max(x(high) - x(low), 1):.1f}" height="8"/>'
        f'<line class="at" x1="{x(value):.1f}" x2="{x(value):.1f}" y1="1" y2="15"/></svg>'
    )
