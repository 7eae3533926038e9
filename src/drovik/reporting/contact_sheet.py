"""The contact sheet: pictures before and after a prep, with what each comes to, as one PNG."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from drovik.errors import Problem, UsageError
from drovik.heavy import Image, ImageDraw, ImageFont

_CELL = (300, 220)
"""Pixels of a picture on the sheet."""
_GAP = 20
"""Pixels between pictures."""
_LINE = 19
"""Pixels of a line of text."""
_PAPER, _INK, _FAINT, _FRAME = "#ffffff", "#1d2430", "#5c6673", "#c8ced6"
_BOX = "#c2410c"
_MOST_ACROSS = 6
"""Pictures beside each other: about the width of a screen."""


@dataclass(frozen=True)
class SheetTile:
    """A picture of the sheet: its bytes, the lines below it, and boxes to be drawn on it as shares of its sides."""

    data: bytes
    lines: tuple[str, ...]
    boxes: tuple[tuple[float, float, float, float], ...] = ()


@dataclass(frozen=True)
class SheetRow:
    """A source: its heading, itself, and what becomes of it."""

    heading: str
    before: SheetTile
    after: tuple[SheetTile, ...]


def write_sheet(rows: Sequence[SheetRow], path: Path) -> tuple[int, int]:
    """Draw a sheet; its size in pixels.

    :raises DrovikError: where it cannot be written.
    """

    drawn = [_drawn(row) for row in rows]
    width = max(one.width for one in drawn) + 2 * _GAP
    height = sum(one.height for one in drawn) + _GAP
    sheet = Image.new("RGB", (width, height), _PAPER)
    top = _GAP // 2
    lines = ImageDraw.Draw(sheet)
    for number, one in enumerate(drawn):
        if number:
            lines.line((_GAP, top - 6, width - _GAP, top - 6), fill=_FRAME)
        sheet.paste(one, (_GAP, top))
        top += one.height
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        from PIL.PngImagePlugin import PngInfo  # loads Pillow

        marks = PngInfo()
        marks.add_text("Software", "Drovik contact sheet")
        sheet.save(path, "PNG", pnginfo=marks)
    except OSError as error:
        raise UsageError(Problem(f"cannot be written: {error.strerror}", "name another file", str(path))) from None
    return sheet.size


def _drawn(row: SheetRow) -> Image.Image:
    """A row: its heading, the picture before, and to its right those after, as many beside each other as fit."""

    lines = max(len(tile.lines) for tile in (row.before, *row.after))
    step = (_CELL[0] + _GAP, _CELL[1] + lines * _LINE + _GAP)
    across = min(len(row.after), _MOST_ACROSS - 1)
    down = -(-len(row.after) // across) if across else 1
    canvas = Image.new("RGB", ((across + 1) * step[0] - _GAP, 2 * _LINE + down * step[1]), _PAPER)
    pen = ImageDraw.Draw(canvas)
    pen.text((0, 2), row.heading, fill=_INK, font=_font(16))
    _place(canvas, pen, row.before, (0, 2 * _LINE))
    for number, tile in enumerate(row.after):
        at = ((1 + number % across) * step[0], 2 * _LINE + number // across * step[1])
        _place(canvas, pen, tile, at)
    return canvas


def _place(canvas: Image.Image, pen: Any, tile: SheetTile, at: tuple[int, int]) -> None:

    with Image.open(io.BytesIO(tile.data)) as opened:
        opened.draft("RGB", (_CELL[0] * 2, _CELL[1] * 2))
        picture = opened.convert("RGB")
    share = min(_CELL[0] / picture.width, _CELL[1] / picture.height, 4.0)
    size = (max(1, round(picture.width * share)), max(1, round(picture.height * share)))
    left, top = at[0], at[1] + _CELL[1] - size[1]
    canvas.paste(picture.resize(size), (left, top))
    pen.rectangle((left, top, left + size[0] - 1, top + size[1] - 1), outline=_FRAME)
    for number, box in enumerate(tile.boxes, 1):
        corners = (left + box[0] * size[0], top + box[1] * size[1], left + box[2] * size[0], top + box[3] * size[1])
        inside = (corners[0], corners[1], corners[2] - 1, corners[3] - 1)
        pen.rectangle(inside, outline=_BOX, width=2)
        if len(tile.boxes) > 1:
            pen.rectangle((corners[0], corners[1], corners[0] + 18, corners[1] + 18), fill=_BOX)
            pen.text((corners[0] + 5, corners[1] + 1), str(number), fill=_PAPER, font=_font(14))
    for number, line in enumerate(tile.lines):
        colour = _INK if number == 0 else _FAINT
        pen.text((at[0], at[1] + _CELL[1] + 4 + number * _LINE), line, fill=colour, font=_font(13))


def _font(size: int) -> Any:

    return ImageFont.load_default(size)
