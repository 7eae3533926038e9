"""What was learned → a dialect's file, as TOML that a person can read and fix.

An endpoint and a model into a `drovik.toml`, by tomlkit: what is there stays as it is, comments too.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
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
    text = tomlkit.dumps(document).rstrip() + "\n"
    return f"{text}\n{_MARK}{_digest(text)}\n"


_MARK = "# As learned; mark "
"""The last line of a dialect's file: the text's digest tells later whether somebody has changed it by hand."""


def _digest(text: str) -> str:
    return hashlib.blake2b(text.encode(), digest_size=6).hexdigest()


def changed_by_hand(text: str) -> bool:
    """Whether a dialect's text is another than the one that was written when it was learned."""
    own, mark, digest = text.rstrip("\n").rpartition(f"\n{_MARK}")
    return not mark or _digest(own) != digest


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


@dataclass(frozen=True)
class Change:
    """A place of a drovik.toml where something else stands than what was learned; None for nothing."""

    place: str
    before: Any
    after: Any

    def __str__(self) -> str:
        return f"{self.place}: {_shown(self.before)} → {_shown(self.after)}"


def _shown(value: Any) -> str:
    return "nothing" if value is None else json.dumps(value, ensure_ascii=False, default=str)


def add_endpoint(
    folder: Path, name: str, endpoint: Mapping[str, Any], model: str, model_table: Mapping[str, Any]
) -> bool:
    """Put an endpoint and a model into a folder's drovik.toml, where it has none of that name; it is made if need be.

    :return: whether anything changed.
    :raises DrovikError: where the file cannot be read or written.
    """
    document, text = _document(folder)
    for section, key, table in (("endpoints", name, endpoint), ("models", model, model_table)):
        there = _section(document, section)
        if key not in there:
            there[key] = _table(table)
    return _changed(folder, document, text)


def update_endpoint(
    folder: Path,
    name: str,
    endpoint: Mapping[str, Any],
    model: str,
    model_table: Mapping[str, Any],
    default: bool = False,
    takes: Callable[[list[Change]], bool] = lambda _: True,
) -> list[Change]:
    """Put what was learned into a folder's drovik.toml, over what was learned before.

    :param default: whether `ask` takes this model from now on.
    :param takes: is asked about settings of the model that are there with other values: whether they give way.
    :return: what changed of what stood there.
    :raises DrovikError: where the file cannot be read or written.
    """
    document, text = _document(folder)
    endpoints, models = _section(document, "endpoints"), _section(document, "models")
    changes = _differences(f"endpoints.{name}", endpoints.get(name), {**dict.fromkeys(("key_env",)), **endpoint})
    changes += _differences(
        f"models.{model}", models.get(model), {key: model_table[key] for key in ("endpoint", "id")}
    )
    own: Any = models.get(model) or {}
    differing = _differences(f"models.{model}.settings", own.get("settings"), model_table.get("settings") or {})
    kept = {one.place.rpartition(".")[2] for one in differing if one.before is not None}
    if kept and takes([one for one in differing if one.before is not None]):
        kept = set()
    changes += [one for one in differing if one.place.rpartition(".")[2] not in kept]
    _set(endpoints, name, {**dict.fromkeys(("key_env",)), **endpoint})
    settings = {key: value for key, value in (model_table.get("settings") or {}).items() if key not in kept}
    _set(models, model, {key: value for key, value in model_table.items() if key != "settings"})
    if settings:
        _set(models[model], "settings", settings)
    if default and document.get("ask") != model:
        changes.append(Change("ask", document.get("ask"), model))
        _put_first(document, "ask", model)
    _changed(folder, document, text)
    return changes


def _differences(place: str, there: Any, learned: Mapping[str, Any]) -> list[Change]:
    if there is None:
        return []
    return [
        Change(f"{place}.{key}", there.get(key), value) for key, value in learned.items() if there.get(key) != value
    ]


def _set(section: Any, name: str, values: Mapping[str, Any]) -> None:
    """Put values into a table, which is made if need be; None takes one away."""
    if name not in section:
        section[name] = _table({key: value for key, value in values.items() if value is not None})
        return
    for key, value in values.items():
        if value is None:
            section[name].pop(key, None)
        else:
            section[name][key] = _value(value)


def models_of(folder: Path) -> tuple[str | None, list[str]]:
    """The model that `ask` names in a folder's drovik.toml, and all that there are."""
    document, _ = _document(folder)
    return document.get("ask"), list(document.get("models", {}))


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


def _put_first(document: tomlkit.TOMLDocument, key: str, value: Any) -> None:
    """Set a value of the document itself, which has to come before its tables."""
    if key in document:
        document[key] = value
        return
    before = tomlkit.dumps(document)
    document.clear()
    for name, one in tomlkit.parse(f"{key} = {json.dumps(value)}\n{before}").items():
        document[name] = one


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
