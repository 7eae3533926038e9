"""Where the answers about a folder of pictures go: a file beside each name, or a row each in one table."""

from __future__ import annotations

import argparse
import csv
import io
import json
import os
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.errors import Problem, UsageError
from drovik.files import read_text, write_whole
from drovik.reporting.cells import RISKY, guarded

if TYPE_CHECKING:
    from drovik.planning.requests import Request
    from drovik.planning.sources import AdhocQuestion
    from drovik.project.settings import ProjectFile
    from drovik.transport.outcomes import AttemptEnd
    from drovik.workflow.asking import AskResult
    from drovik.workflow.picture_arguments import NamedPicture


COLUMNS = (
    "picture",
    "model",
    "time",
    "status",
    "answer",
    "input_tokens",
    "output_tokens",
    "money",
    "currency",
    "seconds",
)
MARK = "asked"
MOST_TABLE_BYTES = 1_000_000_000
"""A larger table is not read back whole: whoever has one works with a project."""


def known_by(name: str) -> str:
    """What a name is read back as from its cell."""
    return _bare(guarded(name))


class AnswerTable:
    """A CSV file of answers: rows are added as they come, and those that are there are not asked for again.

    :param fields: the names of an answer's members that get columns of their own.
    :param mark: a digest of what is asked: rows of another question are not answers to this one.
    :raises DrovikError: where the file is not such a table, or cannot be written.
    """

    def __init__(self, path: Path, fields: Sequence[str], mark: str) -> None:
        self._path, self._fields, self._mark = path, tuple(fields), mark
        self._columns = [*COLUMNS[:5], *(f"answer.{name}" for name in fields), *COLUMNS[5:], MARK]
        self.there = self._read()

    def _read(self) -> set[tuple[str, str, int]]:
        if not os.path.lexists(self._path) or (self._path.is_file() and self._path.stat().st_size == 0):
            self._write([self._columns], "w")
            return set()
        try:
            text = read_text(self._path, str(self._path), MOST_TABLE_BYTES)
            reader = csv.DictReader(io.StringIO(text, newline=""))
            columns, rows = list(reader.fieldnames or []), list(reader)
        except csv.Error as error:
            raise UsageError(Problem(f"cannot be read: {error}", "give another file", str(self._path))) from None
        if columns != self._columns:
            what = "is a table with other columns"
            raise UsageError(Problem(what, "give another file, or ask for the same fields", str(self._path)))
        whole = [row for row in rows if None not in row.values() and row[MARK] and row["time"].isdigit()]
        if len(whole) < len(rows) or not self._ends_whole():
            self._write([self._columns, *([row[name] for name in self._columns] for row in whole)], "w")
        return {(_bare(row["picture"]), row["model"], int(row["time"])) for row in whole if row[MARK] == self._mark}

    def _ends_whole(self) -> bool:
        """Whether the last row was written to its end, and not broken off by a kill."""
        with self._path.open("rb") as file:
            file.seek(-1, os.SEEK_END)
            return file.read() == b"\n"

    def add(self, name: str, model: str, time: int, answer: workflow.Answer) -> None:
        """Add a row."""
        value = answer.value if isinstance(answer.value, dict) else {}
        spent = answer.spent
        row = [name, model, time, answer.status, answer.text, *(value.get(one) for one in self._fields)]
        row += [answer.input_tokens, answer.output_tokens, f"{spent.amount:f}" if spent else None]
        row += [spent.currency if spent else None, answer.seconds and round(answer.seconds, 3), self._mark]
        self._write([row], "a")

    def put_in_order(self, order: Sequence[tuple[str, str, int]]) -> None:
        """Put the rows of this question into an order; the others stay before them, as they are."""
        places = {(known_by(name), model, time): number for number, (name, model, time) in enumerate(order)}
        text = read_text(self._path, str(self._path), MOST_TABLE_BYTES)
        _, *rows = csv.reader(io.StringIO(text, newline=""))
        at = {name: number for number, name in enumerate(self._columns)}

        def place(row: Sequence[str]) -> int:
            known = (_bare(row[at["picture"]]), row[at["model"]], int(row[at["time"]]))
            return places.get(known, -1) if row[at[MARK]] == self._mark else -1

        ordered = sorted(rows, key=place)
        if ordered != rows:
            self._write([self._columns, *ordered], "w", guard=False)

    def _write(self, rows: Sequence[Sequence[Any]], mode: str, guard: bool = True) -> None:
        target = self._path if mode == "a" else self._path.with_name(f".{self._path.name}.{os.getpid()}")
        try:
            with target.open(mode, encoding="utf-8", newline="") as file:
                made = [[guarded(cell) for cell in row] for row in rows] if guard else rows
                csv.writer(file, lineterminator="\n").writerows(made)
            if mode == "w":
                target.replace(self._path)
        except OSError as error:
            raise UsageError(
                Problem(f"cannot be written: {error.strerror}", "check its folder", str(self._path))
            ) from None


