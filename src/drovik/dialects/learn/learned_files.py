"""What was learned → a dialect's file, as TOML that a person can read and fix.

An endpoint and a model into a `drovik.toml`, by tomlkit: what is there stays as it is, comments too.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Item, Table

from drovik.dialects.learn.trees import Inference
from drovik.errors import Problem, ProjectError
from drovik.files import parse_toml, read_text, write_whole
from drovik.project.settings import FILE_NAME
from drovik.text import without_controls

_WIDTH = 100


def dialect_text(
    name: str, request: dict[str, Any], steps: Sequence[dict[str, Any]], names: dict[str, str],
    reply: dict[str, Any], taken: Sequence[Inference],
) -> str:  # fmt: skip
    """The text of a dialect's file; what is a guess is marked at its top."""
    document = tomlkit.document()
    document["note"] = f"Learned from a sample request of {name}."
    guesses = [one for one in taken if not one.sure]
    if guesses:
        document.add(tomlkit.nl())
        document.add(
            tomlkit.comment("Guesses, please check (drovik endpoint try says whether it works all the same):")
        )
        for one in guesses:
            words = " ".join(without_controls(f"{one.role}: {one.place} ({one.value}): {one.why}").split())
            document.add(tomlkit.comment(f"guess: {words}"))
    if steps:
        tables = tomlkit.aot()
        for step in steps:
            tables.append(_form(step))
        document["steps"] = tables
    document["request"] = _form(request)
    if names:
        document["names"] = _table(names)
    document["reply"] = _table({key: value for key, value in reply.items() if not _is_default(key, value)})
    return tomlkit.dumps(document).rstrip() + "\n"


def _is_default(key: str, value: Any) -> bool:
    return (key, value) in (("form", "json"), ("usage", "last"))


def _form(form: dict[str, Any]) -> Table:
    table = tomlkit.table()
    for key in ("name", "per", "method", "path", "headers", "query", "raw", "valid_for", "take", "until"):
        value = form.get(key)
        if value not in (None, {}, "") and not (key == "method" and value == "POST"):
            table[key] = _value(value)
    for key in ("body", "multipart", "form"):
        if form.get(key) is not None:
            table[key] = _json_text(form[key])
    table.add(tomlkit.nl())
    return table


def _json_text(tree: Any) -> Item:
    """A JSON value as a multi-line text of TOML; as a plain one where it holds what those cannot."""
    text = pretty(tree)
    if "'''" in text or any(ord(char) < 32 and char != "\n" for char in text) or "\x7f" in text or text.endswith("'"):
        return tomlkit.string(text)
    return tomlkit.string(f"{text}\n", literal=True, multiline=True)


def pretty(tree: Any, indent: int = 0) -> str:
    """JSON on as few lines as fit."""
    short = json.dumps(tree, ensure_ascii=False)
    if len(short) + indent <= _WIDTH or not isinstance(tree, dict | list) or not tree:
        return short
    inner = " " * (indent + 1)
    if isinstance(tree, dict):
        rows = [f"{json.dumps(key, ensure_ascii=False)}: {pretty(value, indent + 1)}" for key, value in tree.items()]
        return "{" + f",\n{inner}".join(rows) + "}"
    return "[" + f",\n{inner}".join(pretty(value, indent + 1) for value in tree) + "]"


def _value(value: Any) -> Item:
    """A value as TOML has it on one line: a table within a table too."""
    if isinstance(value, Mapping):
        inline = tomlkit.inline_table()
        for key, inner in value.items():
            inline[key] = _value(inner)
        return inline
    if isinstance(value, list | tuple):
        array = tomlkit.array()
        for inner in value:
            array.append(_value(inner))
        return array
    item: Item = tomlkit.item(value)
    return item


def add_endpoint(
    folder: Path,
    name: str,
    endpoint: Mapping[str, Any],
    model: str,
    model_table: Mapping[str, Any],
    only_new: bool = False,
) -> bool:
    """Put an endpoint and a model into a folder's drovik.toml, which is made where it is not there.

    Of an endpoint that is there already what was learned is set again, unless only new ones are
    wanted; a model is left as it is.

    :return: whether anything changed.
    :raises DrovikError: where the file cannot be read or written.
    """
    document, text = _document(folder)
    endpoints, models = _section(document, "endpoints"), _section(document, "models")
    if name not in endpoints:
        endpoints[name] = _table(endpoint)
    elif not only_new:
        there: Any = endpoints[name]
        for key in [*endpoint, "key_env"]:
            if key in endpoint:
                there[key] = endpoint[key]
            elif key in there:
                del there[key]
    if model not in models:
        models[model] = _table(model_table)
    return _changed(folder, document, text)


def free_model_name(folder: Path, endpoint: str, wanted: str) -> str:
    """What an endpoint's model may be called in a folder's drovik.toml: as wanted, unless that is another's model."""
    document, _ = _document(folder)
    models: Any = document.get("models", {})
    for name in (wanted, f"{endpoint}-{wanted}", *(f"{endpoint}-{wanted}-{number}" for number in range(2, 1000))):
        if name not in models or models[name].get("endpoint") == endpoint:
            return name
    raise ProjectError(
        Problem(f"there are too many models called '{wanted}'", "give another --model-name", FILE_NAME)
    )


def add_prep(folder: Path, name: str, prep: Mapping[str, Any]) -> bool:
    """Put a prep into a folder's drovik.toml, where it has none of that name, and it is not the only plain one.

    :return: whether anything changed.
    """
    document, text = _document(folder)
    if not prep and "preps" not in document:
        return False
    preps = _section(document, "preps")
    if name not in preps:
        preps[name] = _table(prep)
    return _changed(folder, document, text)


def _document(folder: Path) -> tuple[tomlkit.TOMLDocument, str]:
    path = folder / FILE_NAME
    try:
        text = read_text(path, FILE_NAME) if os.path.lexists(path) else ""
        parse_toml(text, FILE_NAME)
        return tomlkit.parse(text), text
    except TOMLKitError as error:
        raise ProjectError(Problem(f"cannot be read: {error}", "fix it first", FILE_NAME)) from None


def _changed(folder: Path, document: tomlkit.TOMLDocument, before: str) -> bool:
    text = tomlkit.dumps(document)
    if text != before:
        write_whole(folder / FILE_NAME, text)
    return text != before


def _section(document: tomlkit.TOMLDocument, name: str) -> Table:
    found = document.get(name)
    if found is None:
        document[name] = tomlkit.table(is_super_table=True)
    elif not isinstance(found, dict):
        raise ProjectError(Problem(f"'{name}' is not a table", f"write it as [{name}.NAME]", FILE_NAME))
    section: Table = document[name]
    return section


def _table(values: Mapping[str, Any]) -> Table:
    table = tomlkit.table()
    for key, value in values.items():
        table[key] = _value(value)
    return table
