"""JSON Schema 2020-12 for answers: whether a schema is one, and a validator that fetches nothing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

from drovik.problems import Problem

if TYPE_CHECKING:
    from jsonschema import Draft202012Validator

_METASCHEMA = "https://json-schema.org/draft/2020-12/"
_HOLDING_SCHEMAS = ("properties", "patternProperties", "$defs", "definitions", "dependentSchemas")
_NOT_SCHEMAS = ("enum", "const", "default", "examples")


def validator_for(schema: Mapping[str, Any]) -> Draft202012Validator:
    """A validator whose references stay inside the schema: nothing is ever fetched."""
    from jsonschema import Draft202012Validator
    from referencing import Registry

    return Draft202012Validator(dict(schema), registry=Registry())


def check_schema(schema: object, file: str) -> list[Problem]:
    """All that is wrong with a schema: not 2020-12, not valid, or refers to something elsewhere."""
    from jsonschema import Draft202012Validator

    if not isinstance(schema, dict):
        return [Problem("a schema is a JSON object", 'start it like {"type": "object"}', file)]
    problems = []
    dialect = schema.get("$schema")
    if dialect is not None and not str(dialect).startswith(_METASCHEMA):
        remedy = f"set it to {_METASCHEMA}schema"
        problems.append(Problem(f"'{dialect}' is another version of JSON Schema", remedy, file, "/$schema"))
    for error in Draft202012Validator(Draft202012Validator.META_SCHEMA).iter_errors(schema):
        place = "/" + "/".join(str(part) for part in error.absolute_path)
        problems.append(Problem(f"no valid JSON Schema: {error.message[:200]}", "mend it there", file, place))
    for place, reference in _references(schema, ""):
        problem = _check_reference(schema, place, reference, file)
        if problem:
            problems.append(problem)
    return problems


def _check_reference(schema: dict[str, Any], place: str, reference: str, file: str) -> Problem | None:
    from referencing import Registry, Resource
    from referencing.exceptions import Unresolvable
    from referencing.jsonschema import DRAFT202012

    if reference.startswith(_METASCHEMA):
        return None
    if not reference.startswith("#") and reference != schema.get("$id"):
        what = f"refers to '{reference}', which would have to be fetched"
        return Problem(what, "copy it into $defs and refer to '#/$defs/NAME'", file, place)
    try:
        resource: Resource[Any] = Resource.from_contents(schema, default_specification=DRAFT202012)
        Registry().with_resource(schema.get("$id", ""), resource).resolver(schema.get("$id", "")).lookup(reference)
    except (Unresolvable, ValueError):
        return Problem(f"refers to '{reference}', which is not there", "define it under $defs", file, place)
    return None


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
