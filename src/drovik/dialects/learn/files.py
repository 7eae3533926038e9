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
from tomlkit.items import Table

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
    lines = [f"note = {_text(f'Learned from a sample request of {name}.')}", ""]
    guesses = [one for one in taken if not one.sure]
    if guesses:
        lines += ["# Guesses, to be seen over (drovik endpoint try says whether it works all the same):"]
        lines += [f"# guess: {_one_line(f'{one.role}: {one.place} ({one.value}): {one.why}')}" for one in guesses]
        lines.append("")
    for step in steps:
        lines += ["[[steps]]", *_form(step, "steps"), ""]
    lines += ["[request]", *_form(request, "request"), ""]
    if names:
        lines += ["[names]", *(f"{side} = {_text(word)}" for side, word in names.items()), ""]
    lines += ["[reply]", *(f"{key} = {_value(value)}" for key, value in reply.items() if not _is_default(key, value))]
    return "\n".join(lines).rstrip() + "\n"


def _is_default(key: str, value: Any) -> bool:
    return (key, value) in (("form", "json"), ("usage", "last"))


def _form(form: dict[str, Any], head: str) -> list[str]:
    lines = []
    for key in ("name", "per", "method", "path", "headers", "query", "raw", "valid_for", "take", "until"):
        value = form.get(key)
        if value not in (None, {}, "") and not (key == "method" and value == "POST"):
            lines.append(f"{key} = {_value(value)}")
    for key in ("body", "multipart", "form"):
        if form.get(key) is not None:
            lines.append(f"{key} = {_json_text(form[key])}")
    return lines


def _json_text(tree: Any) -> str:
    """A JSON value as a multi-line text of TOML; as a plain one where it holds what those cannot."""
    text = pretty(tree)
    if "'''" in text or any(ord(char) < 32 and char != "\n" for char in text) or text.endswith("'"):
        return _text(text)
    return f"'''\n{text}\n'''"


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


def _value(value: Any) -> str:
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {_value(inner)}" for key, inner in value.items()) + " }"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(_value(inner) for inner in value) + "]"
    return json.dumps(value)


def _key(key: str) -> str:
    return key if key.replace("-", "").replace("_", "").isalnum() and key.isascii() else _text(key)


def _text(text: str) -> str:
    """A basic string of TOML: JSON's escapes are TOML's too, but for the delete character."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _one_line(text: str) -> str:
    return " ".join(without_controls(text).split())


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
        if isinstance(value, Mapping):
            inner = tomlkit.inline_table()
            inner.update(value)
            table[key] = inner
        else:
            table[key] = value
    return table
