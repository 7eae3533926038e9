"""TOML files into frozen pydantic records; every error becomes a Problem with its place in the file."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any, Self, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from drovik import files
from drovik.errors import DrovikError, Problem
from drovik.project.record_problems import problems_of

Record = TypeVar("Record", bound="Frozen")
Got = TypeVar("Got")


class Frozen(BaseModel):
    """A record that a person wrote: immutable, and no key in it goes unread."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", strict=False, arbitrary_types_allowed=True, defer_build=True
    )
    """Built when first read: most commands read few of the records that there are."""

    def changed(self, **values: Any) -> Self:
        """A copy with other values; what was computed from the old ones and kept is not taken along."""
        copied = self.model_copy(update=values)
        for name in set(copied.__dict__) - set(type(self).model_fields):
            del copied.__dict__[name]
        return copied


def plain_numbers(value: Any) -> Any:
    """What TOML's reader gave as `Decimal`, as the numbers that JSON has."""
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, dict):
        return {name: plain_numbers(inner) for name, inner in value.items()}
    return [plain_numbers(inner) for inner in value] if isinstance(value, list) else value


def collected(problems: list[Problem], read: Callable[..., Got], *arguments: Any) -> Got | None:
    """What a function of `drovik.files` reads, or None after adding to `problems` why it cannot be read."""
    try:
        return read(*arguments)
    except DrovikError as error:
        problems.extend(error.problems)
        return None


def read_text(path: Path, shown: str, problems: list[Problem]) -> str | None:
    """The text of a UTF-8 file, or None after adding to `problems` why it cannot be read."""
    return collected(problems, files.read_text, path, shown)


def read_toml(path: Path, shown: str, problems: list[Problem]) -> dict[str, Any] | None:
    """The table of a TOML file, its decimals as `Decimal`; None after adding to `problems` why not."""
    text = read_text(path, shown, problems)
    return None if text is None else collected(problems, files.parse_toml, text, shown)


def read_json(path: Path, shown: str, problems: list[Problem]) -> Any:
    """The value of a JSON file; None after adding to `problems` why not."""
    return collected(problems, files.read_json, path, shown)


def validated(
    record: type[Record], table: Mapping[str, Any], shown: str, problems: list[Problem], place: str = ""
) -> Record | None:
    """`table` as a `record`, after adding every error in it to `problems`.

    What is wrong is left out of the record, so that the rest can be checked in the same go; nobody
    works on a project with problems. None where too little is left to be a record.

    :param place: where in the file the table stands; it goes before each error's own place.
    """
    try:
        return record.model_validate(table)
    except ValidationError as error:
        problems.extend(problems_of(error, record, shown, place))
        rest = copy.deepcopy(dict(table))
        for one in error.errors():
            _leave_out(rest, one["loc"] if one["type"] == "extra_forbidden" else one["loc"][:2])
    try:
        return record.model_validate(rest)
    except ValidationError:
        return None


def _leave_out(tree: Any, loc: Sequence[str | int]) -> None:
    for part in loc[:-1]:
        tree = tree.get(part) if isinstance(tree, dict) else None
    if isinstance(tree, dict):
        tree.pop(loc[-1], None)
