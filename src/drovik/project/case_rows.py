"""Cases as rows: what `drovik export` writes of them, what a table or a project holds, and what goes into a file."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from drovik.project.cases import Case, Picture

CASE_COLUMNS = ("id", "images", "given", "expected", "group", "split", "refusal", "regions")
"""The members of a case; those that are no text are written as JSON."""
_AS_JSON = ("images", "given", "expected", "refusal", "regions")


def row_of(case: Case) -> dict[str, Any]:
    """A case as one JSON object; what it does not have is left out."""
    row: dict[str, Any] = {"id": case.id, "images": [_picture(one) for one in case.pictures]}
    more = {
        "given": dict(case.given), "expected": dict(case.expected), "group": case.group,
        "split": "" if case.split == "tune" else case.split, "refusal": sorted(case.refusal),
        "regions": _plain_regions(case.regions),
    }  # fmt: skip
    return row | {name: value for name, value in more.items() if value}


def _picture(one: Picture) -> str | dict[str, Any]:
    more = {"tag": one.tag, "address": one.address, "page": one.page, "regions": _plain_regions(one.regions)}
    kept = {name: value for name, value in more.items() if value}
    return {"path": one.path, **kept} if kept else one.path


def _plain_regions(regions: Mapping[str, Any]) -> dict[str, Any]:
    return {name: [_number(edge) for edge in box] for name, box in regions.items()}


def _number(edge: Any) -> float:
    return int(edge) if edge == int(edge) else float(edge)


def cells_of(case: Case) -> tuple[str | None, ...]:
    """A case in `CASE_COLUMNS`."""
    row = row_of(case)
    return tuple(
        json.dumps(row[name], ensure_ascii=False) if name in _AS_JSON and name in row else row.get(name)
        for name in CASE_COLUMNS
    )


def row_of_cells(cells: Mapping[str, Any]) -> dict[str, Any]:
    """The JSON object of a case that was written in `CASE_COLUMNS`, by whichever kind of file; other columns are
    passed over.

    :raises ValueError: where a cell should be JSON and is none.
    """
    found: dict[str, Any] = {}
    for name in CASE_COLUMNS:
        cell = cells.get(name)
        if cell not in (None, ""):
            found[name] = json.loads(cell) if name in _AS_JSON and isinstance(cell, str) else cell
    return found


def is_exported(columns: Iterable[str]) -> bool:
    """Whether a table has cases as `drovik export` writes them, and not as a person does."""
    return {"id", "images"} <= set(columns)


def csv_cells_of(case: Case, null_word: str | None) -> dict[str, str]:
    """A case in the columns of a table of cases that a person writes, as far as there are columns for it.

    :param null_word: what stands for null.
    """
    cells = {"id": case.id, "group": case.group or "", "split": "" if case.split == "tune" else case.split}
    cells |= {f"image.{one.tag}" if one.tag else "image": one.path for one in case.pictures}
    cells |= {f"region.{name}": " ".join(map(str, box)) for name, box in _plain_regions(case.regions).items()}
    cells |= dict(_leaves("given", case.given, null_word))
    cells |= dict(_leaves("expected", case.expected, null_word))
    return {name: cell for name, cell in cells.items() if cell != ""}


def _leaves(path: str, value: Any, null_word: str | None) -> Iterator[tuple[str, str]]:
    if isinstance(value, Mapping) and value:
        for name, inner in value.items():
            yield from _leaves(f"{path}.{name}", inner, null_word)
    elif value is None:
        yield path, null_word or ""
    else:
        yield path, value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
