"""`drovik pictures` without a name: every picture of the cases, and what looks wrong with it."""

from __future__ import annotations

import argparse
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from drovik.cli.pictures_facts import kilobytes
from drovik.cli.printing import aside, print_json, say, table
from drovik.errors import DONE, DrovikError

if TYPE_CHECKING:
    from drovik.images.inspecting import Inspection
    from drovik.project.reading import Project

MOST_ROWS = 60
_TOLD_EVERY = 500


@dataclass
class _File:
    """A file with the cases that name it."""

    path: str
    cases: list[str] = field(default_factory=list)
    found: Inspection | None = None
    wrong: list[str] = field(default_factory=list)


def look_through(project: Project, arguments: argparse.Namespace) -> int:
    """Look at every picture."""
    files: dict[str, _File] = {}
    for case in project.cases:
        for picture in case.pictures:
            files.setdefault(picture.path, _File(picture.path)).cases.append(case.id)
    every = list(files.values())
    with ThreadPoolExecutor(2) as pool:
        for number, _ in enumerate(pool.map(lambda one: _look(project, one), every), 1):
            if number % _TOLD_EVERY == 0:
                aside(f"{number} of {len(every)} pictures looked at")
    _twice(every)
    if arguments.json:
        print_json({"pictures": [_document(one) for one in every]})
    else:
        _print(every, arguments.all)
    return DONE


def _look(project: Project, one: _File) -> None:
    from drovik.images.inspecting import inspect

    try:
        one.found = inspect(project.pictures.read(one.path), one.path, project.settings.max_pixels)
        one.wrong = one.found.looks_wrong()
    except DrovikError as error:
        one.wrong = [error.problems[0].what]


def _twice(every: list[_File]) -> None:
    """Say where two cases show the same; one file in several cases is no mistake, two files may be one."""
    first: dict[str, _File] = {}
    for one in every:
        if one.found is None or "nearly blank" in one.wrong:
            continue
        other = first.setdefault(one.found.mark, one)
        if other is not one:
            one.wrong.append(f"shows the same as {other.cases[0]}")


def _print(every: list[_File], all_of_them: bool) -> None:
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
    say(f"{len(every)} pictures ({told}); {wrong or 'none'} {'looks' if wrong == 1 else 'look'} wrong.")
    if any("sideways" in word or "turned" in word for one in every for word in one.wrong):
        say('Those that lie sideways or turned are sent upright, unless a prep says orientation = "stored".')


def _document(one: _File) -> dict[str, object]:
    found = one.found
    facts = found.facts if found else None
    return {
        "picture": one.path,
        "cases": one.cases,
        "format": facts.format if facts else None,
        "size": [facts.width, facts.height] if facts else None,
        "orientation": facts.orientation if facts else None,
        "shots": facts.count if facts else None,
        "bytes": found.bytes if found else None,
        "spread": round(found.spread, 2) if found else None,
        "blur": round(found.blur, 3) if found else None,
        "wrong": one.wrong,
    }
