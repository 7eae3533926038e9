"""An endpoint and a model into a `drovik.toml`, by tomlkit: what stands there stays as it is, comments too."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Table

from drovik.errors import Problem, ProjectError
from drovik.files import parse_toml, read_text
from drovik.project.settings import FILE_NAME
from drovik.project.writing import write_whole


def add_endpoint(
    folder: Path,
    name: str,
    endpoint: Mapping[str, Any],
    model: str,
    model_table: Mapping[str, Any],
    only_new: bool = False,
) -> bool:
    """Put an endpoint and a model into a folder's drovik.toml, which is made where it is not there.

    Of an endpoint that stands there already what was learned is set again, unless only new ones are
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