def _bare(cell: str) -> str:
    return cell[1:] if cell.startswith("'") and cell[1:2] in RISKY else cell


class AnswerFolder:
    """A folder with a file for each answer: text, or JSON where the answer has a schema.

    Which question each file answers is kept beside them, so that another question does not write over it unseen.

    :param form: what the answers are; `several_models`, `several_times`: whether those are a part of the names.
    :param mark: a digest of what is asked.
    :param cases: what is asked about: the pictures' own paths name the files.
    :raises DrovikError: where it cannot be made.
    """

    def __init__(
        self,
        path: Path,
        form: str,
        several_models: bool,
        several_times: bool,
        mark: str,
        cases: Sequence[tuple[str, Sequence[NamedPicture]]],
    ) -> None:
        self._path, self._ending, self._mark = path, "json" if form == "json" else "txt", mark
        self._models, self._times = several_models, several_times
        self._names = _file_names(cases)
        try:
            path.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise UsageError(Problem(f"cannot be made: {error.strerror}", "give another folder", str(path))) from None
        self._marks = self._read_marks()

    def _read_marks(self) -> dict[str, str]:
        try:
            kept = json.loads((self._path / MARKS).read_text("utf-8"))
        except (OSError, ValueError):
            return {}
        return {str(name): str(mark) for name, mark in kept.items()} if isinstance(kept, dict) else {}

    def file(self, name: str, model: str, time: int) -> Path:
        """The file of an answer."""
        parts = [self._names.get(name, name.replace("/", "-")), *([model] if self._models else [])]
        parts += [*([str(time)] if self._times else []), self._ending]
        return self._path / ".".join(part.replace("\0", "") for part in parts)

    def has(self, name: str, model: str, time: int) -> bool:
        """Whether an answer to this question is there."""
        file = self.file(name, model, time)
        return file.exists() and self._marks.get(self._key(file)) == self._mark

    def _key(self, file: Path) -> str:
        return str(file.relative_to(self._path))

    def require_free(self, places: Iterable[tuple[str, str, int]]) -> None:
        """Require that no file is there which is none of Drovik's, or answers another question.

        :raises DrovikError: where there is one.
        """
        taken = [file for one in places if not self.has(*one) and os.path.lexists(file := self.file(*one))]
        if taken:
            more = f" (and {len(taken) - 1} more)" if len(taken) > 1 else ""
            what = f"is there already{more}, and is no answer to this question"
            raise UsageError(Problem(what, "give another --out, or --force to write over it", str(taken[0])))

    def add(self, name: str, model: str, time: int, answer: workflow.Answer) -> None:
        """Write an answer."""
        text = answer.text
        if self._ending == "json" and answer.value is not None:
            text = json.dumps(answer.value, ensure_ascii=False, indent=1)
        file = self.file(name, model, time)
        file.parent.mkdir(parents=True, exist_ok=True)
        write_whole(file, text.rstrip("\n") + "\n")
        self._marks[self._key(file)] = self._mark
        write_whole(self._path / MARKS, json.dumps(self._marks, ensure_ascii=False, indent=0) + "\n")


