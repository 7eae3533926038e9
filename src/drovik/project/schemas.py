"""JSON Schema 2020-12 for answers: whether a schema is one, and a checker that fetches nothing and ends in time.

A schema and what is checked against it are strangers' work. The checker's own depth is bounded; patterns are
regular expressions of ECMA 262, as the standard has them, of an engine that gives up after a bounded number of
steps; references lead nowhere outside of the schema.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, NamedTuple
from urllib.parse import unquote

from jsonschema_rs import Draft202012Validator, FancyRegexOptions, ValidationError

from drovik.errors import Problem
from drovik.files import depth_exceeds

_METASCHEMA = "https://json-schema.org/draft/2020-12/"
_HOLDING_SCHEMAS = ("properties", "patternProperties", "$defs", "definitions", "dependentSchemas")
_NOT_SCHEMAS = ("enum", "const", "default", "examples")
_MOST_DEPTH = 200
"""Deeper than this the checker may give up: its own bound is 255, on schema and value together."""
BACKTRACKS = 1_000_000
"""Steps back that a pattern may take on one text: some hundredths of a second."""
_LARGEST = 10**300
"""Larger whole numbers are beyond what a double can hold, and are checked as if they were this."""

_ECMA = re.compile(r"\\.|\[\^\]|\[\]|\[(?:\\.|[^\]\\])*\]", re.DOTALL)


class Mismatch(NamedTuple):
    """One place where a value does not fit: the steps to it, the schema's keyword, what that wants, all in words."""

    steps: tuple[str | int, ...]
    rule: str
    wanted: Any
    words: str


class SchemaChecker:
    """A schema, compiled once.

    :raises ValueError: where it is none; see `check_schema`.
    """

    def __init__(self, schema: Mapping[str, Any]) -> None:
        self._schema = schema
        self._validator = _compiled(schema)

    def mismatches(self, value: Any, most: int) -> list[Mismatch]:
        """The first places where a value does not fit."""
        try:
            return self._first_of(value, most)
        except UnicodeEncodeError:
            return self._first_of(_checkable(value), most)

    def _first_of(self, value: Any, most: int) -> list[Mismatch]:
        try:
            return [self._mismatch(error, value) for error in islice(self._validator.iter_errors(value), most)]
        except UnicodeEncodeError:
            raise
        except ValueError as error:
            is_deep = depth_exceeds(value, _MOST_DEPTH)
            words = "is nested too deeply to be checked" if is_deep else f"cannot be checked: {str(error)[:100]}"
            return [Mismatch((), "depth", None, words)]

    def _mismatch(self, error: ValidationError, whole: Any) -> Mismatch:
        rule = str(error.kind.name)
        if rule == "falseSchema":
            return _not_allowed(error, whole)
        if rule in ("backtrackLimitExceeded", "regexEngineFailure"):
            words = "its pattern took too long to be looked for"
            return Mismatch(tuple(error.instance_path), "pattern", None, words)
        return Mismatch(tuple(error.instance_path), rule, self._wanted(error), _first_line(error.message))

    def _wanted(self, error: ValidationError) -> Any:
        """What the schema says at the keyword, as you wrote it; for a missing or an unknown member, its name."""
        facts = error.kind.as_dict()
        if error.kind.name in ("required", "additionalProperties", "unevaluatedProperties"):
            return facts.get("property", facts.get("unexpected"))
        part: Any = self._schema
        for step in error.schema_path:
            if step == "$ref" or not isinstance(part, dict | list):
                return next(iter(facts.values()), None)
            try:
                part = part[step]  # type: ignore[index]
            except (KeyError, IndexError, TypeError):
                return next(iter(facts.values()), None)
        return part


def _not_allowed(error: ValidationError, whole: Any) -> Mismatch:
    """What `false` in a schema rules out; of an object without any known member the checker names none."""
    steps = tuple(error.instance_path)
    if error.schema_path and error.schema_path[-1] == "additionalProperties":
        for step in steps:
            whole = whole[step]
        return Mismatch(steps, "additionalProperties", list(whole), _first_line(error.message))
    return Mismatch(steps, "falseSchema", None, "is not allowed here")


def _first_line(text: str) -> str:
    return text[:400].partition("\n")[0]


def _compiled(schema: Mapping[str, Any]) -> Draft202012Validator:

    options = FancyRegexOptions(backtrack_limit=BACKTRACKS)
    return Draft202012Validator(_translated(schema), pattern_options=options, retriever=_fetch_nothing)


def _fetch_nothing(address: str) -> Any:
    raise ValueError(f"{address} would have to be fetched")


