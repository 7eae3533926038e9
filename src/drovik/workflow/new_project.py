"""A new project out of what is there: cases, a task with a schema and a measure, a first prompt."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib.resources import files
from itertools import takewhile
from pathlib import Path
from typing import Any

from drovik.dialects.learn.learned_files import add_endpoint
from drovik.errors import Problem, UsageError
from drovik.files import write_whole
from drovik.following import followed
from drovik.project.examples import ExampleCase, Examples, as_json_line
from drovik.project.schema_inference import infer_schema
from drovik.project.tasks import Task
from drovik.scoring.drafted_measure import drafted_measure
from drovik.workflow.project_start import require_free, start_project, write_toml
from drovik.workflow.saved_project import as_template, copy_services
from drovik.workflow.services import Services

_DIALECT = "dialects/plain.toml"
LONG = 60
"""Texts that are longer on average are texts to be read or described, and no values."""


@dataclass(frozen=True)
class NewProject:
    """What was written: the task, how many cases, what is still missing, in a line each."""

    task: str
    cases: int
    with_expected: int
    missing: tuple[str, ...]


def make_project(folder: Path, examples: Examples, services: Services, ask: str = "") -> NewProject:
    """Write a project that `drovik check` accepts.

    :param services: the user's own; where there are none, the stand-in's is put in, to try it with.
    :param ask: the question; empty: one is drafted.
    :raises UsageError: where a project is there already, or a file that would be written over.
    """
    if (folder / "drovik.toml").exists():
        raise UsageError(Problem("there is a project already", "name another folder", str(folder / "drovik.toml")))
    folder.mkdir(parents=True, exist_ok=True)
    values = [case.expected for case in examples.cases if case.expected is not None]
    task = _task_of(values)
    require_free(folder, f"tasks/{task}", *([] if services.settings.models else [_DIALECT]))
    addresses = sorted({one for case in examples.cases for one in case.pictures if isinstance(one, str)})
    start_project(folder, address_prefixes(addresses))
    if not copy_services(folder, services, services.settings.models):
        _stand_in_into(folder)
    _task_into(folder, task, values, ask)
    placed: dict[Path | str, str] = {}
    every = [one for case in examples.cases for one in case.pictures]
    for picture in followed("taking pictures in", every, len(every)):
        if picture not in placed:
            placed[picture] = picture if isinstance(picture, str) else placed_picture(folder, picture)
    lines = [as_json_line(_row(case, task, placed)) for case in examples.cases]
    write_whole(folder / "cases.jsonl", "".join(lines))
    missing = []
    if not services.settings.models:
        missing.append("a service: drovik endpoint learn NAME page.html; until then the project asks the stand-in")
    if addresses:
        missing.append("your word that pictures may be read from their addresses: drovik check --trust")
    without = len(examples.cases) - len(values)
    if without:
        missing.append(f"what is right of {without} cases: drovik review --fill {task}, once there are answers")
    if examples.missing:
        missing.append(f"pictures that the table names: {', '.join(examples.missing[:3])}")
    missing.append(f"your own words: read tasks/{task}/prompts/v1.toml")
    return NewProject(task, len(examples.cases), len(values), tuple(missing[:3]))


def address_prefixes(addresses: Sequence[str]) -> list[str]:
    """What addresses begin with: for each host the longest folder that all its addresses are in."""
    by_host: dict[str, list[str]] = {}
    for one in addresses:
        scheme, _, rest = one.partition("://")
        by_host.setdefault(f"{scheme}://{rest.partition('/')[0]}/", []).append(one)
    found = []
    for some in by_host.values():
        beside = zip(min(some).split("/")[:-1], max(some).split("/")[:-1], strict=False)
        found.append("".join(f"{one}/" for one, _ in takewhile(lambda pair: pair[0] == pair[1], beside)))
    return found


def _is_text(values: list[Any]) -> bool:
    return all(isinstance(one, str) for one in values)


def _plain_text(values: list[Any]) -> list[str]:
    """The one long text that each value is, bare or as its only member; empty where they are no such thing."""
    found = [next(iter(one.values())) if isinstance(one, dict) and len(one) == 1 else one for one in values]
    long = _is_text(found) and sum(map(len, found)) > LONG * len(found)
    return found if found and (long or _is_text(values)) else []


def _task_of(values: list[Any]) -> str:
    if not values:
        return "describe"
    if _plain_text(values):
        return "read"
    members = {name for one in values if isinstance(one, dict) for name in one}
    return "sort" if len(members) == 1 else "extract"


def _task_into(folder: Path, task: str, values: list[Any], ask: str) -> None:
    home = folder / "tasks" / task
    schema = None if not values or _plain_text(values) else infer_schema(values)
    table: dict[str, Any] = {"answer": {"form": "text"}}
    if schema is not None:
        table = {"answer": {"form": "json", "schema": "answer.schema.json"}}
        write_whole(home / "answer.schema.json", json.dumps(schema, ensure_ascii=False, indent=2) + "\n")
    write_toml(home / "question.toml", table)
    if values:
        expected = [_expected(one, task) for one in values]
        made = Task(task, "", "json" if schema else "text", schema, None, (), ())
        text = (home / "question.toml").read_text("utf-8").rstrip()
        note = "# Drafted from the examples: see drovik check."
        write_whole(home / "question.toml", f"{text}\n\n{note}\n{drafted_measure(made, expected)}\n")
    note = "As it was asked for." if ask else "A first draft, from the examples."
    prompt = {"note": note, "ask": ask or as_template(_ask(task, schema))}
    write_toml(home / "prompts" / "v1.toml", prompt)


def _ask(task: str, schema: Mapping[str, Any] | None) -> str:
    if schema is None:
        return "What is written in the picture?" if task == "read" else "What is to be seen in the picture?"
    names = ", ".join((schema.get("properties") or {}).keys()) or "the answer"
    lines = [f"Answer about the picture in JSON with: {names}."]
    for name, one in (schema.get("properties") or {}).items():
        if isinstance(one, dict) and isinstance(one.get("enum"), list):
            values = ["null" if value is None else str(value) for value in one["enum"]]
            lines.append(f"{name} is one of: {', '.join(values)}.")
        elif isinstance(one, dict) and one.get("description"):
            lines.append(f"{name} is written as {one['description']}.")
    return " ".join([*lines, "Answer with nothing but the JSON."])


def _row(case: ExampleCase, task: str, placed: Mapping[Path | str, str]) -> dict[str, Any]:
    row: dict[str, Any] = {"id": case.id, "images": [placed[one] for one in case.pictures]}
    if case.given:
        row["given"] = dict(case.given)
    if case.expected is not None:
        row["expected"] = {task: _expected(case.expected, task)}
    return row


def _expected(value: Any, task: str) -> Any:
    """A case's expected output: of a text to be read the bare text."""
    return next(iter(value.values())) if task == "read" and isinstance(value, dict) else value


