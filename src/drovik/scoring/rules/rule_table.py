"""The table of field rules by name. A new rule is one class and one row."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from drovik.errors import Problem, known_words
from drovik.parsing.schema_errors import pointer
from drovik.project.toml_files import validated
from drovik.scoring.extensions import added, extensions
from drovik.scoring.rules.formula import Formula
from drovik.scoring.rules.nested import FieldNode, List, Record
from drovik.scoring.rules.quantities import Amount, Date, Number, Time
from drovik.scoring.rules.rule import (
    AbsentValue,
    AnyValue,
    Code,
    Exact,
    NearText,
    OneOf,
    Rule,
    TextRule,
    YesNo,
)
from drovik.scoring.rules.text_rules import PostalAddress

RULES: dict[str, type[Rule]] = {
    "exact": Exact,
    "text": TextRule,
    "near": NearText,
    "number": Number,
    "amount": Amount,
    "date": Date,
    "time": Time,
    "code": Code,
    "one_of": OneOf,
    "yes_no": YesNo,
    "address": PostalAddress,
    "formula": Formula,
    "list": List,
    "record": Record,
    "anything": AnyValue,
    "absent": AbsentValue,
}


def read_nodes(
    table: Mapping[str, Mapping[str, Any]], file: str, place: str, problems: list[Problem]
) -> tuple[FieldNode, ...]:
    """The fields of a table, each by its rule; what is wrong is added to `problems` and left out.

    :param place: of the table in the file.
    """
    found = [_node(name, row, file, f"{place}.{name}", problems) for name, row in table.items()]
    return tuple(node for node in found if node is not None)


def _node(name: str, row: Mapping[str, Any], file: str, place: str, problems: list[Problem]) -> FieldNode | None:
    kind = row.get("rule", "exact")
    known_rule = RULES.get(kind) or added("drovik.rules", str(kind), Rule)
    if known_rule is None:
        known = known_words(str(kind), [*RULES, *extensions("drovik.rules")])
        problems.append(Problem(f"there is no rule '{kind}'", known, file, f"{place}.rule"))
        return None
    rule: Rule | None = validated(
        known_rule, {key: value for key, value in row.items() if key != "rule"}, file, problems, place
    )
    if rule is None:
        return None
    where = rule.at if rule.at is not None else pointer([name])
    if isinstance(rule, Record):
        return FieldNode(name, where, rule, read_nodes(rule.fields, file, f"{place}.fields", problems))
    if isinstance(rule, List):
        item = _item(rule, file, place, problems)
        return None if item is None else FieldNode(name, where, rule, (item,))
    return FieldNode(name, where, rule)


def _item(rule: List, file: str, place: str, problems: list[Problem]) -> FieldNode | None:
    if rule.fields is not None and rule.item is not None:
        problems.append(Problem("a list has 'item' or 'fields', not both", "take one out", file, place))
        return None
    if rule.fields is not None:
        below = read_nodes(rule.fields, file, f"{place}.fields", problems)
        return FieldNode("", "", Record(fields=rule.fields or {"": {}}), below) if below else None
    item = _node("", {"at": "", **(rule.item or {})}, file, f"{place}.item", problems)
    return item