def _checkable(value: Any) -> Any:
    """A value as the checker can hold it: no halves of characters, no infinity, no number of a thousand digits."""
    if isinstance(value, str):
        return value if value.isascii() else value.encode("utf-8", "replace").decode("utf-8")
    if isinstance(value, dict):
        return {_checkable(name): _checkable(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [_checkable(inner) for inner in value]
    if isinstance(value, float) and math.isinf(value):
        return math.copysign(1.7e308, value)
    if isinstance(value, int) and not isinstance(value, bool) and abs(value) > _LARGEST:
        return _LARGEST if value > 0 else -_LARGEST
    return value


def _translated(schema: Any) -> Any:
    """A schema whose patterns have the engine's spelling of what only ECMA 262 writes so."""
    if isinstance(schema, list):
        return [_translated(one) for one in schema]
    if not isinstance(schema, dict):
        return schema
    found: dict[str, Any] = {}
    for key, value in schema.items():
        if key == "pattern" and isinstance(value, str):
            found[key] = _pattern(value)
        elif key == "patternProperties" and isinstance(value, dict):
            found[key] = {_pattern(str(name)): _translated(inner) for name, inner in value.items()}
        elif key in _HOLDING_SCHEMAS and isinstance(value, dict):
            found[key] = {name: _translated(inner) for name, inner in value.items()}
        else:
            found[key] = value if key in _NOT_SCHEMAS else _translated(value)
    return found


def _pattern(text: str) -> str:
    r"""A pattern of ECMA 262 with `[^]`, `[]`, `\0` and a backspace in a class (`[\b]`) in another spelling."""

    def spelled(match: re.Match[str]) -> str:
        piece = match[0]
        if piece in ("[^]", "[]"):
            return r"[\s\S]" if piece == "[^]" else r"(?!)"
        if piece[0] == "[":
            return re.sub(r"\\.", lambda one: {r"\b": r"\x08", r"\0": r"\x00"}.get(one[0], one[0]), piece, flags=re.S)
        return r"\x00" if piece == r"\0" else piece

    return _ECMA.sub(spelled, text)


def check_schema(schema: object, file: str) -> list[Problem]:
    """All that is wrong with a schema: not 2020-12, not valid, or refers to something elsewhere."""
    if not isinstance(schema, dict):
        return [Problem("a schema is a JSON object", 'start it like {"type": "object"}', file)]
    problems = []
    dialect = schema.get("$schema")
    if dialect is not None and not str(dialect).startswith(_METASCHEMA):
        remedy = f"set it to {_METASCHEMA}schema"
        problems.append(Problem(f"'{dialect}' is another version of JSON Schema", remedy, file, "/$schema"))
    for found in SchemaChecker({"$ref": f"{_METASCHEMA}schema"}).mismatches(schema, 20):
        what = f"not a valid JSON Schema: {found.words[:200]}"
        problems.append(Problem(what, "correct it there", file, _place(found.steps)))
    for place, reference in _references(schema, ""):
        if not reference.startswith(("#", _METASCHEMA)) and reference != schema.get("$id"):
            what = f"refers to '{reference}', which would have to be fetched"
            problems.append(Problem(what, "copy it into $defs and refer to '#/$defs/NAME'", file, place))
        elif reference.startswith("#/") and not _is_there(schema, reference):
            what = f"refers to '{reference}', which is not there"
            problems.append(Problem(what, "define it under $defs", file, place))
    return problems or _check_compiled(schema, file)


def _check_compiled(schema: dict[str, Any], file: str) -> list[Problem]:
    """What only compiling shows: patterns that are none, or too large; anchors that are not there."""

    try:
        _compiled({key: value for key, value in schema.items() if key != "$schema"})
    except (ValidationError, ValueError) as error:
        place = _place(getattr(error, "instance_path", ()))
        what = f"not a valid JSON Schema: {_first_line(str(error))[:200]}"
        return [Problem(what, "correct it there", file, place)]
    return []


def _is_there(schema: Any, reference: str) -> bool:

    part = schema
    for step in unquote(reference[2:]).split("/"):
        name = step.replace("~1", "/").replace("~0", "~")
        if isinstance(part, list) and name.isdecimal() and int(name[:9]) < len(part):
            part = part[int(name[:9])]
        elif isinstance(part, dict) and name in part:
            part = part[name]
        else:
            return False
    return True


def _place(steps: Sequence[object]) -> str:
    return "/" + "/".join(str(part) for part in steps)


def _references(part: object, place: str) -> Iterator[tuple[str, str]]:
    """Each `$ref` and `$dynamicRef` of a schema with its place; values that are data are passed over."""
    if isinstance(part, list):
        for number, one in enumerate(part):
            yield from _references(one, f"{place}/{number}")
    if not isinstance(part, dict):
        return
    for key, value in part.items():
        if key in ("$ref", "$dynamicRef") and isinstance(value, str):
            yield f"{place}/{key}", value
        elif key in _HOLDING_SCHEMAS and isinstance(value, dict):
            for name, inner in value.items():
                yield from _references(inner, f"{place}/{key}/{name}")
        elif key not in _NOT_SCHEMAS:
            yield from _references(value, f"{place}/{key}")