def placed_picture(folder: Path, picture: Path) -> str:
    """A picture's path from the project: as it lies in there, else of a copy."""
    inside = os.path.relpath(picture.resolve(), folder.resolve())
    if not inside.startswith(".."):
        return inside.replace(os.sep, "/")
    home = folder / "pictures"
    home.mkdir(exist_ok=True)
    target, number = home / picture.name, 1
    while target.exists():
        number += 1
        target = home / f"{picture.stem}-{number}{picture.suffix}"
    try:
        os.link(picture.resolve(), target)  # on the same disk it takes no room
    except OSError:
        shutil.copyfile(picture, target)
    return f"pictures/{target.name}"


def _stand_in_into(folder: Path) -> None:
    """The stand-in's endpoint, with a model of its own, to try the project with."""
    demo = files("drovik.demo") / "project"
    write_whole(folder / _DIALECT, (demo / _DIALECT).read_text("utf-8"))
    if not (folder / ".env").exists():
        write_whole(folder / ".env", (demo / "dot-env").read_text("utf-8"))  # the stand-in's own key, no secret
    desk = {"url": "http://127.0.0.1:8765", "dialect": "plain", "key_env": "DESK_KEY"}
    add_endpoint(folder, "desk", desk, "fulmar", {"endpoint": "desk", "id": "fulmar-2"})
