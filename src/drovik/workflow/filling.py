"""What came for the rows of a person's table, kept at once beside it until it is in the table.

An answer is paid for when it comes, and a table is written whole: so each answer goes to a journal first. After a
kill the next run takes it from there.
"""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from drovik.errors import Problem, UsageError
from drovik.project.arms import digest


class Journal:
    """The answers to the rows of one table and one question, in a file beside the table.

    :param mark: a digest of what is asked.
    """

    def __init__(self, table: Path, mark: str) -> None:
        self.path = table.with_name(f".{table.name}.answers")
        self._mark = mark
        self.found = self._read()

    def _read(self) -> dict[tuple[int, str], Any]:
        """What is there, by the row and a digest of what it says."""
        found: dict[tuple[int, str], Any] = {}
        try:
            lines = self.path.read_text("utf-8").splitlines()
        except OSError:
            return found
        for line in lines:
            try:
                one = json.loads(line)
                if one["mark"] == self._mark:
                    found[int(one["row"]), str(one["says"])] = one["answer"]
            except (ValueError, KeyError, TypeError):  # a line that a kill broke off
                continue
        return found

    def add(self, row: int, says: str, answer: Any) -> None:
        """Keep an answer.

        :raises UsageError: where it cannot be written.
        """
        line = json.dumps({"row": row, "says": says, "mark": self._mark, "answer": answer}, ensure_ascii=False)
        try:
            with self.path.open("a", encoding="utf-8") as file:
                file.write(line + "\n")
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise UsageError(
                Problem(f"cannot be written: {error.strerror}", "check its folder", str(self.path))
            ) from None
        self.found[row, says] = answer

    def remove(self) -> None:
        """All of it is in the table."""
        self.path.unlink(missing_ok=True)


def says_of(row: dict[str, str], without: tuple[str, ...]) -> str:
    """A digest of what a row says beside the cells that are filled."""
    return digest({name: value for name, value in row.items() if name not in without})[:16]
