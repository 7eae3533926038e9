"""Measures that would look at nothing, found before anything is sent."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from drovik.errors import Problem, known_words
from drovik.project.cases import Case
from drovik.project.tasks import Task
from drovik.scoring.json_pointer import ABSENT, pointer_steps
from drovik.scoring.measure import Measure, expected_at
from drovik.scoring.measures.fields import Fields

_DEEPEST = 20
"""References of a schema to itself are followed so far."""


def check_looked_at(task: Task, measures: Sequence[Measure], cases: Sequence[Case]) -> list[Problem]:
    """Measures that find nothing to look at: in an answer that is text, by the schema, or in any expected output."""
    written = {one.name: one for one in task.measures}
    problems: list[Problem] = []
    for measure in measures:
        own = written.get(measure.name)
        if own is None or own.type == "judge" or own.turn is not None:
            continue
        problems += (
            _of_text(task, measure, own.table) if task.form == "text" else _of_schema(task, measure, own.table)
        )
        expected = [case for case in cases if task.name in case.expected]
        if expected and all(expected_at(measure, task, case) is ABSENT for case in expected):
            what = (
                f"none of the {len(expected)} expected outputs has anything at {own.table.get('at') or 'its place'}"
            )
            remedy = known_words(str(own.table.get("at", "")), _places(expected[0].expected[task.name]))
            problems.append(Problem(what, remedy, task.file, f"measures.{measure.name}.at"))
    return problems


def _of_text(task: Task, measure: Measure, table: Mapping[str, Any]) -> Iterator[Problem]:
    for name in ("at", "confidence"):
        if table.get(name) and measure.kind not in ("boxes", "points", "regions"):
            what = f"the answer is text, so there is nothing at {table[name]}"
            remedy = f'take {name} out, or ask for JSON: form = "json"'
            yield Problem(what, remedy, task.file, f"measures.{measure.name}.{name}")
    if isinstance(measure, Fields) and table.get("pattern") is None:
        what = "the answer is text, so it has no fields"
        remedy = "say where they are by pattern, such as '^result: (?P<result>.+)$', or ask for JSON"
        yield Problem(what, remedy, task.file, f"measures.{measure.name}")


def _of_schema(task: Task, measure: Measure, table: Mapping[str, Any]) -> Iterator[Problem]:
    if task.schema is None:
        return
    places = [(f"fields.{node.place}", node.place) for node in measure.nodes] if isinstance(measure, Fields) else []
    places += [("at", table["at"])] if table.get("at") else []
    if measure.kind == "label" and table.get("confidence"):
        places.append(("confidence", table["confidence"]))
    for name, pointer in places:
        if schema_lacks(task.schema, task.schema, pointer_steps(pointer)):
            what = f"the schema of the answer has nothing at {pointer}"
            remedy = known_words(pointer, _schema_places(task.schema))
            yield Problem(what, remedy, task.file, f"measures.{measure.name}.{name}")


def schema_lacks(schema: Any, root: Mapping[str, Any], steps: Sequence[str], depth: int = 0) -> bool:
    """Whether no valid answer can have anything at a place; False where the schema leaves it open.

    :param root: the whole schema, which references are looked up in.
    """
    if schema is False:
        return True
    if not steps or not isinstance(schema, Mapping) or depth > _DEEPEST:
        return False
    if isinstance(schema.get("$ref"), str):
        return schema_lacks(_referred(schema["$ref"], root), root, steps, depth + 1)
    for word in ("anyOf", "oneOf"):
        parts = schema.get(word)
        if isinstance(parts, list) and parts and all(schema_lacks(one, root, steps, depth + 1) for one in parts):
            return True
    if any(schema_lacks(one, root, steps, depth + 1) for one in schema.get("allOf", ())):
        return True
    kinds = schema.get("type")
    kinds = {kinds} if isinstance(kinds, str) else set(kinds or ("object", "array"))
    step, *rest = steps
    lacks = []
    if "object" in kinds:
        own = schema.get("properties", {})
        # Patterns of names are not followed: they leave open what they stand for.
        other = True if schema.get("patternProperties") else schema.get("additionalProperties", True)
        lacks.append(schema_lacks(own.get(step, other), root, rest, depth + 1))
    if "array" in kinds:
        lacks.append(not step.isdigit() or schema_lacks(schema.get("items", True), root, rest, depth + 1))
    return all(lacks)


def _referred(reference: str, root: Mapping[str, Any]) -> Any:
    found: Any = root
    for step in reference.removeprefix("#").strip("/").split("/"):
        if step:
            found = found.get(step, True) if isinstance(found, Mapping) else True
    return found if reference.startswith("#") else True


def _schema_places(schema: Mapping[str, Any]) -> list[str]:
    properties = schema.get("properties", {})
    return [f"/{name}" for name in properties] if isinstance(properties, Mapping) else []


def _places(expected: Any) -> list[str]:
    return [f"/{name}" for name in expected] if isinstance(expected, Mapping) else []
