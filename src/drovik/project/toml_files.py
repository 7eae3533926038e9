"""TOML files into frozen pydantic records; every error becomes a Problem with its place in the file.

Names of settings and options that were called otherwise before: the old are unknown, and lead to the new.
"""

from __future__ import annotations

import copy
import types
import typing
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any, Self, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from drovik import files
from drovik.errors import DrovikError, Problem, known_words
from drovik.text import cut

SETTINGS = {
    "at_once": "concurrency", "tries": "max_tries", "patience": "give_up_after", "sees": "takes_pictures",
    "lives": "valid_for", "second_try": "repair_turn", "own": "function", "likeness": "similarity",
    "held": "held_out",
}  # fmt: skip
OPTIONS = {"--most": "--budget", "--again": "--resend", "--doubtful": "--suspects", "--instead": "--break-even"}


def remedy_for(name: str) -> str | None:
    """What to write in place of a former name; None where it is none."""
    new = SETTINGS.get(name) or OPTIONS.get(name)
    return f"it is '{new}' now" if new else None


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


def problems_of(error: ValidationError, record: type[BaseModel], shown: str, place: str = "") -> list[Problem]:
    """Each error of a pydantic validation as a Problem, unknown keys with the nearest known one."""
    chosen: dict[tuple[str | int, ...], Any] = {}
    for one in error.errors():
        loc = one["loc"]
        branch = next(iter(_branches(record, loc)), len(loc))
        # Where a value may be one thing or another there is an error for each: the one that came nearest is reported.
        chosen[loc[:branch]] = min(chosen.get(loc[:branch], one), one, key=_how_far_off)
    return [_problem_of(one, _keys_in(record, one["loc"]), record, shown, place) for one in chosen.values()]


def _keys_in(record: type[BaseModel], loc: Sequence[str | int]) -> list[str | int]:
    """A place without pydantic's names for one of several types."""
    branches = _branches(record, loc)
    return [part for number, part in enumerate(loc) if number not in branches]


def _branches(record: type[BaseModel], loc: Sequence[str | int]) -> list[int]:
    """Which parts of a place are no keys but pydantic's names for one of several types."""
    found = []
    kind: Any = record
    for number, part in enumerate(loc):
        kinds = _kinds_of(kind)
        if len(kinds) > 1:
            found.append(number)
            kind = next((one for one in kinds if getattr(one, "__name__", "") == part), None)
        else:
            kind = _inner(kinds[0], part) if kinds else None
    return found


def _kinds_of(kind: Any) -> list[Any]:
    """The types that a value may be of, beside None."""
    if typing.get_origin(kind) is typing.Annotated:
        return _kinds_of(typing.get_args(kind)[0])
    if typing.get_origin(kind) in (typing.Union, types.UnionType):
        return [one for inner in typing.get_args(kind) if inner is not type(None) for one in _kinds_of(inner)]
    return [] if kind is None else [kind]


def _how_far_off(error: Any) -> tuple[int, int]:
    kind = error["type"]
    far = 2 if kind == "literal_error" else 1 if kind.endswith(("_type", "_parsing", "_from_float")) else 0
    return far, -len(error["loc"])


def _problem_of(one: Any, loc: Sequence[str | int], record: type[BaseModel], shown: str, place: str) -> Problem:
    here = _dotted(place, loc)
    if one["type"] == "extra_forbidden":
        known = _keys_at(record, loc[:-1])
        return Problem(
            f"unknown key '{loc[-1]}'",
            remedy_for(str(loc[-1])) or known_words(str(loc[-1]), known),
            shown,
            _dotted(place, loc[:-1]),
        )
    if one["type"] == "missing":
        return Problem(f"'{loc[-1]}' is missing", "add it", shown, _dotted(place, loc[:-1]))
    what = str(one["msg"]).removeprefix("Value error, ").removeprefix("Assertion failed, ")
    if one["type"] in ("value_error", "one_rule"):
        return Problem(what, "", shown, here)
    got = repr(one["input"])
    got = cut(got, 60)
    if one["type"] == "decimal_parsing" or isinstance(one["input"], Decimal):
        got = str(one["input"])
    return Problem(f"{got} will not do", _wanted(one["type"], what, shown.endswith(".toml")), shown, here)


def _wanted(kind: str, what: str, is_toml: bool) -> str:
    """What to write instead, out of pydantic's words for what it should have been."""
    table = "a table, like { NAME = … }" if is_toml else 'an object, like {"NAME": …}'
    plain = {
        "bool": "true or false",
        "int": "a whole number",
        "float": "a number",
        "string": "a text",
        "decimal": "a number",
        "dict": table,
        "model": table,
        "list": "a list, like [ … ]",
        "tuple": "a list, like [ … ]",
    }
    family = kind.partition("_")[0]
    if kind.endswith(("_parsing", "_type")) and family in plain:
        return f"write {plain[family]}"
    return (
        what.replace("Input should be", "it should be", 1)
        if what.startswith("Input")
        else what[:1].lower() + what[1:]
    )


def _dotted(place: str, loc: Sequence[str | int]) -> str:
    return ".".join([place] * bool(place) + [str(part) for part in loc])


def _keys_at(record: type[BaseModel], loc: Sequence[str | int]) -> list[str]:
    """The keys that are known where `loc` leads, found by walking the types of the record's fields."""
    kind: Any = record
    for part in loc:
        kinds = _kinds_of(_inner(kind, part))
        kind = next((one for one in kinds if _is_record(one)), kinds[0] if kinds else None)
    return list(dict.fromkeys(_keys_of(kind))) if _is_record(kind) else []


def _is_record(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, BaseModel)


def _inner(kind: Any, part: str | int) -> Any:
    """The type of what lies at a key of a record, or in a list or table; None where that is not known."""
    if _is_record(kind):
        by_name = {field.alias or name: field.annotation for name, field in kind.model_fields.items()}
        return by_name.get(str(part))
    inner = typing.get_args(kind)
    return inner[-1] if inner else None


def _keys_of(kind: type[BaseModel]) -> Iterator[str]:
    """A record's own keys; of one that only stands for several kinds of it, all of theirs."""
    yield from (field.alias or name for name, field in kind.model_fields.items())
    if not kind.model_fields:
        for one in kind.__subclasses__():
            yield from _keys_of(one)
            for inner in one.__subclasses__():
                yield from _keys_of(inner)
