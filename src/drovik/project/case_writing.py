"""Writing into the file of the cases: a region of a case's picture, or cases made of one case. All else stays."""

from __future__ import annotations

import csv
import io
import json
import tempfile
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from drovik.errors import Problem, ProjectError
from drovik.files import read_text, write_whole
from drovik.project.case_reading import read_cases
from drovik.project.case_rows import csv_cells_of, row_of
from drovik.project.cases import Case
from drovik.project.tasks import Task

MOST_BYTES = 1_000_000_000
"""Of the file of the cases, which is changed as a whole."""


def write_region(folder: Path, source: str, case_id: str, picture: int, name: str, box: Sequence[float]) -> None:
    """Put a region into a case; one of the same name is replaced.

    :param source: what `cases` in drovik.toml says.
    :param picture: which of the case's pictures, counted from 0; a case with one keeps its regions at the case.
    :raises DrovikError: where the cases are a folder, or the file cannot be written.
    """

    def changed(row: dict[str, Any]) -> None:
        images = row["images"]
        if len(images) == 1 and isinstance(images[0], str):
            row.setdefault("regions", {})[name] = list(box)
            return
        one = images[picture]
        images[picture] = {"path": one} if isinstance(one, str) else one
        images[picture].setdefault("regions", {})[name] = list(box)

    path = _file(folder, source)
    if path.suffix.lower() == ".csv":
        cell = " ".join(f"{one:g}" for one in box)
        _change_csv(path, case_id, {f"region.{name}": cell}, [])
    else:
        _change_lines(path, case_id, changed, [])


def write_cases(folder: Path, source: str, case_id: str, rows: Sequence[Mapping[str, Any]]) -> None:
    """Put cases behind the one they were made of, which stays.

    :param rows: as they are in JSON Lines; each has `id` and `images`.
    :raises DrovikError: as `write_region` does.
    """
    path = _file(folder, source)
    if path.suffix.lower() == ".csv":
        _change_csv(path, case_id, {}, [_csv_cells(row) for row in rows])
    else:
        _change_lines(path, case_id, lambda row: None, [json.dumps(row, ensure_ascii=False) for row in rows])


def add_cases(
    folder: Path, source: str, cases: Sequence[Case], replaced: Collection[str], tasks: Sequence[Task],
    null_word: str | None,
) -> None:  # fmt: skip
    """Put cases behind those that are there; some take the place of the one with their id.

    :param replaced: the ids of those.
    :param tasks: their schemas give the types of CSV columns.
    :raises DrovikError: as `write_region` does, and where a CSV file has no columns for a case.
    """
    path = _file(folder, source)
    new = [one for one in cases if one.id not in replaced]
    instead = {one.id: one for one in cases if one.id in replaced}
    if path.suffix.lower() == ".csv":
        columns, rows = _csv_rows(path)
        found = [csv_cells_of(instead[row["id"]], null_word) if row["id"] in instead else row for row in rows]
        found += [csv_cells_of(one, null_word) for one in new]
        columns += [one for one in dict.fromkeys(name for row in found for name in row) if one not in columns]
        text = _csv_text(columns, found)
        _require_kept(text, source, cases, tasks, null_word)
        write_whole(path, text)
        return
    lines = read_text(path, path.name, MOST_BYTES).rstrip("\n").split("\n")
    for number, line in enumerate(lines):
        id_ = json.loads(line).get("id") if line.strip() else None
        if id_ in instead:
            lines[number] = json.dumps(row_of(instead[id_]), ensure_ascii=False)
    lines += [json.dumps(row_of(one), ensure_ascii=False) for one in new]
    write_whole(path, "\n".join(one for one in lines if one) + "\n")


def _require_kept(
    text: str, source: str, cases: Sequence[Case], tasks: Sequence[Task], null_word: str | None
) -> None:
    """See that a CSV file gives back what cases were written into it.

    :raises ProjectError: where it does not: it has no column for a second picture without a tag, say, nor a type.
    """
    with tempfile.TemporaryDirectory() as name:
        write_whole(Path(name) / "cases.csv", text)
        back = {one.id: row_of(one) for one in read_cases(Path(name), "cases.csv", tasks, [], null_word)}
    for one in cases:
        if back.get(one.id) != row_of(one):
            what = f"case '{one.id}' has what a CSV file has no column or no type for"
            raise ProjectError(
                Problem(what, "write your cases as JSON Lines, and name that file in drovik.toml", source)
            )


