"""What commands print with: tables, lines, JSON. Text from models and files is made harmless here."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from functools import cache
from typing import TYPE_CHECKING, Any, TypeVar

from drovik.reporting.columns import ArmEntry, cells, numeric, titles
from drovik.text import escaped_json, without_controls

if TYPE_CHECKING:
    from rich.console import Console
    from rich.style import StyleType

WIDTH_WITHOUT_TERMINAL = 130
"""Columns of output into a file or a pipe; wide enough for a ranking."""


@cache
def console() -> Console:
    """Where results go; plain text of a fixed width if there is no terminal."""
    from rich.console import Console

    width = None if sys.stdout.isatty() else WIDTH_WITHOUT_TERMINAL
    return Console(markup=False, highlight=False, emoji=False, width=width, soft_wrap=False)


def say(text: str = "", style: StyleType | None = None) -> None:
    """Print a paragraph, wrapped to the terminal; if there is none, each line stays one line."""
    if not sys.stdout.isatty():
        print(strip_controls(text))
        return
    console().print(strip_controls(text), style=style)


def say_aside(text: str) -> None:
    """Say something beside the results: on standard error, and dimmed on a terminal."""
    plain = not sys.stderr.isatty() or "NO_COLOR" in os.environ
    print(strip_controls(text) if plain else f"\x1b[2m{strip_controls(text)}\x1b[0m", file=sys.stderr, flush=True)


def explain_arms() -> None:
    """One line, for who reads a table of arms for the first time; once in a run."""
    say("An arm is a model with a prompt version (and a prep, if there are several): MODEL/PROMPT.", style="dim")


def heading(text: str) -> None:
    """Print a heading with an empty line before it."""
    console().print()
    console().print(strip_controls(text), style="bold cyan")


def table(columns: Sequence[str], rows: Iterable[Sequence[str]], numbers: Sequence[int] = ()) -> None:
    """Print a table; the columns in `numbers`, counted from 0, stand to the right."""
    from rich import box
    from rich.table import Table
    from rich.text import Text

    drawn = Table(box=box.HORIZONTALS, show_edge=False, pad_edge=False, header_style="bold", border_style="dim")
    for number, column in enumerate(columns):
        drawn.add_column(column, justify="right" if number in numbers else "left", overflow="fold")
    for row in rows:
        drawn.add_row(*(Text(strip_controls(cell)) for cell in row))
    console().print(drawn)


def arms_table(entries: Sequence[ArmEntry], names: Sequence[str], score: str = "score") -> None:
    """Print a table of arms.

    :param names: its columns (`reporting/columns.py`).
    :param score: what the score is called.
    """
    table(titles(names, score), [cells(one, names) for one in entries], numbers=numeric(names))


_Row = TypeVar("_Row")
MOST_LISTED = 10
"""Arms or causes in a list, where nobody asks for all."""


def add_all_argument(parser: argparse.ArgumentParser) -> None:
    """`--all`, of every command whose lists are cut."""
    parser.add_argument("--all", action="store_true", help=f"list all arms and causes, not the first {MOST_LISTED}")


def cut_list(rows: Sequence[_Row], everything: bool, what: str) -> Sequence[_Row]:
    """The first rows of a list, or all of them; what is left out is said, with the option that shows it."""
    if everything or len(rows) <= MOST_LISTED:
        return rows
    say(f"The first {MOST_LISTED} of {len(rows)} {what}; --all shows the others.", style="dim")
    return rows[:MOST_LISTED]


def print_json(document: Mapping[str, Any]) -> None:
    """Print one JSON document and nothing else."""
    print(escaped_json(json.dumps(document, ensure_ascii=False, indent=1, default=_plain)))


def _plain(value: object) -> object:
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, frozenset | set):
        return sorted(value)
    raise TypeError(type(value).__name__)


def strip_controls(text: str) -> str:
    """Text without control characters but line breaks and tabs: it cannot steer the terminal."""
    return without_controls(text, "\N{REPLACEMENT CHARACTER}", keep="\n\t")
