"""A measure for a task that has none: drafted by its schema, and such as takes what is expected of its cases."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from drovik.parsing.schema_errors import pointer
from drovik.project.schema_inference import DATE_PATTERN
from drovik.project.tasks import Task
from drovik.scoring.catalogue import measure_class
from drovik.scoring.json_pointer import ABSENT
from drovik.scoring.measure import read_table
from drovik.scoring.rules.rule_table import read_nodes

_RULES = {"string": "text", "integer": "number", "number": "number", "boolean": "yes_no"}
_MOST_FIELDS = 20
"""Fields of a drafted measure: more are for a person to choose from."""
_NAMES_BOXES = re.compile(r"(?:bounding_?|b)?box(?:es)?", re.IGNORECASE)
_DATES = {"format": ("date", "date-time"), "pattern": (DATE_PATTERN,)}

Values = Sequence[Any]
"""What is expected at some place; of cases where nothing is, there is none."""


def drafted_measure(task: Task, expected: Values = ()) -> str:
    """A measure as TOML to paste into a task's question: a label, boxes, fields, or a text.

    :param expected: expected outputs of the task, all of which it is to take.
    """
    if task.form == "text":
        return '[measures.words]\ntype = "text"'
    for name, kind, table in _of_one_member(task):
        if _takes(task, kind, table, expected):
            lines = [f"{key} = {_toml(value)}" for key, value in table.items()]
            return "\n".join([f"[measures.{name}]", f'type = "{kind}"', *lines])
    rows = [f"{_key(name)} = {_toml(rule)}" for name, rule in _fields(task.schema or {}, expected).items()]
    return "\n".join(['[measures.fields]\ntype = "fields"\n', "[measures.fields.fields]", *rows])


def _of_one_member(task: Task) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """Measures that look at one member, where the schema suggests some: name, type, table."""
    properties = _properties(task.schema)
    for name, schema in properties.items():
        own = name if _is_bare(name) else ""
        texts = _texts_of(schema)
        if len(properties) == 1 and texts and None not in texts:
            yield own or "label", "label", {"at": pointer([name]), "labels": texts}
        if len(properties) <= 2 and "array" in _kinds(schema) and _NAMES_BOXES.fullmatch(name):
            yield own or "boxes", "boxes", {"at": pointer([name])}


def _takes(task: Task, kind: str, table: Mapping[str, Any], expected: Values) -> bool:
    """Whether a measure finds something in all that is expected, and nothing wrong with it."""
    made = measure_class(kind)
    problems: list[Any] = []
    read = read_table(made, table, "", task, problems) if made is not None else None
    measure = made.make("", read, task, "", problems) if made is not None and read is not None else None
    if measure is None or problems:
        return False
    parts = [measure.expected_of(one) for one in expected]
    return not any(one is ABSENT or measure.check_expected(one) for one in parts)


def _fields(schema: Mapping[str, Any], expected: Values) -> dict[str, dict[str, Any]]:
    """Fields with their rules. An answer that has no members is a field as a whole."""
    properties = _properties(schema)
    if properties:
        some = list(properties.items())[:_MOST_FIELDS]
        return {name: _rule(one, _members(expected, name)) for name, one in some}
    return {"answer": {**_rule(schema, expected), "at": ""}} if expected else {"NAME": {"rule": "text"}}


def _rule(schema: Any, values: Values) -> dict[str, Any]:
    """The rule of a field: as its schema suggests, if that takes all that is expected."""
    for rule in (_suggested(schema, values), {"rule": "text"}):
        problems: list[Any] = []
        nodes = read_nodes({"one": {**rule, "at": ""}}, "", "", problems)
        if nodes and not problems and not any(True for one in values for _ in nodes[0].check_expected(one)):
            return rule
    return {"rule": "exact"}


def _suggested(schema: Any, values: Values) -> dict[str, Any]:
    if not isinstance(schema, Mapping):
        return {"rule": "text"}
    if texts := [one for one in _texts_of(schema) if one is not None]:
        return {"rule": "one_of", "values": texts}
    kind = next((one for one in _kinds(schema) if one != "null"), "")
    if kind == "string" and any(schema.get(key) in forms for key, forms in _DATES.items()):
        return {"rule": "date"}
    if kind == "array":
        elements = [element for one in values if isinstance(one, list) for element in one]
        return {"rule": "list", "item": _rule(schema.get("items"), elements)}
    if kind == "object" and _properties(schema):
        inner = {name: _rule(one, _members(values, name)) for name, one in _properties(schema).items()}
        return {"rule": "record", "fields": inner}
    return {"rule": _RULES.get(kind, "text")}


def _members(values: Values, name: str) -> list[Any]:
    return [one[name] for one in values if isinstance(one, Mapping) and name in one]


def _properties(schema: Any) -> Mapping[str, Any]:
    found = schema.get("properties") if isinstance(schema, Mapping) else None
    return found if isinstance(found, Mapping) else {}


def _kinds(schema: Any) -> list[str]:
    found = schema.get("type", []) if isinstance(schema, Mapping) else []
    return found if isinstance(found, list) else [found]


def _texts_of(schema: Any) -> list[str | None]:
    """The texts that a schema lists, None where nothing may be there; empty where it lists other values."""
    listed = schema.get("enum") if isinstance(schema, Mapping) else None
    if not isinstance(listed, list) or not all(one is None or isinstance(one, str) for one in listed):
        return []
    return listed


def _is_bare(name: str) -> bool:
    """Whether a name is a key in TOML as it is."""
    return name.isascii() and name.replace("_", "").replace("-", "").isalnum()


def _key(name: str) -> str:
    return name if _is_bare(name) else _toml(name)


def _toml(value: Any) -> str:
    """A text, a list or a table on one line, as TOML."""
    if isinstance(value, Mapping):
        return f"{{ {', '.join(f'{_key(name)} = {_toml(one)}' for name, one in value.items())} }}"
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