MARKS = ".asked.json"
"""The file that says which question each file of a folder of answers answers."""


def _file_names(cases: Sequence[tuple[str, Sequence[NamedPicture]]]) -> dict[str, str]:
    """What the file of each case is called: the picture's path in its folder; its whole path where two are alike."""
    inside = {name: given[0].inside if len(given) == 1 and given[0].inside else name for name, given in cases}
    counts = Counter(inside.values())
    return {
        name: one if counts[one] == 1 and ".." not in Path(one).parts else name.replace("/", "-")
        for name, one in inside.items()
    }


class Files:
    """The files that answers go to as they come."""

    def __init__(
        self,
        arguments: argparse.Namespace,
        settings: ProjectFile,
        question: AdhocQuestion,
        several: bool,
        cases: Sequence[tuple[str, Sequence[NamedPicture]]],
    ) -> None:

        form = "json" if question.schema is not None else "text"
        self._reader = workflow.Reader(form, question.schema)
        fields = list((question.schema or {}).get("properties", {}))
        asked = {"text": question.text, "system": question.system, "schema": question.schema}
        models = {name: one.canonical() for name, one in settings.models.items()}
        preps = {name: one.canonical() for name, one in settings.preps.items()}
        self.mark = workflow.digest({"asked": asked, "models": models, "preps": preps})[:12]
        times = range(1, arguments.repeat + 1)
        self._order = [(name, model, time) for name, _ in cases for model in models for time in times]
        self.table: AnswerTable | None = AnswerTable(arguments.table, fields, self.mark) if arguments.table else None
        self.folder: AnswerFolder | None = None
        if arguments.out:
            self.folder = AnswerFolder(arguments.out, form, several, arguments.repeat > 1, self.mark, cases)
            if not arguments.force:
                self.folder.require_free(self._order)
        self.there = 0
        self.written = 0
        self._taken: set[tuple[str, str, int]] = set()

    @property
    def files(self) -> bool:
        """Whether answers go to files at all."""
        return self.table is not None or self.folder is not None

    def wanted(self, name: str, model: str, time: int) -> bool:
        """Whether there is no answer yet in one of the files."""
        lacks = self.table is not None and (known_by(name), model, time) not in self.table.there
        lacks |= self.folder is not None and not self.folder.has(name, model, time)
        wanted = lacks or not self.files
        self.there += not wanted
        return wanted

    def finish(self, asked: AskResult) -> None:
        """Write the answers that several share, and put the rows into the order in which they were asked for."""
        for one in asked.answers if self.files else ():
            if (one.request.case.id, one.model, one.request.repeat) not in self._taken:
                self._write(one.request, one.answer)
        if self.table is not None and self.written:
            self.table.put_in_order(self._order)

    def take(self, request: Request, ending: AttemptEnd) -> None:
        """Write an answer that came."""
        if not self.files:
            return
        self._write(request, answer_of(self._reader, ending))

    def _write(self, request: Request, answer: workflow.Answer) -> None:
        place = (request.case.id, request.arm.model_name, request.repeat)
        if self.table is not None and (known_by(place[0]), *place[1:]) not in self.table.there:
            self.table.add(*place, answer)
        if self.folder is not None:
            self.folder.add(*place, answer)
        self._taken.add(place)
        self.written += 1


def answer_of(reader: Any, ending: AttemptEnd) -> workflow.Answer:
    """The answer in a reply that has just come."""

    parsed, reply = ending.parsed, ending.reply
    assert parsed is not None
    assert reply is not None
    found = reader.read(parsed.text, parsed.cut_off, parsed.refused)
    spent = reply.spent()
    tokens = (reply.model, reply.input_tokens, reply.output_tokens, spent, ending.seconds)
    return workflow.Answer(found.status, found.how, parsed.text, found.value, found.errors, parsed.note, *tokens)
