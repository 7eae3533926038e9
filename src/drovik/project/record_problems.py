"""What is wrong with a record that a person wrote, out of pydantic's words: where, what, and what to write."""

from __future__ import annotations

import types
import typing
from collections.abc import Iterable, Iterator, Sequence
from decimal import Decimal
from typing import Any

from pydantic import BaseModel, ValidationError

from drovik.errors import Problem, known_words
from drovik.project.former_names import remedy_for
from drovik.text import cut

PATTERN_WORDS = {
    r"^[A-Z]{3}$": "three capitals, like EUR",
    r"^/": "a path from the root, like /answer",
    r"^https?://": "an address, like https://HOST/PATH",
    r"^postgres(ql)?://.": "an address, like postgresql://HOST/DATABASE",
    r"^[A-Za-z_][A-Za-z0-9_]*$": "the name of a variable, like DESK_KEY",
    r"^[a-z_][a-z0-9_]*$": "a word of small letters, digits and _",
    r"^[^\s/@:,*]+$": "a name without spaces and any of / @ : , *",
    r"^(white|black|gray|#[0-9a-fA-F]{6})$": "white, black, gray or a colour, like #f0f0f0",
}
"""What a text has to be that is to fit a pattern."""


def problems_of(error: ValidationError, record: type[BaseModel], shown: str, place: str = "") -> list[Problem]:
    """Each error of a pydantic validation as a Problem, unknown keys with the nearest known one."""
    # Where a value may be one thing or another there is an error for each: the one that came nearest is reported.
    by_place: dict[tuple[str | int, ...], list[Any]] = {}
    for one in error.errors():
        branch = next(iter(_branches(record, one["loc"])), len(one["loc"]))
        by_place.setdefault(one["loc"][:branch], []).append(one)
    problems = []
    for every in by_place.values():
        nearest = min(every, key=_how_far_off)
        problem = _problem_of(nearest, _keys_in(record, nearest["loc"]), record, shown, place)
        before = nearest["loc"][:-1]
        if len(before) in _branches(record, nearest["loc"]):
            beside = [one for one in every if one["loc"][:-1] == before]
            words = [_word(one, shown) for one in beside]
            if all(words):
                problem = problem._replace(remedy=f"write {_any_of(words)}")
        problems.append(problem)
    return problems


def _any_of(words: Iterable[str]) -> str:
    *others, last = dict.fromkeys(words)
    return f"{', '.join(others)} or {last}" if others else last


def _is_of_another_kind(one: Any) -> bool:
    """Whether a value is not what is wrong about a thing, but another thing altogether."""
    return bool(one["type"] == "literal_error" or one["type"].endswith(("_type", "_parsing", "_from_float")))


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
            # Of a record whose members are held against each other this is "function-after[…, Prep]".
            name = str(part).rstrip("]")
            kind = next((one for one in kinds if _is_record(one) and name.endswith(one.__name__)), None)
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
    far = 2 if error["type"] == "literal_error" else 1 if _is_of_another_kind(error) else 0
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
    word = _word(one, shown)
    if word and one["type"] != "literal_error":
        remedy = f"write {word}"
    elif what.startswith("Input"):
        remedy = what.replace("Input should be", "it should be", 1)
    else:
        remedy = what[:1].lower() + what[1:]
    return Problem(f"{got} will not do", remedy, shown, here)


def _word(one: Any, shown: str) -> str:
    """What kind of thing it should have been; empty where pydantic's own words are better."""
    table = "a table, like { NAME = … }" if shown.endswith(".toml") else 'an object, like {"NAME": …}'
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
    if one["type"] == "literal_error":
        return str(one["msg"]).removeprefix("Input should be ")
    if one["type"] == "string_pattern_mismatch":
        return PATTERN_WORDS.get(one["ctx"]["pattern"], "")
    return plain.get(one["type"].partition("_")[0], "") if _is_of_another_kind(one) else ""


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
