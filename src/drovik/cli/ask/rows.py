"""`drovik ask --rows`: a question about the picture of each row of a table, and its answer into empty cells."""

from __future__ import annotations

import argparse
import asyncio
import os
import re
import sys
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import require_sendable
from drovik.cli.ask.answer_files import answer_of
from drovik.cli.ask.shown import AnswerPrinter, endpoints_of
from drovik.cli.ask.waiting import Waiting
from drovik.cli.printing import say, strip_controls
from drovik.cli.sending import until_stopped
from drovik.errors import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE, DrovikError, Problem, UsageError, known_words
from drovik.text import counted

if TYPE_CHECKING:
    from drovik.planning.requests import Request
    from drovik.planning.sources import AdhocQuestion
    from drovik.project.cases import Picture
    from drovik.project.settings import ProjectFile
    from drovik.transport.dispatcher import Dispatcher
    from drovik.transport.outcomes import AttemptEnd
    from drovik.transport.queue import Tally
    from drovik.workflow.services import Services

_MOST_SAID = 10
"""Rows without a picture that are named one by one."""
_VARIABLE = re.compile(r"\{\{\s*([^{}]+?)\s*\}\}")


def add_rows_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of asking about the rows of a table."""
    parser.add_argument("--rows", type=Path, metavar="TABLE", help="ask about each row of a table: CSV, TSV or XLSX")
    parser.add_argument("--picture", metavar="COLUMN", help="the column that names the picture: a path or an address")
    parser.add_argument("--fill", metavar="COLUMN,…", help="the columns that answers go into, where they are empty")
    parser.add_argument(
        "--into", type=Path, metavar="FILE", help="write the table there, and leave the old one alone"
    )
    parser.add_argument("--explode", metavar="/PLACE", help="a list in the answer becomes rows (with --into)")


def ask_rows(arguments: argparse.Namespace, services: Services, settings: ProjectFile, schema: Any) -> int:
    """Ask about the rows whose cells are empty, and fill them."""
    _require_whole(arguments)
    going_on = arguments.into is not None and arguments.into.exists() and not arguments.explode
    table = workflow.PersonTable(arguments.into if going_on else arguments.rows)
    if going_on:
        _require_same(table, workflow.PersonTable(arguments.rows), arguments)
    table.require(arguments.picture)
    fill = tuple(one.strip() for one in (arguments.fill or "").split(",") if one.strip())
    if schema is None and len(fill) > 1:
        schema = _schema_of_columns(fill)
    question = workflow.question_with(services, list(settings.models), arguments.asked, arguments.system, schema)
    filling = Filling(arguments, table, fill, question, settings, services)
    filling.take_over()
    rows = filling.open_rows()
    for number in rows:
        filling.alike.setdefault((filling.picture(number), filling.text(number)), []).append(number)
    asked = _send(filling, services, settings, rows, arguments) if rows else None
    filling.finish()
    left = len(filling.open_rows())
    where = arguments.into or arguments.rows
    did = f"{counted(filling.filled, 'cell')} filled" if fill else f"{counted(filling.made, 'row')} written"
    say(f"{where}: {did}{f', {left} of {len(table)} rows still to be asked' if left else ''}.")
    if filling.unfit:
        say(
            f"{filling.unfit} of {len(rows)} answers did not fit, and filled nothing: --show-reply shows them.",
            style="yellow",
        )
    if asked is not None and asked.interrupted:
        return INTERRUPTED
    return NO_SERVICE if asked is not None and asked.missing else DOES_NOT_HOLD if filling.unfit else DONE


def _require_whole(arguments: argparse.Namespace) -> None:
    if not arguments.picture or not (arguments.fill or arguments.explode):
        what = "--rows needs the column of the picture, and those to fill"
        raise UsageError(Problem(what, 'write it like --rows t.csv --picture photo --fill company,street "Read it."'))
    if arguments.explode and (arguments.into is None or arguments.fill):
        raise UsageError(
            Problem("--explode makes rows, so it goes with --into and without --fill", "give --into FILE")
        )
    if arguments.explode and arguments.into.exists() and not arguments.force:
        raise UsageError(Problem("is there already", "give another --into, or --force", str(arguments.into)))
    for option in ("out", "table", "keep"):
        if getattr(arguments, option):
            raise UsageError(Problem(f"--rows and --{option} both say where answers go", "give one of them"))
    if arguments.repeat > 1 or len(arguments.model or ()) > 1:
        raise UsageError(Problem("--rows fills each cell once", "give one --model, and no --repeat"))


def _require_same(there: workflow.PersonTable, given: workflow.PersonTable, arguments: argparse.Namespace) -> None:
    """A table to go on with has the rows of the one that it was made of."""
    same = there.columns[: len(given.columns)] == given.columns and len(there) == len(given)
    if not same and not arguments.force:
        what = f"is there already, and was not made of {arguments.rows}"
        raise UsageError(Problem(what, "give another --into, or --force", str(arguments.into)))


def _schema_of_columns(names: Sequence[str]) -> dict[str, Any]:
    members = {name: {"type": ["string", "null"]} for name in names}
    return {"type": "object", "properties": members, "required": list(names), "additionalProperties": False}


class Filling:
    """The rows of a table on their way to their answers."""

    def __init__(
        self,
        arguments: argparse.Namespace,
        table: workflow.PersonTable,
        fill: tuple[str, ...],
        question: AdhocQuestion,
        settings: ProjectFile,
        services: Services,
    ) -> None:
        self.table, self.fill, self.question, self._arguments = table, fill, question, arguments
        self._services, self._models = services, list(settings.models)
        names = [one for one in _VARIABLE.findall(question.text) if one not in table.columns]
        if names:
            raise UsageError(
                Problem(f"the question names a column '{names[0]}'", known_words(names[0], table.columns))
            )
        asked = {"text": question.text, "system": question.system, "schema": question.schema}
        models = {name: one.canonical() for name, one in settings.models.items()}
        mark = workflow.digest({"asked": asked, "models": models, "fill": fill})[:12]
        self._before = _state(table.path)
        self.journal = workflow.Journal(arguments.into or arguments.rows, mark)
        self._reader = workflow.Reader("json" if question.schema is not None else "text", question.schema)
        self.filled = self.made = self.unfit = 0
        self.alike: dict[tuple[str, str], list[int]] = {}
        table.add_columns(fill)

    def says(self, number: int) -> str:
        """What a row says, beside what is filled."""
        return workflow.says_of(self.table.row(number), self.fill)

    def take_over(self) -> None:
        """Put what an earlier run got, and did not come to write, into the table."""
        for number in range(len(self.table)):
            key = (number, self.says(number))
            if key in self.journal.found:
                self._put(number, self.journal.found[key])

    def open_rows(self) -> list[int]:
        """The rows that have a picture and an empty cell, or no rows yet of their own."""
        return [number for number in range(len(self.table)) if self._is_open(number)]

    def _is_open(self, number: int) -> bool:
        row = self.table.row(number)
        if not row[self._arguments.picture].strip() or (number, self.says(number)) in self.journal.found:
            return False
        return not self.fill or any(not row[name].strip() for name in self.fill)

    def text(self, number: int) -> str:
        """The question about a row, with what its columns say."""
        row = self.table.row(number)
        return _VARIABLE.sub(lambda match: row[match[1]], self.question.text)

    def picture(self, number: int) -> str:
        """The picture of a row: an address, or a path from the table's folder, or from here."""
        word = self.table.row(number)[self._arguments.picture].strip()
        beside = self._arguments.rows.parent / word
        return word if "://" in word or not beside.is_file() else str(beside)

    def take(self, number: int, request: Request, ending: AttemptEnd) -> None:
        """Keep an answer that came, and put it into the table: into every row that asks the same."""
        answer = answer_of(self._reader, ending)
        if answer.status is not workflow.Status.OK:
            self.unfit += 1
            return
        kept = answer.value if self.question.schema is not None else answer.text.strip()
        for one in self.alike.get((self.picture(number), self.text(number)), [number]):
            self.journal.add(one, self.says(one), kept)
            self._put(one, kept)

    def _put(self, number: int, kept: Any) -> None:
        if self.fill:
            values = kept if isinstance(kept, dict) else {self.fill[0]: kept}
            self.filled += self.table.fill(number, {name: values.get(name) for name in self.fill})

    def finish(self) -> None:
        """Write the table; the journal goes once all of it is in there.

        :raises UsageError: where somebody has changed the table meanwhile: what came stays in the journal.
        """
        arguments = self._arguments
        if arguments.into is None and _state(self.table.path) != self._before:
            what = f"was changed meanwhile, so nothing was written; what came is in {self.journal.path}"
            raise UsageError(
                Problem(what, "ask again: it is taken from there and not asked for again", str(arguments.rows))
            )
        if arguments.explode:
            self._write_rows()
        else:
            self.table.save(arguments.into)
        if not self.open_rows() or self.fill:
            self.journal.remove()

    def _write_rows(self) -> None:
        """The lists of the answers as rows, each with the columns of the row that it came of."""
        made: list[dict[str, Any]] = []
        for number in range(len(self.table)):
            key = (number, self.says(number))
            if key in self.journal.found:
                row = self.table.row(number)
                made += [row | one for one in workflow.exploded(self.journal.found[key], self._arguments.explode)]
        self.made = len(made)
        workflow.write_rows(self._arguments.into, self.table.columns, made)


