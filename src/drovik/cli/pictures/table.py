"""The pictures that a command shows.

What one prepared picture comes to: for a table, for the lines of a contact sheet, and in plain values.

`drovik pictures` without a name: every picture of the cases, and what looks wrong with it.
"""

from __future__ import annotations

import argparse
from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.printing import print_json, say, table
from drovik.errors import DONE
from drovik.text import counted, shortened

if TYPE_CHECKING:
    from drovik.images.prepare import Prepared
    from drovik.project.models import Model
    from drovik.project.reading import Project


def kilobytes(count: int) -> str:
    """A number of bytes for the eye."""
    return f"{count / 1000:.1f} kB" if count < 10_000_000 else f"{count / 1_000_000:.1f} MB"


def shot_label(part: Prepared, several: int) -> str:
    """Which of several pictures it is: a frame, a page, a part."""
    if part.shot.time is not None:
        return f"at {part.shot.time:g} s"
    if several == 1:
        return ""
    return f"part {part.part + 1}" if len(part.layout.parts) > 1 else f"page {part.shot.number}"


def preparation_note(part: Prepared) -> str:
    """What a person should know: a shape that changed, and how much of the picture is left."""
    stretch, share = part.layout.stretch(), part.layout.kept_share
    found = []
    if abs(stretch - 1) >= 0.005:
        found.append(f"shape changed: {abs(stretch - 1):.0%} {'wider' if stretch > 1 else 'narrower'}")
    if share < 0.995:
        found.append(f"shows {share:.0%} of it")
    return ", ".join(found)


def cells(part: Prepared, models: Mapping[str, Model], several: int) -> list[str]:
    """A row of the table, from which of several it is to the note."""
    counts = [_count(*workflow.tokens_and_money(part, model)) for model in models.values()]
    size = f"{part.width} × {part.height}"
    return [shot_label(part, several), size, kilobytes(len(part.data)), *counts, preparation_note(part)]


def _count(tokens: int, spent: workflow.Spending | None) -> str:
    return f"{counted(tokens, 'token')}" + ("" if spent is None else f", {spent.amount:.5f} {spent.currency}")


def caption(part: Prepared, prep: str, models: Mapping[str, Model], several: int) -> list[str]:
    """The lines below a picture on the contact sheet."""
    head = ": ".join(filter(None, (shortened(prep, 34), shot_label(part, several))))
    kept = ", as stored" if part.as_stored else ""
    kind = part.media_type.partition("/")[2]
    lines = [head, f"{part.width} x {part.height}, {kind}, {kilobytes(len(part.data))}{kept}"]
    for name, model in models.items():
        tokens, spent = workflow.tokens_and_money(part, model)
        lines.append(
            f"{name}: {counted(tokens, 'token')}" + (f", {spent.amount:.5f} {spent.currency}" if spent else "")
        )
    return lines + [preparation_note(part)] * bool(preparation_note(part))


MOST_ROWS = 60
"""Rows without `--all`: those that look wrong come first."""


def inspect_all(project: Project, arguments: argparse.Namespace) -> int:
    """Look at every picture."""
    every = workflow.inspect_pictures(project)
    if arguments.json:
        print_json({"pictures": [workflow.file_record(one) for one in every]})
    else:
        _print(every, arguments.all)
    return DONE


def _print(every: list[workflow.PictureFile], all_of_them: bool) -> None:
    shown = [one for one in every if one.wrong or all_of_them]
    if not shown and len(every) <= MOST_ROWS:
        shown = every
    rows = []
    for one in shown if all_of_them else shown[:MOST_ROWS]:
        facts = one.found.facts if one.found else None
        size = f"{facts.width} × {facts.height}" if facts else "–"
        count = f"{facts.count}" if facts else "–"
        weight = kilobytes(one.found.bytes) if one.found else "–"
        ids = one.cases[0] + (f" and {len(one.cases) - 1} more" if len(one.cases) > 1 else "")
        kind = facts.format if facts else "–"
        rows.append((ids, one.path, kind, size, count, weight, ", ".join(one.wrong)))
    if rows:
        table(("case", "picture", "type", "size", "shots", "bytes", "looks wrong"), rows, numbers=(3, 4, 5))
    if len(rows) < len(shown):
        say(f"… and {len(shown) - len(rows)} more; see them with --all")
    kinds = Counter(one.found.facts.format for one in every if one.found)
    wrong = sum(bool(one.wrong) for one in every)
    told = ", ".join(f"{count} {kind}" for kind, count in kinds.most_common())
    say(f"{counted(len(every), 'picture')} ({told}); {wrong or 'none'} {'looks' if wrong == 1 else 'look'} wrong.")
    if any("sideways" in word or "turned" in word for one in every for word in one.wrong):
        say('Those that lie sideways or turned are sent upright, unless a prep says orientation = "stored".')