def write_split(folder: Path, source: str, held_out: Collection[str]) -> int:
    """Mark the cases that are held out, and no others; lines that say so already stay as they are.

    :return: how many lines were changed.
    :raises DrovikError: as `write_region` does.
    """
    path = _file(folder, source)
    changed = 0
    if path.suffix.lower() == ".csv":
        columns, rows = _csv_rows(path)
        for row in rows:
            wanted = "held_out" if row["id"] in held_out else ""
            if (row.get("split") or "").replace("tune", "") != wanted:
                row["split"] = wanted
                changed += 1
        _write_csv(path, columns if "split" in columns else [*columns, "split"], rows)
        return changed
    lines = read_text(path, path.name, MOST_BYTES).rstrip("\n").split("\n")
    for number, line in enumerate(lines):
        row = json.loads(line) if line.strip() else {}
        if "id" in row and (row.get("split") == "held_out") != (row["id"] in held_out):
            lines[number] = _marked(line, row, row["id"] in held_out)
            changed += 1
    write_whole(path, "\n".join(lines) + "\n")
    return changed


def write_expected(folder: Path, source: str, case_id: str, task: str, value: Any, filled: Mapping[str, Any]) -> None:
    """Put an expected output into a case, with who did so and from what.

    :param filled: `by`, `from`, `at`, `unchanged`.
    :raises DrovikError: as `write_region` does; CSV has no place for it.
    """

    def changed(row: dict[str, Any]) -> None:
        row.setdefault("expected", {})[task] = value
        row.setdefault("filled", {})[task] = dict(filled)

    path = _file(folder, source)
    if path.suffix.lower() == ".csv":
        remedy = "write the cases as JSON Lines, and name that file in drovik.toml"
        raise ProjectError(Problem("CSV has no place for who filled in an expected output", remedy, source))
    _change_lines(path, case_id, changed, [])


def _marked(line: str, row: dict[str, Any], held_out: bool) -> str:
    """A line with its split; where it had none, the rest of it stays letter by letter."""
    if held_out and "split" not in row:
        return f'{line.rstrip().removesuffix("}")}, "split": "held_out"}}'
    rest = {name: value for name, value in row.items() if name != "split"}
    return json.dumps({**rest, "split": "held_out"} if held_out else rest, ensure_ascii=False)


def _file(folder: Path, source: str) -> Path:
    path = folder / source
    if path.is_dir():
        remedy = "write the cases as JSON Lines or CSV, and name that file in drovik.toml"
        raise ProjectError(Problem("a folder of pictures has no place for this", remedy, source))
    return path


def _change_lines(path: Path, case_id: str, change: Any, behind: list[str]) -> None:
    lines = read_text(path, path.name, MOST_BYTES).rstrip("\n").split("\n")
    for number, line in enumerate(lines):
        row = json.loads(line) if line.strip() else {}
        if row.get("id") == case_id:
            before = json.dumps(row)
            change(row)
            if json.dumps(row) != before:
                lines[number] = json.dumps(row, ensure_ascii=False)
            lines[number + 1 : number + 1] = behind
            break
    write_whole(path, "\n".join(lines) + "\n")


def _change_csv(path: Path, case_id: str, cells: Mapping[str, str], behind: list[dict[str, str]]) -> None:
    columns, rows = _csv_rows(path)
    columns += [
        one for one in dict.fromkeys([*cells, *(name for row in behind for name in row)]) if one not in columns
    ]
    found: list[Mapping[str, str]] = []
    for row in rows:
        if row["id"] == case_id:
            found += [{**row, **cells}, *behind]
        else:
            found.append(row)
    _write_csv(path, columns, found)


def _csv_rows(path: Path) -> tuple[list[str], list[dict[str, str]]]:
    """The columns of a file, and its rows."""
    reader = csv.DictReader(io.StringIO(read_text(path, path.name, MOST_BYTES), newline=""))
    return list(reader.fieldnames or ()), list(reader)


def _write_csv(path: Path, columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> None:
    write_whole(path, _csv_text(columns, rows))


def _csv_text(columns: Sequence[str], rows: Iterable[Mapping[str, str]]) -> str:
    out = io.StringIO()
    writer = csv.DictWriter(out, columns, restval="", lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()


def _csv_cells(row: Mapping[str, Any]) -> dict[str, str]:
    image = row["images"][0]
    if not isinstance(image, str):
        remedy = "write the cases as JSON Lines, and name that file in drovik.toml"
        raise ProjectError(Problem("CSV has no column for the page of a document", remedy))
    cells = {"id": row["id"], "image": image, "group": row.get("group", "")}
    return cells | {f"given.{name}": str(value) for name, value in row.get("given", {}).items()}