def _state(path: Path) -> tuple[int, int]:
    state = os.stat(path)
    return state.st_mtime_ns, state.st_size


def _send(
    filling: Filling, services: Services, settings: ProjectFile, rows: Sequence[int], arguments: argparse.Namespace
) -> Any:
    """Ask about rows, each answer kept as it comes."""
    by_name = {f"row {number + 2}": number for number in rows}
    with tempfile.TemporaryDirectory(prefix="drovik-") as folder, Waiting() as waiting:
        cases = _cases(filling, by_name, workflow.wants_bytes(services, list(settings.models)), Path(folder))
        question = replace(filling.question, texts={name: filling.text(number) for name, number in by_name.items()})

        def take(request: Request, ending: AttemptEnd) -> None:
            filling.take(by_name[request.case.id], request, ending)

        hears = AnswerPrinter(False, take, waiting)
        require_sendable(services, endpoints_of(settings), arguments.trust)
        with workflow.Store(Path(folder) / "store" / "asked.sqlite") as store:
            asking = workflow.ask_adhoc(
                services, settings, question, cases, store, listener=hears, run=partial(_run, waiting)
            )
            asked, _ = asyncio.run(asking)
    for problem in asked.troubles:
        print(strip_controls(problem.line()), file=sys.stderr)
    return asked


def _cases(
    filling: Filling, by_name: Mapping[str, int], wants_bytes: bool, folder: Path
) -> list[tuple[str, list[Picture]]]:
    """The rows with their pictures; those whose picture cannot be had are said, and left out."""
    cases = []
    problems: list[Problem] = []
    for name, number in by_name.items():
        place = folder / str(number)
        place.mkdir()
        try:
            words = workflow.sort_words([filling.picture(number)], "")
            given = workflow.named_pictures(words, place, wants_bytes)
            cases.append((name, [one.picture for one in given]))
        except DrovikError as error:
            problems += [one._replace(file=name, place=one.file) for one in error.problems]
    for one in problems[:_MOST_SAID]:
        print(strip_controls(one.line()), file=sys.stderr)
    if len(problems) > _MOST_SAID:
        print(f"… and {len(problems) - _MOST_SAID} more rows without a picture", file=sys.stderr)
    if not cases:
        raise UsageError(Problem("no row has a picture that can be had", "check the column that --picture names"))
    return cases


async def _run(waiting: Waiting, dispatcher: Dispatcher) -> Tally:
    waiting.tally = dispatcher.tally
    return await until_stopped(dispatcher)
