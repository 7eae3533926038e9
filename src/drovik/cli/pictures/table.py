"""The pictures that a command shows.

What one prepared picture comes to: for a table, for the lines of a contact sheet, and in plain values.

`drovik pictures` without a name: every picture of the cases, and what looks wrong with it.
"""

from __future__ import annotations

import argparse
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik.cli.printing import print_json, say, say_aside, table
from drovik.errors import DONE, DrovikError
from drovik.images.inspection import inspect
from drovik.planning.sources import is_remote
from drovik.project.picture_files import PictureFolder
from drovik.project.spending import Spending
from drovik.text import shortened

if TYPE_CHECKING:
    from drovik.images.inspection import Inspection
    from drovik.images.prepare import Prepared
    from drovik.project.cases import Case
    from drovik.project.reading import Project
    from drovik.project.settings import Model
    from drovik.project.spending import Spending


@dataclass(frozen=True)
class Shown:
    """A picture to be shown: whose it is, where its file is, and its bytes."""

    case: Case
    number: int
    data: bytes

    @property
    def path(self) -> str:
        """As the case names it."""
        return self.case.pictures[self.number].path


def sources(project: Project | None, cases: Sequence[Case]) -> Iterator[Shown]:
    """Each picture of the cases whose bytes are here."""

    named = PictureFolder(Path(), None)
    own = {case.id: case for case in project.cases} if project else {}
    for case in cases:
        folder = project.pictures if project and own.get(case.id) is case else named
        for number, picture in enumerate(case.pictures):
            if not is_remote(picture):
                yield Shown(case, number, folder.read(picture.path))


def kilobytes(count: int) -> str:
    """A number of bytes for the eye."""
    return f"{count / 1000:.1f} kB" if count < 10_000_000 else f"{count / 1_000_000:.1f} MB"


def tokens_and_money(part: Prepared, model: Model) -> tuple[int, Spending | None]:
    """What a picture counts as with a model, and what that costs beside the words and the request itself."""

    assert model.picture_tokens is not None
    tokens = model.picture_tokens.of((part.width, part.height))
    price = model.price.model_copy(update={"request": None}) if model.price else None
    return tokens, Spending.of(price, tokens, 0, pictures=1)


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
    counts = [_count(*tokens_and_money(part, model)) for model in models.values()]
    size = f"{part.width} × {part.height}"
    return [shot_label(part, several), size, kilobytes(len(part.data)), *counts, preparation_note(part)]


def _count(tokens: int, spent: Spending | None) -> str:
    return f"{tokens} tokens" + ("" if spent is None else f", {spent.amount:.5f} {spent.currency}")


def caption(part: Prepared, prep: str, models: Mapping[str, Model], several: int) -> list[str]:
    """The lines below a picture on the contact sheet."""
    head = ": ".join(filter(None, (shortened(prep, 34), shot_label(part, several))))
    kept = ", as stored" if part.as_stored else ""
    kind = part.media_type.partition("/")[2]
    lines = [head, f"{part.width} x {part.height}, {kind}, {kilobytes(len(part.data))}{kept}"]
    for name, model in models.items():
        tokens, spent = tokens_and_money(part, model)
        lines.append(f"{name}: {tokens} tokens" + (f", {spent.amount:.5f} {spent.currency}" if spent else ""))
    return lines + [preparation_note(part)] * bool(preparation_note(part))


def picture_record(part: Prepared, models: Mapping[str, Model]) -> dict[str, Any]:
    """All of it in plain values; `to_source` maps its points back to the source's stored pixels."""
    counted = {}
    for name, model in models.items():
        tokens, spent = tokens_and_money(part, model)
        counted[name] = {"tokens": tokens, "money": {spent.currency: spent.amount} if spent else {}}
    return {
        "size": [part.width, part.height],
        "bytes": len(part.data),
        "media_type": part.media_type,
        "shot": part.shot.number,
        "time": part.shot.time,
        "part": part.part + 1,
        "as_stored": part.as_stored,
        "stretch": round(part.layout.stretch(), 4),
        "to_source": list(part.layout.to_stored(part.part)),
        "models": counted,
    }


MOST_ROWS = 60
_TOLD_EVERY = 500


@dataclass
class _File:
    """A file with the cases that name it."""

    path: str
    cases: list[str] = field(default_factory=list)
    found: Inspection | None = None
    wrong: list[str] = field(default_factory=list)


def inspect_all(project: Project, arguments: argparse.Namespace) -> int:
    """Look at every picture."""
    files: dict[str, _File] = {}
    for case in project.cases:
        for picture in case.pictures:
            files.setdefault(picture.path, _File(picture.path)).cases.append(case.id)
    every = list(files.values())
    with ThreadPoolExecutor(2) as pool:
        for number, _ in enumerate(pool.map(lambda one: _look(project, one), every), 1):
            if number % _TOLD_EVERY == 0:
                say_aside(f"{number} of {len(every)} pictures looked at")
    _twice(every)
    if arguments.json:
        print_json({"pictures": [_document(one) for one in every]})
    else:
        _print(every, arguments.all)
    return DONE


def _look(project: Project, one: _File) -> None:

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
