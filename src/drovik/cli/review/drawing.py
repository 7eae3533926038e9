"""A picture in the terminal: two pixels a character, by half blocks; or in the desktop's own viewer."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

from drovik.heavy import Image

MOST_COLUMNS, MOST_ROWS = 96, 26
"""Of a picture: a third of a usual screen, so that the answer stays in view."""


def half_blocks(picture: Image.Image, columns: int, rows: int) -> list[str]:
    """Lines that draw a picture in a terminal of true colours.

    :param columns: at most, as `rows`; a row holds two rows of pixels.
    """
    scale = min(columns / picture.width, 2 * rows / picture.height, 1.0)
    width, height = max(1, round(picture.width * scale)), max(2, round(picture.height * scale / 2) * 2)
    small = picture.convert("RGB").resize((width, height))
    pixels = small.load()
    assert pixels is not None, "there is a picture"
    lines = []
    for y in range(0, height, 2):
        cells = [
            "\x1b[38;2;{};{};{};48;2;{};{};{}m▀".format(*pixels[x, y], *pixels[x, y + 1])  # type: ignore[misc]
            for x in range(width)
        ]
        lines.append("".join(cells) + "\x1b[0m")
    return lines


def can_draw() -> bool:
    """Whether the terminal says that it knows true colours, and wants colours at all."""
    colours = os.environ.get("COLORTERM", "") in ("truecolor", "24bit")
    return colours and sys.stdout.isatty() and "NO_COLOR" not in os.environ


def terminal_size() -> tuple[int, int]:
    """Columns and rows that a picture may take."""
    size = shutil.get_terminal_size()
    return min(MOST_COLUMNS, size.columns - 2), min(MOST_ROWS, size.lines // 2)


def open_in_viewer(path: Path) -> bool:
    """Have the desktop show a file; whether there is a desktop that could."""
    program = "open" if sys.platform == "darwin" else "xdg-open"
    if shutil.which(program) is None or (program == "xdg-open" and not has_screen()):
        return False
    subprocess.Popen(
        [program, str(path)], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        start_new_session=True,
    )  # fmt: skip
    return True


def has_screen() -> bool:
    """Whether there is a desktop to show something on."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))
